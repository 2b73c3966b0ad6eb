"""Fill: what is brought in, where it goes on the card, and what needs a word."""
