"""Keep: the crate as lanes along time."""
