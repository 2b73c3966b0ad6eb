"""Pictures of games: scaled to what a plan wants, from folders, or from a picture server that a person names."""
