"""Shrinking a FAT volume in place: what lies behind the new end moves into free clusters before it.

FATs and data area stay where they are; the FAT only loses its use at the end. The type must not
change: it follows from the count of clusters.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.base import Resized
from mosscrate.core.volumes.clusters import BAD, FREE
from mosscrate.core.volumes.fat.renumbering import Renumbering, boot_sectors, write_tables
from mosscrate.core.volumes.fat.structures import MAX_CLUSTERS, FatType, Geometry
from mosscrate.core.volumes.fat.table import head_of
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat
from mosscrate.core.watch import Watch

_LOWEST = {FatType.FAT12: 1, FatType.FAT16: MAX_CLUSTERS[FatType.FAT12] + 1,
           FatType.FAT32: MAX_CLUSTERS[FatType.FAT16] + 1}


def smallest(volume: FatVolume) -> tuple[int, str]:
    """Bytes the volume can be shrunk to, and what stands there."""
    g = volume.geometry
    used = int((volume.table[2:] != FREE).sum())
    clusters = min(g.cluster_count, max(used, _LOWEST[g.type], 1))
    because = "its files need that room" if clusters == used else \
        f"a FAT{int(g.type)} volume has at least {_LOWEST[g.type]} clusters"
    return _with_clusters(g, clusters).size, because


def shrink(blocks: Blocks, size: int, watch: Watch) -> Resized:
    """Shrink the volume at the start of `blocks` to at most `size` bytes. Raises FitError, FormatError."""
    volume = open_fat(blocks)
    old, low = volume.geometry, smallest(volume)
    if volume.boot.warnings:
        raise FitError(f"The volume does not agree with its partition and is left alone: {volume.boot.warnings[0]}")
    if size < low[0]:
        raise FitError(f"The volume cannot be smaller than {binary(low[0])}: {low[1]}.")
    total = size // old.sector
    new = _with_clusters(old, (total - old.data_start) // old.cluster_sectors)
    new = replace(new, total_sectors=max(new.total_sectors, min(total, old.total_sectors)))
    if new.total_sectors >= old.total_sectors:
        return Resized(old.size)
    first = new.cluster_count + 2
    used = volume.table[first:] != FREE
    moving = np.flatnonzero(used & (volume.table[first:] != BAD)).astype(np.int64) + first
    free = np.flatnonzero(volume.table[2:first] == FREE).astype(np.int64) + 2
    move = Renumbering(volume, new, shift=0, moving=moving, to=free)
    folders = list(move.folders())
    head = head_of(blocks, old, volume.boot.active_fat)
    root = move.renumbered(volume.root_bytes()) if old.root_entries else b""
    table = move.table()
    move.copy_clusters(blocks, watch)
    for at, data in folders:
        blocks.write(at, data)
        watch.check()
    if root:
        blocks.write(old.root_start * old.sector, root)
    write_tables(blocks, new, table, head, watch)
    for at, sector in boot_sectors(move, None):
        blocks.write(at, sector)
    blocks.flush()
    return Resized(new.size)


def _with_clusters(geometry: Geometry, clusters: int) -> Geometry:
    return replace(geometry, total_sectors=geometry.data_start + clusters * geometry.cluster_sectors)
