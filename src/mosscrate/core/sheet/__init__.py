"""The job sheet: steps that decide once, planning them, and running them."""
