"""What is true of FAT12, FAT16 and FAT32, and of GEMDOS's own ways with them."""

from __future__ import annotations

from dataclasses import replace

from mosscrate.core.maps import MapKind
from mosscrate.core.volumes.facts import Facts
from mosscrate.core.volumes.fat import names
from mosscrate.core.volumes.fat.structures import LARGEST_GEMDOS, LEAST_GEMDOS, MAX_CLUSTERS, MAX_DIRECTORY, FatType

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


def _fat(bits: int, most: int, *, is_mostly_room: bool = False) -> Facts:
    return Facts(f"fat{bits}", f"FAT{bits}", "fat", names.why_not, label_of, largest_file=LARGEST_FILE,
                 blocks=CLUSTERS, unit="clusters", most=most, is_mostly_room=is_mostly_room, is_known_swapped=True,
                 entry_bytes=entry_bytes, largest_folder=MAX_DIRECTORY)


_GEMDOS = Facts("gemdos", "GEMDOS", "fat", why_not_short, label_of, shows="fat16", longest_name=12,
                largest_file=LARGEST_FILE, unit="clusters", home=MapKind.AHDI, entry_bytes=entry_bytes,
                largest_folder=MAX_DIRECTORY,
                folded=str.upper, stands_as=str.upper, least=LEAST_GEMDOS, most=LARGEST_GEMDOS)
FACTS = (_fat(32, 2 << 40, is_mostly_room=True), _fat(16, 2 << 30), _fat(12, 128 << 20), _GEMDOS,
         replace(_GEMDOS, kind="gemdos-floppy", shows="fat12", home=MapKind.NONE, least=0),
         replace(_GEMDOS, kind="gemdos-small", made_as="gemdos", is_written=False, misread=(
             f"with fewer than {MAX_CLUSTERS[FatType.FAT12] + 1} clusters its own machine reads the table in 16 bits, "
             "all others in 12")))
