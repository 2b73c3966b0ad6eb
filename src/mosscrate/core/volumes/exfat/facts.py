"""What is true of exFAT."""

from __future__ import annotations

from mosscrate.core.volumes.exfat import names
from mosscrate.core.volumes.exfat.making import label_entry
from mosscrate.core.volumes.facts import Facts


def label_of(label: str) -> str:
    """As it is. Raises FitError."""
    label_entry(label)
    return label


def entry_bytes(name: str) -> int:
    """Two entries, and one more for each 15 characters."""
    return 32 * (2 + -(-len(name.encode("utf-16-le", "surrogatepass")) // 30))


FACTS = (Facts("exfat", "exFAT", "exfat", names.why_not, label_of, blocks=tuple(512 << k for k in range(17)),
               unit="clusters", is_mostly_room=True, is_known_swapped=True, entry_bytes=entry_bytes),)
