"""Partition maps: which stretch of a medium is which partition.

Each format is one module with a `MapFormat`; `formats` lists them, `edits` changes maps as pure functions.
A medium without a map is normal: then the whole of it is partition 0.
"""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.maps import formats
from mosscrate.core.maps.base import (
    Environment,
    MapKind,
    Partition,
    PartitionMap,
    Room,
    unallocated,
    without_map,
)
from mosscrate.core.maps.format import MapFormat
from mosscrate.core.maps.formats import can_be_arranged, kinds, map_format, written_kinds

__all__ = [
    "Environment",
    "MapFormat",
    "MapKind",
    "Partition",
    "PartitionMap",
    "Room",
    "can_be_arranged",
    "declared",
    "is_a_map",
    "kinds",
    "map_format",
    "read_map",
    "unallocated",
    "without_map",
    "write_map",
    "written_kinds",
]


def read_map(blocks: Blocks) -> PartitionMap:
    """The map of a medium, or the map that says there is none. Raises FormatError, MediumError."""
    first = blocks.read(0, min(blocks.size, 64 << 10))
    for format in formats.FORMATS:                       # the first that knows its own reads it
        if format.probe(first):
            return format.read(blocks)
    return without_map(blocks.size, blocks.sector)


def is_a_map(first: bytes) -> bool:
    """Whether the first 64 KiB of a medium carry a map of any kind."""
    return any(format.probe(first) for format in formats.FORMATS)


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """The structures that a map stands on. Raises FormatError, MediumError."""
    return map_format(map.kind).declared(blocks, map)


def write_map(blocks: Blocks, map: PartitionMap) -> None:
    """Write a changed map where it was read. Raises FitError, MediumError; a medium without one is left alone."""
    if map.kind != MapKind.NONE:
        map_format(map.kind).write(blocks, map)
