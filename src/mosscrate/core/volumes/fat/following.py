"""Many chains of a FAT followed at once, and whether what files claim of a volume is what the tables say."""

from __future__ import annotations

from bisect import bisect_left

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.volumes.base import Kind, Tree
from mosscrate.core.volumes.fat.table import BAD, END, FREE, Chains
from mosscrate.core.volumes.fat.volume import FatVolume
from mosscrate.core.volumes.soundness import Claims, Places, Soundness, unreadable

TOGETHER = 64                          # runs of a chain after which the few that are still longer go on alone
ROOT = "/"


class Followed:
    """The runs of chains: first cluster, count, and the place of the chain among the heads.

    `broken` are places of chains that leave the volume, run into free clusters or do not end.
    """

    def __init__(self, chains: Chains, heads: Places) -> None:
        self._table, self._ends = chains.table, chains.ends
        self.firsts: list[Places] = []
        self.counts: list[Places] = []
        self.owners: list[Places] = []
        self.broken: set[int] = set()
        at, owner = heads, np.arange(len(heads), dtype=np.int64)
        for _ in range(TOGETHER):
            if not len(at):
                return
            at, owner = self._step(at, owner)
        for head, number in zip(at.tolist(), owner.tolist(), strict=True):
            self._alone(head, number)

    def totals(self, chains: int) -> Places:
        """Clusters of each chain."""
        if not self.owners:
            return np.zeros(chains, np.int64)
        return np.bincount(np.concatenate(self.owners), np.concatenate(self.counts), chains).astype(np.int64)

    def _step(self, at: Places, owner: Places) -> tuple[Places, Places]:
        """One run of each chain; returns where those that go on do so."""
        table, size = self._table, len(self._table)
        inside = (at >= 2) & (at < size)
        inside[inside] = ~np.isin(table[at[inside]], (FREE, BAD))
        self.broken |= set(owner[~inside].tolist())
        at, owner = at[inside], owner[inside]
        ends = self._ends[np.minimum(np.searchsorted(self._ends, at), len(self._ends) - 1)]
        links = table[ends].astype(np.int64)
        is_lost = (links == FREE) | (links == BAD)
        self.broken |= set(owner[is_lost].tolist())
        self.firsts.append(at)
        self.counts.append(np.where(is_lost, ends - at, ends - at + 1))
        self.owners.append(owner)
        goes_on = (links != END) & ~is_lost
        return links[goes_on], owner[goes_on]

    def _alone(self, at: int, owner: int) -> None:
        """The rest of a chain of very many runs, in plain numbers."""
        ends, size, firsts, counts, total = self._ends.tolist(), len(self._table), list[int](), list[int](), 0
        table = self._table
        while at != END:
            if not 2 <= at < size or table[at] in (FREE, BAD) or total > size:
                self.broken.add(owner)
                break
            end = ends[bisect_left(ends, at)]
            firsts.append(at)
            counts.append(end - at + 1)
            total += end - at + 1
            at = int(table[end])
            if at in (FREE, BAD):
                self.broken.add(owner)
                counts[-1] -= 1
                break
        self.firsts.append(np.array(firsts, np.int64))
        self.counts.append(np.array(counts, np.int64))
        self.owners.append(np.full(len(firsts), owner, np.int64))

    def into(self, claims: Claims, owners: Places) -> None:
        """Claim the runs for the owners of the chains."""
        for first, count, place in zip(self.firsts, self.counts, self.owners, strict=True):
            claims.add(first, count, owners[place])


def soundness(volume: FatVolume, tree: Tree) -> Soundness:
    """Every chain against the others and against the sizes of its file. Raises MediumError."""
    entries, unit = tree.entries, volume.block
    nodes = np.array([e.node for e in entries], np.int64)
    sizes = np.array([e.size for e in entries], np.int64)
    owners = np.flatnonzero(nodes)
    heads = nodes[owners]
    if volume.boot.is_fat32:
        heads, owners = np.append(heads, volume.geometry.root_cluster), np.append(owners, len(entries))

    def name(owner: int) -> str:
        return entries[owner].path if owner < len(entries) else ROOT

    followed = Followed(volume.chains, heads)
    claims = Claims(name)
    followed.into(claims, owners)
    _, _, crossed = claims.merged()
    totals = np.zeros(len(entries) + 1, np.int64)
    totals[owners] = followed.totals(len(heads))
    is_file = np.array([e.kind == Kind.FILE for e in entries], bool)
    is_broken = np.zeros(len(entries) + 1, bool)
    is_broken[owners[list(followed.broken)]] = True
    short = np.flatnonzero(is_file & (totals[:-1] * unit < sizes) & ~is_broken[:-1])
    broken = [f"The chain of “{name(n)}” leads to clusters that are free or not there."
              for n in np.flatnonzero(is_broken).tolist()]
    broken += [f"“{name(n)}” says {sizes[n]} bytes, its chain holds {totals[n] * unit}." for n in short.tolist()]
    used = _used(volume.table)
    return Soundness((*unreadable(tree), *crossed, *broken), 0, max(0, used - int(totals.sum())) * unit)


def _used(table: NDArray[np.uint32]) -> int:
    return int(np.count_nonzero(table[2:])) - int(np.count_nonzero(table[2:] == BAD))
