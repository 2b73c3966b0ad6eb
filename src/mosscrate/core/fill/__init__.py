"""Filling a card: what files are, what its firmware expects where, and what goes where."""
