"""Steps that change a partition map, and what lies on the partitions they make."""
