"""A FAT as an array, whatever its width on disk and whichever of the two kinds keeps it.

A table is `uint32` of shape (cluster_count + 2,): 0 is free, END closes a chain, BAD marks a cluster that
must not be used, everything else is the next cluster.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

Table: TypeAlias = NDArray[np.uint32]
FREE, BAD, END = 0, 0x0FFFFFF7, 0x0FFFFFFF
STRETCH = 1 << 16                      # entries looked at together: a large card has tens of millions, most free


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


def stretches(table: Table) -> Iterator[tuple[int, Table]]:
    """(first entry, entries) of every stretch in which something is not free."""
    for first in range(0, len(table), STRETCH):
        part = table[first:first + STRETCH]
        if np.count_nonzero(part):
            yield first, part


def copy_of(table: Table) -> Table:
    """A table of its own; room that is free throughout takes no memory."""
    copy = np.zeros(len(table), np.uint32)
    for first, part in stretches(table):
        copy[first:first + len(part)] = part
    return copy


def wrong_links(table: Table) -> int:
    """How many entries of a table lead out of it, or to a cluster that is free."""
    links = table[2:][(table[2:] != FREE) & (table[2:] < BAD)]
    inside = links[(links >= 2) & (links < len(table))]
    return len(links) - len(inside) + int(np.count_nonzero(table[inside] == FREE))


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
