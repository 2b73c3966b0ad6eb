"""Files in the order in which they stand on their volume, so that a slow source is read forwards."""

from __future__ import annotations

from collections.abc import Sequence

from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes.base import Entry, Kind, Volume


def in_order_of_place(volume: Volume, entries: Sequence[Entry]) -> list[Entry]:
    """Everything that is no file first, in its own order; then the files by their first byte."""
    files = [e for e in entries if e.kind == Kind.FILE]
    return [e for e in entries if e.kind != Kind.FILE] + sorted(files, key=lambda e: _place(volume, e))


def _place(volume: Volume, entry: Entry) -> int:
    try:
        extents = volume.extents_of(entry) if entry.size else []
    except (FormatError, MediumError):
        return 0                                            # what is wrong is said when it is read
    return extents[0].start if extents else 0
