"""A partition map as read: immutable, partitions in the order of the map, bytes throughout."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from mosscrate.core.blocks import Extent
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding


class MapKind(str):
    """A family of maps, by its short name; a format has its own, these are known by name elsewhere too."""

    __slots__ = ()
    MBR: ClassVar[MapKind]
    GPT: ClassVar[MapKind]
    RDB: ClassVar[MapKind]
    AHDI: ClassVar[MapKind]
    APPLE: ClassVar[MapKind]
    NONE: ClassVar[MapKind]


MapKind.MBR, MapKind.GPT, MapKind.RDB = MapKind("mbr"), MapKind("gpt"), MapKind("rdb")
MapKind.AHDI, MapKind.APPLE, MapKind.NONE = MapKind("ahdi"), MapKind("apple"), MapKind("none")


@dataclass(frozen=True)
class Environment:
    """How the drivers of a big-endian home computer take a partition of an RDB.

    Attributes:
        boot_priority: -128 to 127; the highest of the bootable partitions starts the machine.
        mask: addresses that the controller can reach directly.
        max_transfer: bytes of the largest transfer that the drive bears.
        buffers: blocks that the file system holds in memory.
        block: bytes of a block of the file system.
        sector: bytes of the sectors that the partition's cylinders are counted in.
    """

    boot_priority: int = 0
    mask: int = 0x7FFFFFFE
    max_transfer: int = 0x1FE00
    buffers: int = 30
    block: int = 512
    sector: int = 512


@dataclass(frozen=True)
class Partition:
    """One partition; sizes in bytes.

    Attributes:
        index: counts from 1; 0 is a medium without a map.
        type: as the map stores it: "0x0c" in an MBR, a GUID in a GPT.
        flags: "active", "hidden" and whatever else the map knows.
        id: of the partition itself, where the map gives it one.
        record: byte at which the record of a logical drive lies; 0 for none, or for "find a place".
        environment: of an RDB.
    """

    index: int
    start: int
    length: int
    type: str = ""
    type_name: str = ""
    label: str = ""
    flags: tuple[str, ...] = ()
    id: str = ""
    record: int = 0
    environment: Environment | None = None

    @property
    def end(self) -> int:
        """The first byte behind it."""
        return self.start + self.length


@dataclass(frozen=True)
class PartitionMap:
    """What the map says.

    Attributes:
        id: disk signature or GUID.
        origin: the bytes it was read from, so that unmodelled ones survive.
        heads, sectors: of a track, in which a BIOS counts; 0 for maps that do not say.
        span: bytes of the medium that the map counts with; 0 where it does not say.
    """

    kind: MapKind
    id: str
    partitions: tuple[Partition, ...]
    sector: int = 512
    findings: tuple[Finding, ...] = ()
    origin: bytes = b""
    span: int = 0
    heads: int = 0
    sectors: int = 0

    def partition(self, index: int) -> Partition:
        """The partition of that number. Raises FitError."""
        found = next((p for p in self.partitions if p.index == index), None)
        if found is None:
            raise FitError(f"There is no partition {index} on this medium.")
        return found


@dataclass(frozen=True)
class Room:
    """What a map leaves for partitions: bytes from `first` up to `end`, on a grid of `unit` bytes."""

    first: int
    end: int
    unit: int


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
