"""HFS, read only: recognised, its tree shown, files taken out, the volume copied exactly."""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.base import Editor, Making, Resized, Seat, Tree
from mosscrate.core.volumes.hfs.facts import FACTS, READ_ONLY
from mosscrate.core.volumes.hfs.structures import MDB, MDB_AT, SIGNATURE
from mosscrate.core.volumes.hfs.volume import HfsVolume, open_hfs
from mosscrate.core.volumes.soundness import Soundness
from mosscrate.core.watch import Watch

open_volume = open_hfs

__all__ = ["FACTS", "HfsVolume", "check", "claimed_size", "declared", "edit", "grow", "kind_of", "largest",
           "largest_in_place", "make", "mend", "open_hfs", "open_volume", "probe", "rebase", "shrink", "smallest",
           "soundness"]


def probe(first: bytes) -> bool:
    """Whether a master directory block stands where it should, and is not the shell of a later kind."""
    return first[MDB_AT:MDB_AT + 2] == SIGNATURE and first[MDB_AT + 124:MDB_AT + 126] != b"H+"


def kind_of(first: bytes) -> str:
    """hfs."""
    return "hfs"


def edit(blocks: Blocks) -> Editor:
    """Not written here. Raises FitError."""
    raise FitError(READ_ONLY)


def make(blocks: Blocks, making: Making) -> None:
    """Not made here. Raises FitError."""
    raise FitError(READ_ONLY)


def grow(blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> Resized:
    """Not resized here. Raises FitError."""
    raise FitError(READ_ONLY)


def shrink(blocks: Blocks, size: int, watch: Watch) -> Resized:
    """Not resized here. Raises FitError."""
    raise FitError(READ_ONLY)


def rebase(blocks: Blocks, seat: Seat) -> None:
    """Such a volume does not note where its partition starts."""


def mend(blocks: Blocks) -> str:
    """Not written here. Raises FitError."""
    raise FitError(READ_ONLY)


def claimed_size(first: bytes) -> int:
    """Such a volume does not say how long it is; 0."""
    return 0


def declared(blocks: Blocks) -> Iterator[Declared]:
    """The master directory block."""
    yield Declared("Master directory block", MDB, MDB_AT, {"name": lambda raw: raw[1:1 + raw[0]].decode("mac_roman")})


def largest(volume: HfsVolume) -> tuple[int, str]:
    """It is only read."""
    return 0, "volumes of this kind are only read here"


largest_in_place = smallest = largest


def soundness(volume: HfsVolume, tree: Tree) -> Soundness:
    """Nothing is said of it: such volumes are only read here."""
    return Soundness()


def check(volume: HfsVolume) -> tuple[Finding, ...]:
    """What can be seen from the catalog."""
    found = list(volume.tree().findings)
    forks = sum(1 for r in volume.records if r.resource.length)
    if forks:
        found.append(Finding(Severity.NOTE, f"Beside {counted(forks, 'file')} of this volume stands a "
                             "resource fork, which is not taken out with the data.",
                             remedy="An exact copy of the volume keeps them."))
    if not volume.is_clean:
        found.append(Finding(Severity.NOTE, "The volume was not put away properly the last time."))
    return tuple(found)
