"""Partition maps: which stretch of a medium is which partition.

Each format is one module with `probe`, `read` and, where it can be written, `build`.
A medium without a map is normal: then the whole of it is partition 0.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError
from mosscrate.core.maps import ahdi, apple, foreign, gpt, mbr, rdb, rdb_code
from mosscrate.core.maps.base import (
    WRITTEN,
    Environment,
    MapKind,
    Partition,
    PartitionMap,
    Room,
    unallocated,
    without_map,
)


class MapFormat(Protocol):
    """What a module for a map offers."""

    def probe(self, first: bytes) -> bool:
        """Whether the first 64 KiB of a medium carry this map."""

    def read(self, blocks: Blocks) -> PartitionMap:
        """The map. Raises FormatError, MediumError."""


FORMATS: tuple[MapFormat, ...] = (rdb, apple, foreign, gpt, mbr, ahdi)     # the first that knows its own reads it

__all__ = ["FORMATS", "WRITTEN", "Environment", "MapKind", "Partition", "PartitionMap", "Room", "can_be_arranged",
           "declared",            "read_map", "unallocated", "without_map", "write_map"]


def read_map(blocks: Blocks) -> PartitionMap:
    """The map of a medium, or the map that says there is none. Raises FormatError, MediumError."""
    first = blocks.read(0, min(blocks.size, 64 << 10))
    for module in FORMATS:
        if module.probe(first):
            return module.read(blocks)
    return without_map(blocks.size, blocks.sector)


def can_be_arranged(map: PartitionMap) -> bool:
    """Whether a map can be changed here: one of a written kind, of which what only it knows was read."""
    return map.kind in WRITTEN and (map.kind != MapKind.RDB or bool(map.origin))


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """The structures that a map stands on. Raises FormatError, MediumError."""
    match map.kind:
        case MapKind.MBR:
            yield from mbr.declared(blocks, map)
        case MapKind.GPT:
            yield from gpt.declared(blocks, map)
        case MapKind.RDB:
            yield from rdb_code.declared(blocks, map)
        case MapKind.AHDI:
            yield from ahdi.declared(blocks, map)
        case MapKind.APPLE:
            yield from apple.declared(blocks, map)


def write_map(blocks: Blocks, map: PartitionMap) -> None:
    """Write a changed map where it was read. Raises FitError, MediumError; a medium without one is left alone."""
    match map.kind:
        case MapKind.MBR:
            mbr.write(blocks, map)
        case MapKind.GPT:
            gpt.write(blocks, map)
        case MapKind.AHDI:
            ahdi.write(blocks, map)
        case MapKind.RDB:
            rdb_code.write(blocks, map)                      # first: the RDSK leads to it
            rdb.write(blocks, map)
        case MapKind.NONE:
            pass
        case _:
            raise FitError(f"A map of the kind {map.kind} cannot be written here yet.")
