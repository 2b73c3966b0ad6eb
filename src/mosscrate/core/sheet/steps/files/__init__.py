"""Steps that change files on a volume."""
