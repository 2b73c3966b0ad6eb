"""The demo bench: made-up cards with made-up contents."""
