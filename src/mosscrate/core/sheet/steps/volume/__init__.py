"""Steps that change a volume and its partition."""
