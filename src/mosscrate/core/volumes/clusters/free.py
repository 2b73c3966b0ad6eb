"""Free clusters of a volume under change, and the stretches that clusters make."""

from __future__ import annotations

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

    def __init__(self, free: Clusters, unit: int) -> None:
        self._free, self._freed, self._unit = free, list[Clusters](), unit

    def __len__(self) -> int:
        return len(self._free) + sum(len(c) for c in self._freed)

    def take(self, count: int) -> Clusters:
        """So many clusters. Raises FitError."""
        if count > len(self._free) and self._freed:
            self._free = np.concatenate((self._free, *self._freed))
            self._freed.clear()
        if count > len(self._free):
            raise FitError(f"There is no room: {binary(count * self._unit)} are needed, "
                           f"{binary(len(self._free) * self._unit)} are free.")
        taken, self._free = self._free[:count], self._free[count:]
        return taken

    def give_back(self, clusters: Clusters) -> None:
        """Clusters that are no longer used."""
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
