"""The FAT as an array: decoding, encoding, and chains as runs of neighbouring clusters.

Whatever its width on disk, a table is `uint32` of shape (cluster_count + 2,) here: 0 is free, END
closes a chain, BAD marks a cluster that must not be used, everything else is the next cluster.
Source: "FAT: General Overview of On-Disk Format" 1.03, §4.
"""

from __future__ import annotations

from typing import Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes.fat.structures import FatType, Geometry

Table: TypeAlias = NDArray[np.uint32]
FREE, BAD, END = 0, 0x0FFFFFF7, 0x0FFFFFFF
_FIRST_RESERVED = {FatType.FAT12: 0xFF7, FatType.FAT16: 0xFFF7, FatType.FAT32: BAD}


def read_table(blocks: Blocks, geometry: Geometry, copy: int) -> Table:
    """One copy of the FAT. Raises MediumError."""
    entries = geometry.cluster_count + 2
    length = min(-(-(entries * geometry.type) // 8), geometry.fat_sectors * geometry.sector)
    return decode(blocks.read(geometry.fat_offset(copy), length), geometry.type, entries)


def decode(data: bytes, type: FatType, entries: int) -> Table:
    """Bytes of a FAT as a table; the first two entries are masked but not interpreted."""
    if type == FatType.FAT32:
        table = np.frombuffer(data, "<u4", count=entries) & np.uint32(0x0FFFFFFF)
    elif type == FatType.FAT16:
        table = np.frombuffer(data, "<u2", count=entries).astype(np.uint32)
    else:
        padded = np.frombuffer(data + bytes(-len(data) % 3 + 3), np.uint8).astype(np.uint32)
        a, b, c = padded[:len(padded) // 3 * 3].reshape(-1, 3).T
        table = np.stack((a | (b & 15) << 8, b >> 4 | c << 4), axis=1).reshape(-1)[:entries]
    if type != FatType.FAT32:
        bad = _FIRST_RESERVED[type]
        table = np.where(table == bad, np.uint32(BAD), np.where(table > bad, np.uint32(END), table))
    else:
        table = np.where(table > BAD, np.uint32(END), table)
    return table.astype(np.uint32, copy=False)


def wrong_links(table: Table) -> int:
    """How many entries of a table lead out of it, or to a cluster that is free."""
    links = table[2:][(table[2:] != FREE) & (table[2:] < BAD)]
    inside = links[(links >= 2) & (links < len(table))]
    return len(links) - len(inside) + int(np.count_nonzero(table[inside] == FREE))


def encode(table: Table, type: FatType, *, head: tuple[int, int] | None) -> bytes:
    """Undo `decode`. `head` are the raw first two entries (media byte and flags); None for a later stretch."""
    mask = (1 << min(int(type), 28)) - 1
    wide = table & np.uint32(mask)
    if head is not None:
        wide[:2] = head
    if type == FatType.FAT32:
        return wide.astype("<u4").tobytes()
    if type == FatType.FAT16:
        return wide.astype("<u2").tobytes()
    pairs = np.append(wide, np.zeros(len(wide) % 2, np.uint32)).reshape(-1, 2)
    triples = np.stack((pairs[:, 0], pairs[:, 0] >> 8 | pairs[:, 1] << 4, pairs[:, 1] >> 4), axis=1)
    packed: bytes = triples.astype(np.uint8).tobytes()
    return packed[:-(-len(wide) * 3 // 2)]


def head_of(blocks: Blocks, geometry: Geometry, copy: int = 0) -> tuple[int, int]:
    """The raw first two entries of a FAT: media byte and the flags of a clean ending."""
    first = int.from_bytes(blocks.read(geometry.fat_offset(copy), 8), "little")
    width = int(geometry.type)
    return first & (1 << width) - 1, first >> width & (1 << width) - 1


class Clustered(Protocol):
    """What following a chain wants to know of a volume."""

    @property
    def cluster(self) -> int:
        """Bytes in a cluster."""

    @property
    def type(self) -> int:
        """Bits of a FAT entry."""

    def fat_offset(self, copy: int) -> int:
        """Byte at which a copy of the FAT starts."""

    def cluster_offset(self, cluster: int) -> int:
        """Byte at which a cluster starts."""


class Chains:
    """Follows chains through a table a run at a time."""

    def __init__(self, table: Table, geometry: Clustered) -> None:
        self.table, self.geometry = table, geometry
        following = np.arange(1, len(table) + 1, dtype=np.uint32)
        linked = table == following                       # this cluster is followed by its neighbour
        entered = np.zeros(len(table), bool)
        entered[1:] = linked[:-1]
        # A run ends where it is not linked on; a free cluster ends one only if a chain runs into it.
        self.ends = np.flatnonzero(~linked & ((table != FREE) | entered))

    def runs(self, first: int, limit: int | None = None) -> tuple[tuple[int, int], ...]:
        """(first cluster, count) of each run of a chain.

        Args:
            first: cluster; 0 is the empty chain.
            limit: clusters after which to stop; None follows to the end.

        Raises:
            FormatError: the chain leaves the volume, runs into free clusters or into itself.
        """
        found: list[tuple[int, int]] = []
        total, at = 0, first
        while at != END and first != 0:
            if not 2 <= at < len(self.table) or self.table[at] == FREE or self.table[at] == BAD:
                raise self._error(first, at, "a cluster in use")
            end = int(self.ends[np.searchsorted(self.ends, at)]) if len(self.ends) else at
            count = end - at + 1
            total += count
            if total > len(self.table):
                raise self._error(first, at, "a chain that ends")
            found.append((at, count))
            if limit is not None and total >= limit:
                break
            if self.table[end] == FREE or self.table[end] == BAD:
                raise self._error(first, end, "a cluster in use")
            at = int(self.table[end])
        return tuple(found)

    def extents(self, first: int, size: int | None = None) -> tuple[Extent, ...]:
        """The bytes of a chain on the volume, cut to `size` bytes when that is given."""
        unit = self.geometry.cluster
        limit = None if size is None else max(1, -(-size // unit))
        found, left = [], size
        for cluster, count in self.runs(first, limit):
            length = count * unit if left is None else min(count * unit, left)
            found.append(Extent(self.geometry.cluster_offset(cluster), length))
            left = None if left is None else left - length
        return tuple(found)

    def _error(self, first: int, at: int, expected: str) -> FormatError:
        offset = self.geometry.fat_offset(0) + at * int(self.geometry.type) // 8
        return FormatError("FAT", f"chain from cluster {first}", offset, f"cluster {at}", expected)


def owners(table: Table, heads: NDArray[np.int64]) -> NDArray[np.int32]:
    """How many of the chains that start at `heads` hold each cluster. Shape (clusters + 2,).

    Chains are cut into runs that are entered at their start only; who reaches a run is then found
    by counting entries over the graph of runs, so loops and shared tails cost nothing extra.
    """
    n = len(table)
    heads = heads[(heads >= 2) & (heads < n)]
    used = (table != FREE) & (table != BAD)
    used[:2] = False
    linked = used & (table == np.arange(1, n + 1, dtype=np.uint32))
    linked[-1] = False
    starts_here = used.copy()
    starts_here[1:] &= ~linked[:-1]
    jumps = table[used & ~linked]
    starts_here[jumps[(jumps >= 2) & (jumps < n)]] = True
    starts_here[heads] = True
    starts_here &= used
    starts = np.flatnonzero(starts_here)
    if len(starts) == 0:
        return np.zeros(n, np.int32)
    run_of = np.cumsum(starts_here) - 1                      # of a used cluster
    boundary = np.append(starts[1:], n)
    used_before = np.concatenate(([0], np.cumsum(used)))
    lengths = used_before[boundary] - used_before[starts]    # clusters between starts are used or free
    last = starts + lengths - 1
    link = table[last].astype(np.int64)
    inside = (link >= 2) & (link < n)
    target = np.where(inside & used[np.where(inside, link, 0)], run_of[np.where(inside, link, 0)], -1)
    count = np.zeros(len(starts), np.int64)
    live = heads[used[heads]]
    np.add.at(count, run_of[live], 1)
    reach = count.copy()
    jump = target.copy()
    for _ in range(max(1, len(starts).bit_length())):    # pointer doubling: every tail in log steps
        going = jump >= 0
        if not going.any():
            break
        more = np.zeros_like(reach)
        np.add.at(more, jump[going], np.minimum(reach[going], 2))
        reach = np.minimum(reach + more, 4)
        jump = np.where(going, jump[np.where(going, jump, 0)], -1)
    result = np.zeros(n, np.int32)
    result[used] = reach[run_of[used]]
    return result
