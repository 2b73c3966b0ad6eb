"""Many chains followed at once."""

from __future__ import annotations

from bisect import bisect_left

import numpy as np

from mosscrate.core.volumes.clusters.chains import Chains
from mosscrate.core.volumes.clusters.table import BAD, END, FREE
from mosscrate.core.volumes.soundness import Claims, Places

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
