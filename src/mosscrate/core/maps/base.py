"""A partition map as read: immutable, partitions in the order of the map, bytes throughout."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from mosscrate.core.blocks import Extent
from mosscrate.core.findings import Finding


class MapKind(StrEnum):
    """The families of maps."""

    MBR = "mbr"
    GPT = "gpt"
    RDB = "rdb"
    AHDI = "ahdi"
    APPLE = "apple"
    NONE = "none"


@dataclass(frozen=True)
class Partition:
    """One partition. `index` counts from 1 (0: a medium without a map); sizes in bytes."""

    index: int
    start: int
    length: int
    type: str = ""
    type_name: str = ""
    label: str = ""
    flags: tuple[str, ...] = ()

    @property
    def end(self) -> int:
        """The first byte behind it."""
        return self.start + self.length


@dataclass(frozen=True)
class PartitionMap:
    """What the map says, `origin` being the bytes it was read from (unmodelled ones survive)."""

    kind: MapKind
    id: str
    partitions: tuple[Partition, ...]
    sector: int = 512
    findings: tuple[Finding, ...] = ()
    origin: bytes = b""

    def partition(self, index: int) -> Partition:
        """The partition of that number. Raises KeyError."""
        return next(p for p in self.partitions if p.index == index)


def without_map(size: int, sector: int) -> PartitionMap:
    """The map of a medium that has none: partition 0 is all of it."""
    return PartitionMap(MapKind.NONE, "", (Partition(0, 0, size),), sector)


def unallocated(partitions: tuple[Partition, ...], size: int, *, first: int = 512) -> tuple[Extent, ...]:
    """The stretches of at least 64 KiB that belong to no partition, in order.

    Args:
        partitions: of the map.
        size: of the medium in bytes.
        first: bytes at the start that the map itself takes.
    """
    gaps, at = [], first
    for p in sorted(partitions, key=lambda p: p.start):
        if p.start - at >= 64 << 10:
            gaps.append(Extent(at, p.start - at))
        at = max(at, p.end)
    if size - at >= 64 << 10:
        gaps.append(Extent(at, size - at))
    return tuple(gaps)
