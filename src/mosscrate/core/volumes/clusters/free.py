"""Free clusters of a volume under change, and the stretches that clusters make."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.clusters.table import Clustered

Clusters: TypeAlias = NDArray[np.int64]
NOTHING: Clusters = np.zeros(0, np.int64)


class FreeClusters:
    """Hands out clusters in ascending order; what was freed meanwhile comes last, a journal must save it first."""

    def __init__(self, runs: Clusters, unit: int) -> None:
        """`runs` are rows of (first, last + 1), `unit` the bytes of a cluster."""
        self._runs, self._freed, self._unit = deque(runs.tolist()), list[Clusters](), unit
        self._left = int((runs[:, 1] - runs[:, 0]).sum())

    def __len__(self) -> int:
        return self._left + sum(len(c) for c in self._freed)

    def take(self, count: int) -> Clusters:
        """So many clusters. Raises FitError."""
        if count > self._left and self._freed:
            freed = np.concatenate(self._freed)
            cuts = np.flatnonzero(np.diff(freed) != 1) + 1
            self._runs += [[int(run[0]), int(run[-1]) + 1] for run in np.split(freed, cuts)]
            self._left += len(freed)
            self._freed.clear()
        if count > self._left:
            raise FitError(f"There is no room: {binary(count * self._unit)} are needed, "
                           f"{binary(self._left * self._unit)} are free.")
        self._left -= count
        taken = []
        while count:
            run = self._runs[0]
            length = min(count, run[1] - run[0])
            taken.append(np.arange(run[0], run[0] + length))
            run[0] += length
            count -= length
            if run[0] == run[1]:
                self._runs.popleft()
        return np.concatenate(taken) if len(taken) > 1 else taken[0] if taken else NOTHING

    def extents(self, geometry: Clustered) -> list[Extent]:
        """The bytes of the clusters that are free from the start."""
        return [Extent(geometry.cluster_offset(first), (last - first) * geometry.cluster) for first, last in self._runs]

    def give_back(self, clusters: Clusters) -> None:
        """Clusters that are no longer used."""
        if len(clusters):
            self._freed.append(clusters)


def extents_of(clusters: Clusters, geometry: Clustered) -> Iterator[Extent]:
    """The bytes of clusters in their order, neighbours together."""
    if len(clusters) == 0:
        return
    if int(clusters[-1] - clusters[0]) == len(clusters) - 1 and (len(clusters) < 3 or (np.diff(clusters) == 1).all()):
        yield Extent(geometry.cluster_offset(int(clusters[0])), len(clusters) * geometry.cluster)
        return
    cuts = np.flatnonzero(np.diff(clusters) != 1) + 1
    starts, ends = np.append(0, cuts), np.append(cuts, len(clusters))
    for first, count in zip(clusters[starts].tolist(), (ends - starts).tolist(), strict=True):
        yield Extent(geometry.cluster_offset(first), count * geometry.cluster)
