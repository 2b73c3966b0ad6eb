"""Look: what is at hand, and what is on it."""
