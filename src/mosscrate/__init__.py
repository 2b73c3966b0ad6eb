"""Moss Crate: one bench for the storage of handhelds, vintage computers and arcade boards.

`core` does the work without a window; `cli` and `desk` are two ways to ask for it.
"""

__version__ = "0.9.0"
