"""What is true of HFS, which is only read here."""

from __future__ import annotations

from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind
from mosscrate.core.volumes.facts import Facts

READ_ONLY = "An HFS volume is only read here: its files can be taken out, and it can be copied exactly."


def label_of(label: str) -> str:
    """It is not written. Raises FitError."""
    raise FitError(READ_ONLY)


FACTS = (Facts("hfs", "HFS", "hfs", lambda _name: "volumes of this kind are only read here", label_of, longest_name=31,
               largest_file=2**31 - 1, is_written=False, home=MapKind.APPLE),)
