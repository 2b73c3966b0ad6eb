"""OFS and FFS, the volumes of big-endian home computers: read, check, make, fill.

`structures` has the places of fields and the rules for names and hashes, `fields` where names and comments
stand; `volume` reads, `caching` keeps directory caches, `checking` finds faults, `making` formats, `editing`
changes files. The root stands in the middle: a volume of another size is
made anew, which the sheet does where its facts say so.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import SUMS, SUMS_NOT, Declared, Verdict
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.maps.rdb import bcpl, dos_type_name
from mosscrate.core.volumes.base import Resized, Seat
from mosscrate.core.volumes.ffs.checking import check
from mosscrate.core.volumes.ffs.editing import FfsEditor
from mosscrate.core.volumes.ffs.facts import FACTS
from mosscrate.core.volumes.ffs.making import make
from mosscrate.core.volumes.ffs.mending import mend
from mosscrate.core.volumes.ffs.soundness import soundness
from mosscrate.core.volumes.ffs.structures import (
    BOOT,
    LAST_TYPE,
    longs_of,
    protection_of,
    protection_text,
    root_dtype,
    root_place,
    sum_of,
)
from mosscrate.core.volumes.ffs.volume import FfsVolume, open_ffs
from mosscrate.core.watch import Watch

open_volume = open_ffs

__all__ = ["FACTS", "FfsEditor", "FfsVolume", "check", "claimed_size", "declared", "edit", "grow", "kind_of",
           "largest", "largest_in_place", "make", "mend", "open_ffs", "open_volume", "probe", "protection_of",
           "protection_text", "rebase", "shrink", "smallest", "soundness"]


def probe(first: bytes) -> bool:
    """Whether the boot block carries a DosType that is opened here: DOS and 0 to 7."""
    return len(first) > 3 and first[:3] == b"DOS" and first[3] <= LAST_TYPE


def kind_of(first: bytes) -> str:
    """ofs or ffs."""
    return "ffs" if first[3] & 1 else "ofs"


def edit(blocks: Blocks) -> FfsEditor:
    """An editor for a volume. Raises FormatError, FitError for a variant that is not written here."""
    return FfsEditor(blocks)


def grow(blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> Resized:
    """Not in place. Raises FitError."""
    raise FitError("An OFS or FFS volume keeps its root in the middle: it grows by being made anew in a longer "
                   "partition.")


def shrink(blocks: Blocks, size: int, watch: Watch) -> Resized:
    """Not in place. Raises FitError."""
    raise FitError("An OFS or FFS volume keeps its root in the middle: it shrinks by being made anew.")


def rebase(blocks: Blocks, seat: Seat) -> None:
    """Such a volume does not note where its partition starts."""


def claimed_size(first: bytes) -> int:
    """Such a volume does not say how long it is; 0."""
    return 0


def declared(blocks: Blocks) -> Iterator[Declared]:
    """The boot block, and the root where it is or should be. Raises MediumError."""
    root, block = root_place(blocks.size // 512), 512
    with suppress(FormatError):
        volume = open_ffs(blocks)
        root, block = volume.root, volume.block
    yield Declared("Boot block", BOOT, 0, {"dos_type": dos_type_name})
    yield Declared("Root block", root_dtype(block), root * block,
                   {"name": lambda raw: f"“{bcpl(raw)}”"}, _sums)


def _sums(block: bytes) -> Verdict:
    return SUMS_NOT if sum_of(longs_of(block)) else SUMS


def largest(volume: FfsVolume) -> tuple[int, str]:
    """Its root stands in the middle, so it grows by being made anew, to what its blocks can be numbered in."""
    return (2**31 - 1) * volume.block, "blocks are numbered in 31 bits"


def largest_in_place(volume: FfsVolume) -> tuple[int, str]:
    """Never without being made anew."""
    return 0, "its root stands in the middle"


def smallest(volume: FfsVolume) -> tuple[int, str]:
    """What its files need, with room for their tables."""
    used = int(volume.used.sum())
    return (used + used // 50 + 64) * volume.block, "its files need that room"
