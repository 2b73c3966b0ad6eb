"""Parts that several stations use: the core view, cards, panels, plots, background work."""
