"""Growing a FAT volume in place.

A longer volume needs a longer FAT, and the FAT stands before the data. So the clusters in its way
move to free room, and all others keep their place on the medium while their *numbers* go down, in
the FAT and in every folder. For that the FAT grows by whole clusters. The fixed root directory of
FAT12 and FAT16 stands between FAT and data and moves along.

Everything is computed from what was read before the first write; the caller puts a journal below.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import gcd

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.clusters import FREE, Table
from mosscrate.core.volumes.fat.making import MOST_GEMDOS
from mosscrate.core.volumes.fat.renumbering import Renumbering, boot_sectors, write_tables
from mosscrate.core.volumes.fat.structures import MAX_CLUSTERS, FatType, Geometry
from mosscrate.core.volumes.fat.table import head_of
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat
from mosscrate.core.watch import Watch

MAX_SECTORS = 2**32 - 1
_LIMITS = {
    FatType.FAT12: "a FAT12 volume has at most 4,084 clusters",
    FatType.FAT16: "a FAT16 volume has at most 65,524 clusters",
    FatType.FAT32: "a FAT32 volume has at most 268,435,445 clusters and 2 TiB of 512-byte sectors"}


@dataclass(frozen=True)
class GrowPlan:
    """What growing will do. `shift` clusters lie in the way of the FATs; `limit` says what stopped it."""

    old: Geometry
    new: Geometry
    shift: int
    limit: str = ""

    @property
    def size(self) -> int:
        """Bytes of the volume afterwards."""
        return self.new.size


def plan(volume: FatVolume, size: int) -> GrowPlan:
    """How far the volume can grow towards `size` bytes. Raises FitError when it cannot grow at all."""
    old = volume.geometry
    if volume.boot.warnings:
        raise FitError(f"The volume does not agree with its partition and is left alone: {volume.boot.warnings[0]}")
    most, because = _most_sectors(volume)
    new, limit = _fitted(replace(old, total_sectors=min(size // old.sector, most)), old)
    if size // old.sector > most:
        limit = limit or because
    if new.total_sectors <= old.total_sectors:
        reason = f": {limit}" if limit else ""
        raise FitError(f"The volume has {binary(old.size)} and cannot grow to {binary(size)}{reason}.")
    return GrowPlan(old, new, (new.data_start - old.data_start) // old.cluster_sectors, limit)


def largest(volume: FatVolume) -> tuple[int, str]:
    """Bytes the volume can be grown to, and the limit that stands there."""
    most, because = _most_sectors(volume)
    geometry, limit = _fitted(replace(volume.geometry, total_sectors=most), volume.geometry)
    return geometry.size, limit or because


def grow(blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> GrowPlan:
    """Grow the volume at the start of `blocks` to `size` bytes or its limit.

    Args:
        blocks: the partition in its new length.
        size: bytes wanted.
        watch: is told while folders and FATs are written.
        hidden_sectors: of the boot sector, the partition's first sector; None leaves it.

    Raises:
        FitError: it cannot grow, or something in the way cannot be moved.
        FormatError: the volume is damaged and must be mended first; nothing was written.
    """
    volume = open_fat(blocks)
    plan_ = plan(volume, size)
    in_way = np.flatnonzero(volume.table[2:2 + plan_.shift] != FREE).astype(np.int64) + 2
    move = Renumbering(volume, plan_.new, shift=plan_.shift, moving=in_way,
                       to=_free_room(volume.table, plan_.shift, plan_.new, len(in_way)))
    folders = list(move.folders())
    head = head_of(blocks, plan_.old, volume.boot.active_fat)
    move.copy_clusters(blocks, watch)
    for at, data in folders:
        blocks.write(at, data)
        watch.check()
    if plan_.shift and plan_.old.root_entries:
        root = move.renumbered(volume.root_bytes())
        blocks.write(plan_.new.root_start * plan_.new.sector, root)
    write_tables(blocks, plan_.new, move.table(), head, watch)
    for at, sector in boot_sectors(move, hidden_sectors):
        blocks.write(at, sector)
    blocks.flush()
    return plan_


def _most_sectors(volume: FatVolume) -> tuple[int, str]:
    """How many sectors a volume of this family can count, and the limit in words."""
    if volume.variant != "gemdos":
        return MAX_SECTORS, _LIMITS[volume.geometry.type]
    g = volume.geometry
    return min(65535, g.data_start + MOST_GEMDOS * g.cluster_sectors), \
        "a GEMDOS volume counts its logical sectors in 16 bits; larger ones need it made anew"


def _free_room(table: Table, shift: int, new: Geometry, wanted: int) -> NDArray[np.int64]:
    """Free clusters in new numbers: the fresh room at the end first, it is in one piece.

    All of it, where the FATs take more than the whole volume was.
    """
    fresh = np.arange(max(2, len(table) - shift), new.cluster_count + 2, dtype=np.int64)
    if len(fresh) >= wanted:
        return fresh
    inside = np.flatnonzero(table[2 + shift:] == FREE) + 2
    return np.concatenate((fresh, inside))


def _fitted(wanted: Geometry, old: Geometry) -> tuple[Geometry, str]:
    """The geometry with a FAT long enough for it, and the limit that cut it short."""
    step = old.cluster_sectors // gcd(old.fat_count, old.cluster_sectors)   # keeps clusters on their grid
    highest, limit = MAX_CLUSTERS[old.type], ""
    geometry = wanted
    while True:
        clusters = min(geometry.cluster_count, highest)
        short = geometry.fat_sectors_for(clusters) - geometry.fat_sectors
        if short <= 0:
            break
        geometry = replace(geometry, fat_sectors=geometry.fat_sectors + -(-short // step) * step)
    if geometry.cluster_count > highest:
        limit = _LIMITS[old.type]
        geometry = replace(geometry, total_sectors=geometry.data_start + highest * geometry.cluster_sectors)
    return geometry, limit
