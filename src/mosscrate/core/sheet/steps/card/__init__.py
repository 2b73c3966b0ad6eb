"""Steps that take a card as a whole: kept, written, emptied, compared, let go of."""
