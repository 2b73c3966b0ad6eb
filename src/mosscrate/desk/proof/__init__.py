"""Proof: a card as a core, and beside it its log along the depth; what was asked of it, and the verdict."""
