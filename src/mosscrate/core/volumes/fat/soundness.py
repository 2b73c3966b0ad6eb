"""Whether what the files of a FAT volume claim is what its table says."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.volumes.base import Kind, Tree
from mosscrate.core.volumes.clusters import BAD, ROOT, Followed
from mosscrate.core.volumes.fat.volume import FatVolume
from mosscrate.core.volumes.soundness import Claims, Soundness, unreadable


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
