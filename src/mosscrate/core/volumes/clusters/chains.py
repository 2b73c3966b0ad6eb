"""Chains of clusters as runs of neighbours."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes.clusters.table import BAD, END, FREE, STRETCH, Clustered, Table, stretches


class Chains:
    """Follows chains through a table a run at a time."""

    def __init__(self, table: Table, geometry: Clustered) -> None:
        self.table, self.geometry = table, geometry
        self.ends = _ends(table)

    def runs(self, first: int, limit: int | None = None) -> tuple[tuple[int, int], ...]:
        """(first cluster, count) of each run of a chain.

        Args:
            first: cluster; 0 is the empty chain.
            limit: clusters after which to stop; None follows to the end.

        Raises:
            FormatError: the chain leaves the volume, runs into free clusters or into itself.
        """
        found, total = list[tuple[int, int]](), 0
        for at, count in self.followed(first):
            found.append((at, count))
            total += count
            if limit is not None and total >= limit:
                break
        return tuple(found)

    def followed(self, first: int) -> Iterator[tuple[int, int]]:
        """The same one by one, up to where FormatError is raised."""
        total, at = 0, first
        while at != END and first != 0:
            if not 2 <= at < len(self.table) or self.table[at] == FREE or self.table[at] == BAD:
                raise self._error(first, at, "a cluster in use")
            end = int(self.ends[np.searchsorted(self.ends, at)]) if len(self.ends) else at
            count = end - at + 1
            total += count
            if total > len(self.table):
                raise self._error(first, at, "a chain that ends")
            yield at, count
            if self.table[end] == FREE or self.table[end] == BAD:
                raise self._error(first, end, "a cluster in use")
            at = int(self.table[end])

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


def _ends(table: Table) -> NDArray[np.int64]:
    """Where runs end: at clusters that do not lead on to their neighbour, and at free ones that a run leads into."""
    following = np.arange(1, STRETCH + 1, dtype=np.uint32)
    found, before = [np.zeros(0, np.int64)], 0
    for first, part in stretches(table):
        if 0 < before < first and table[before - 1] == before:
            found.append(np.array([before]))              # it is free: a stretch without a link was passed over
        linked = part - np.uint32(first) == following[:len(part)]
        before = first + len(part)
        linked[-1] &= before < len(table)
        entered = np.append(first > 0 and table[first - 1] == first, linked[:-1])
        found.append(np.flatnonzero(~linked & ((part != FREE) | entered)) + first)
    if 0 < before < len(table) and table[before - 1] == before:
        found.append(np.array([before]))
    return np.concatenate(found)
