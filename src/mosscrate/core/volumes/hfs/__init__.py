"""HFS, read only: recognised, its tree shown, files taken out, the volume copied exactly."""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError
from mosscrate.core.volumes.base import Editor, Making, Resized
from mosscrate.core.volumes.hfs.facts import FACTS, READ_ONLY
from mosscrate.core.volumes.hfs.structures import MDB, MDB_AT, SIGNATURE
from mosscrate.core.volumes.hfs.volume import HfsVolume, open_hfs
from mosscrate.core.watch import Watch

open_volume = open_hfs

__all__ = ["FACTS", "HfsVolume", "claimed_size", "declared", "edit", "grow", "kind_of", "make", "mend",
           "open_hfs", "open_volume", "probe", "rebase", "shrink"]


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


def rebase(blocks: Blocks, first_sector: int) -> None:
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
