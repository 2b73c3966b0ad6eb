"""Clusters that go to other places, each in one piece with its neighbours."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.volumes.clusters.table import Clustered
from mosscrate.core.watch import Watch

PIECE = 4 << 20


def copy_clusters(blocks: Blocks, old: Clustered, new: Clustered, moving: NDArray[np.int64], to: NDArray[np.int64],
                  watch: Watch) -> None:
    """Copy clusters from their places in the old geometry to places in the new one, neighbours together."""
    unit, total = old.cluster, len(moving) * old.cluster
    both = np.flatnonzero((np.diff(moving) != 1) | (np.diff(to) != 1)) + 1
    done = 0
    for source, target in zip(np.split(moving, both), np.split(to, both), strict=True):
        for first in range(0, len(source), max(1, PIECE // unit)):
            count = min(max(1, PIECE // unit), len(source) - first)
            data = blocks.read(old.cluster_offset(int(source[first])), count * unit)
            blocks.write(new.cluster_offset(int(target[first])), data)
            done += len(data)
            watch.progress("Moving clusters out of the way", done, total)
