"""What is true of FAT12, FAT16 and FAT32, and of GEMDOS's own ways with them."""

from __future__ import annotations

from mosscrate.core.maps import MapKind
from mosscrate.core.volumes.facts import Facts
from mosscrate.core.volumes.fat import names

LARGEST_FILE = 2**32 - 1
CLUSTERS = tuple(512 << k for k in range(8))


def label_of(label: str) -> str:
    """In capitals, as the root holds it. Raises FitError."""
    return names.short_label(names.as_label(label)) if label else ""


def entry_bytes(name: str) -> int:
    """One entry, and one more for each 13 characters of a long name."""
    return 32 * (1 + -(-len(name.encode("utf-16-le", "replace")) // 26))


def why_not_short(name: str) -> str:
    """Why a name cannot stand on a GEMDOS volume; "" when it can."""
    if names.as_short(name.upper()) is None:
        return "names have eight characters and three behind the dot here"
    return names.why_not(name)


def _fat(bits: int, *, is_mostly_room: bool = False) -> Facts:
    return Facts(f"fat{bits}", f"FAT{bits}", "fat", names.why_not, label_of, largest_file=LARGEST_FILE,
                 blocks=CLUSTERS, unit="clusters", is_mostly_room=is_mostly_room, is_known_swapped=True,
                 entry_bytes=entry_bytes)


def _gemdos(kind: str, shows: str, home: MapKind) -> Facts:
    return Facts(kind, "GEMDOS", "fat", why_not_short, label_of, shows=shows, longest_name=12,
                 largest_file=LARGEST_FILE, unit="clusters", home=home, entry_bytes=entry_bytes,
                 folded=str.upper, stands_as=str.upper)


FACTS = (_fat(32, is_mostly_room=True), _fat(16), _fat(12), _gemdos("gemdos", "fat16", MapKind.AHDI),
         _gemdos("gemdos-floppy", "fat12", MapKind.NONE))
