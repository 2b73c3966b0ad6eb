"""ext2, ext3 and ext4: read, replay, check, make, fill, grow, shrink.

`filesystem` holds superblock and descriptors; `inodes`, `mapping` and `directory` read their part of the
disk; `volume` puts them together. `allocation` and `writer` hold changes until they are written;
`editing`, `making`, `growing` and `shrinking` are built on them. `journal` replays.
"""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes.base import Seat
from mosscrate.core.volumes.ext.checking import check
from mosscrate.core.volumes.ext.editing import ExtEditor
from mosscrate.core.volumes.ext.facts import FACTS
from mosscrate.core.volumes.ext.filesystem import open_filesystem, parse_superblock
from mosscrate.core.volumes.ext.growing import grow
from mosscrate.core.volumes.ext.growing import largest as largest_of
from mosscrate.core.volumes.ext.journal import replay
from mosscrate.core.volumes.ext.making import make
from mosscrate.core.volumes.ext.mending import mend
from mosscrate.core.volumes.ext.shrinking import shrink
from mosscrate.core.volumes.ext.shrinking import smallest as smallest_of
from mosscrate.core.volumes.ext.soundness import soundness
from mosscrate.core.volumes.ext.structures import (
    COMPAT,
    INCOMPAT,
    MAGIC,
    RO_COMPAT,
    SUPERBLOCK,
    SUPERBLOCK_AT,
    feature_names,
)
from mosscrate.core.volumes.ext.volume import ExtVolume, kind_of_features, open_ext

open_volume = open_ext

__all__ = ["FACTS", "ExtVolume", "check", "claimed_size", "declared", "edit", "grow", "kind_of", "largest",
           "largest_in_place", "make", "mend", "open_ext", "open_filesystem", "open_volume", "probe", "rebase",
           "replay", "shrink", "smallest", "soundness"]


def probe(first: bytes) -> bool:
    """Whether the superblock's magic stands where it should."""
    return first[SUPERBLOCK_AT + 56:SUPERBLOCK_AT + 58] == MAGIC.to_bytes(2, "little")


def kind_of(first: bytes) -> str:
    """ext2, ext3 or ext4, from the first bytes of a volume that `probe` knows."""
    try:
        sb = parse_superblock(first[SUPERBLOCK_AT:SUPERBLOCK_AT + SUPERBLOCK.itemsize], None)
    except FormatError:
        return "ext"
    names = feature_names(int(sb["feature_compat"]), COMPAT) | feature_names(int(sb["feature_incompat"]), INCOMPAT) \
        | feature_names(int(sb["feature_ro_compat"]), RO_COMPAT)
    return kind_of_features(frozenset(names))


def rebase(blocks: Blocks, seat: Seat) -> None:
    """An ext volume does not note where its partition starts."""


def edit(blocks: Blocks) -> ExtEditor:
    """An editor for a volume. Raises FormatError, FitError where its journal must be replayed first."""
    return ExtEditor(blocks)


def claimed_size(first: bytes) -> int:
    """Bytes that a volume says it has, by its first bytes. Raises FormatError."""
    sb = parse_superblock(first[SUPERBLOCK_AT:SUPERBLOCK_AT + SUPERBLOCK.itemsize], None)
    high = int(sb["blocks_count_hi"]) << 32 if int(sb["feature_incompat"]) & INCOMPAT["64bit"] else 0
    return (int(sb["blocks_count_lo"]) | high) * (1024 << int(sb["log_block_size"]))


def declared(blocks: Blocks) -> Iterator[Declared]:
    """The superblock."""
    yield Declared("Superblock", SUPERBLOCK, SUPERBLOCK_AT)


def largest(volume: ExtVolume) -> tuple[int, str]:
    """Bytes that it can be grown to in place, and what stands there."""
    return largest_of(volume.stored)


largest_in_place = largest


def smallest(volume: ExtVolume) -> tuple[int, str]:
    """Bytes that it can be shrunk to in place, and what stands there."""
    return smallest_of(volume.stored)
