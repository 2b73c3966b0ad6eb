"""Which steps a sheet should have, and what they will do: nothing here writes to a medium."""
