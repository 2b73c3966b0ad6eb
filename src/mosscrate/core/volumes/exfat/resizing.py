"""Growing and shrinking an exFAT volume in place.

A longer volume needs a longer FAT. It takes the slack in front of the heap; where that is too short,
the heap starts some clusters later: those in the way move to free room, all others keep their place
while their numbers go down, in the FAT and in every folder. The bitmap and the up-case table stay
in one piece, since drivers read them so. A file whose clusters no longer follow each other loses
the note that it needs no FAT.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.base import Resized
from mosscrate.core.volumes.clusters import BAD, copy_clusters
from mosscrate.core.volumes.exfat import directory
from mosscrate.core.volumes.exfat.making import special_entry
from mosscrate.core.volumes.exfat.structures import (
    BITMAP,
    ENTRY_SIZE,
    MAX_CLUSTERS,
    REGION_SECTORS,
    UPCASE,
    Geometry,
    boot_region,
)
from mosscrate.core.volumes.exfat.volume import ExfatVolume, open_exfat
from mosscrate.core.watch import Watch

PIECE = 4 << 20
Clusters = NDArray[np.int64]


@dataclass
class _Chain:
    """One file, folder or table: its clusters in old numbers, and where its entry set stands."""

    clusters: Clusters
    was_contiguous: bool
    folder: int                        # place of the folder in the list, -1 for the root's own chain
    slot: int
    slots: int


def largest(volume: ExfatVolume) -> tuple[int, str]:
    """Bytes the volume can be grown to, and the limit that stands there."""
    g = volume.geometry
    most = (g.heap_start + (MAX_CLUSTERS - 1) * g.cluster_sectors) * g.sector
    return most, f"an exFAT volume with clusters of {binary(g.cluster)} ends there"


def smallest(volume: ExfatVolume) -> tuple[int, str]:
    """Bytes the volume can be shrunk to, and what stands there."""
    g = volume.geometry
    upcase = -(-volume.upcase_place[1] // g.cluster)
    bitmap = -(-g.bitmap_bytes // g.cluster)
    used = int(volume.bitmap.sum()) + upcase + bitmap         # both may have to be copied in one piece
    clusters = min(g.cluster_count, used)
    return (g.heap_start + clusters * g.cluster_sectors) * g.sector, "its files need that room"


def grow(blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> Resized:
    """Grow the volume at the start of `blocks` towards `size` bytes. Raises FitError, FormatError."""
    volume = _opened(blocks)
    old = volume.geometry
    most, limit = largest(volume)
    total = min(size, most) // old.sector
    if total <= old.total_sectors:
        raise FitError(f"The volume has {binary(old.size)} and cannot grow to {binary(size)}.")
    new = _lengthened(old, total)
    if new.cluster_count <= old.cluster_count and new.heap_start != old.heap_start:
        raise FitError("The new room is too small for the longer FAT that it would need.")
    _Resizing(volume, new, watch).run(hidden_sectors)
    return Resized(new.size, limit if size > most else "")


def shrink(blocks: Blocks, size: int, watch: Watch) -> Resized:
    """Shrink the volume at the start of `blocks` to at most `size` bytes. Raises FitError, FormatError."""
    volume = _opened(blocks)
    old, (low, because) = volume.geometry, smallest(volume)
    if size < low:
        raise FitError(f"The volume cannot be smaller than {binary(low)}: {because}.")
    total = size // old.sector
    if total >= old.total_sectors:
        return Resized(old.size)
    new = replace(old, total_sectors=total, cluster_count=min(old.cluster_count,
                                                               (total - old.heap_start) // old.cluster_sectors))
    _Resizing(volume, new, watch).run(None)
    return Resized(new.size)


def _opened(blocks: Blocks) -> ExfatVolume:
    volume = open_exfat(blocks)
    if volume.boot.warnings or volume.geometry.fat_count != 1:
        raise FitError("The volume does not agree with its partition, or keeps two FATs; it is left alone.")
    return volume


def _lengthened(old: Geometry, total: int) -> Geometry:
    """The geometry for more sectors: a longer FAT in the slack, or a heap that starts later."""
    heap = old.heap_start
    while True:
        count = min((total - heap) // old.cluster_sectors, MAX_CLUSTERS - 1)
        needed = max(old.fat_sectors, old.fat_sectors_for(count))
        if old.fat_start + needed <= heap:
            return replace(old, total_sectors=total, heap_start=heap, fat_sectors=needed, cluster_count=count)
        heap += -(-(old.fat_start + needed - heap) // old.cluster_sectors) * old.cluster_sectors


class _Resizing:
    """One volume on its way to another number of clusters. Everything is computed before the first write."""

    def __init__(self, volume: ExfatVolume, new: Geometry, watch: Watch) -> None:
        self.volume, self.old, self.new, self.watch = volume, volume.geometry, new, watch
        self.blocks = volume.blocks
        self.shift = (new.heap_start - self.old.heap_start) // self.old.cluster_sectors
        self.folders: list[bytes] = []
        self.folder_of: dict[tuple[int, int], int] = {}       # (folder, slot) of an entry set: the folder it names
        self.chains = list(self._walk())
        first, length = volume.bitmap_place
        self.bitmap_clusters = self._clusters(first, length, contiguous=False)
        first, length = volume.upcase_place
        self.upcase = self._clusters(first, length, contiguous=False)
        self._assign()

    def run(self, hidden_sectors: int | None) -> None:
        """Copy what moves, then write folders, bitmap, FAT and both boot regions."""
        folders = list(self._folder_writes())
        tables = [*self._bitmap_writes(), *self._fat_writes()]
        region = self._region(hidden_sectors)
        regions = [(REGION_SECTORS * self.new.sector, region), (0, region)]
        copy_clusters(self.blocks, self.old, self.new, self.moving, self.to, self.watch)
        for at, data in (*folders, *tables, *regions):
            self.blocks.write(at, data)
        self.blocks.flush()

    # --- what is there ---------------------------------------------------------------------------

    def _walk(self) -> Iterator[_Chain]:
        """Every chain that a folder names; the root's own first."""
        root = self._chain(self.old.root_cluster)
        yield _Chain(root, was_contiguous=False, folder=-1, slot=0, slots=0)
        self.folders.append(self.volume.root_bytes)
        queue, seen = [(0, self.volume.root_bytes)], {self.old.root_cluster}
        for place, data in queue:
            for row in directory.rows(data):
                if row.first_cluster == 0 or row.data_length == 0:
                    continue
                clusters = self._clusters(row.first_cluster, row.data_length, contiguous=row.is_contiguous)
                yield _Chain(clusters, row.is_contiguous, place, row.slot, row.slots)
                if row.is_folder and row.first_cluster not in seen:
                    seen.add(row.first_cluster)
                    inner = self.volume.folder_bytes(row.first_cluster, contiguous=row.is_contiguous,
                                                     length=row.data_length)
                    self.folders.append(inner)
                    queue.append((len(self.folders) - 1, inner))
                    self.folder_of[(place, row.slot)] = len(self.folders) - 1
        self.watch.check()

    def _chain(self, first: int) -> Clusters:
        return np.concatenate([np.arange(c, c + n, dtype=np.int64) for c, n in self.volume.chains.runs(first)])

    def _clusters(self, first: int, length: int, *, contiguous: bool) -> Clusters:
        count = -(-length // self.old.cluster)
        if contiguous:
            if first + count > self.old.cluster_count + 2 or first < 2:
                raise FormatError("exFAT entry", "first_cluster", 0, first, "clusters of the volume")
            return np.arange(first, first + count, dtype=np.int64)
        return self._chain(first)

    # --- where it goes ---------------------------------------------------------------------------

    def _assign(self) -> None:
        """New numbers for all used clusters, and new places in one piece for bitmap and up-case table."""
        old, new, used = self.old, self.new, self.volume.bitmap.copy()
        own = np.zeros(old.cluster_count + 2, bool)
        own[self.bitmap_clusters] = True
        if (self.volume.table[2:2 + self.shift] == BAD).any():
            raise FitError("A cluster marked as bad lies where the FAT must grow; rebuild the volume instead.")
        in_way = np.zeros(old.cluster_count + 2, bool)
        in_way[2:2 + self.shift] = True
        in_way[min(len(in_way), new.cluster_count + 2 + self.shift):] = True
        in_way[:2] = False
        moves = in_way.copy()
        moves[2:] &= used
        moves &= ~own
        if in_way[self.upcase].any():
            moves[self.upcase] = True
        taken = np.zeros(new.cluster_count + 2, bool)             # in new numbers
        taken[:2] = True
        stays = np.flatnonzero(~in_way & ~own & ~moves)
        stays = stays[(stays >= 2) & (stays - self.shift < new.cluster_count + 2)]
        taken[stays - self.shift] = used[stays - 2] | (self.volume.table[stays] == BAD)
        moving = np.flatnonzero(moves)
        is_upcase = np.isin(moving, self.upcase)
        self.moving = np.concatenate((self.upcase if is_upcase.any() else moving[:0], moving[~is_upcase]))
        # Old places that are still to be read must not be written before; fresh room is taken first.
        busy = np.zeros_like(taken)
        inside = np.flatnonzero(used) + 2 - self.shift
        busy[inside[(inside >= 2) & (inside < len(busy))]] = True
        self.new_bitmap = self._bitmap_place(taken | busy, in_way)
        taken[self.new_bitmap] = True
        first = self._one_piece(taken | busy, len(self.upcase)) if is_upcase.any() else np.zeros(0, np.int64)
        taken[first] = True
        free = np.flatnonzero(~(taken | busy))
        rest = len(self.moving) - len(first)
        if len(free) < rest:
            raise FitError("There is not enough free room to move the clusters that lie in the way.")
        fresh = free[free >= old.cluster_count + 2 - self.shift]
        places = np.concatenate((fresh, free[free < old.cluster_count + 2 - self.shift]))[:rest]
        self.to = np.concatenate((first, places))
        self.number = np.arange(old.cluster_count + 2, dtype=np.int64) - self.shift
        self.number[self.moving] = self.to
        self.used = taken[2:].copy()
        self.used[self.to - 2] = True

    def _bitmap_place(self, taken: NDArray[np.bool_], in_way: NDArray[np.bool_]) -> Clusters:
        """Where the bitmap goes: where it is if it fits there, else into one free piece."""
        count = -(-self.new.bitmap_bytes // self.new.cluster)
        here = self.bitmap_clusters
        is_whole = bool((np.diff(here) == 1).all())
        if is_whole and count <= len(here) and not in_way[here].any():
            return here[:count] - self.shift
        return self._one_piece(taken, count)

    def _one_piece(self, taken: NDArray[np.bool_], count: int) -> Clusters:
        edges = runs_of(~taken)
        fits = edges[edges[:, 1] - edges[:, 0] >= count]
        if len(fits) == 0:
            raise FitError("There is no free stretch long enough for the tables of the new size.")
        start = int(fits[-1][0])                               # the last one: most likely the fresh room
        return np.arange(start, start + count, dtype=np.int64)

    # --- what is written -------------------------------------------------------------------------

    def _folder_writes(self) -> Iterator[tuple[int, bytes]]:
        """(offset, bytes) of every folder whose entries lead elsewhere now."""
        fresh = [bytearray(data) for data in self.folders]
        changed: set[int] = set()
        self.linked = [self.number[self.chains[0].clusters]]
        for chain in self.chains[1:]:
            clusters = self.number[chain.clusters]
            contiguous = chain.was_contiguous and bool((np.diff(clusters) == 1).all())
            if not contiguous:
                self.linked.append(clusters)
            if clusters[0] != chain.clusters[0] or contiguous != chain.was_contiguous:
                at = slice(chain.slot * ENTRY_SIZE, (chain.slot + chain.slots) * ENTRY_SIZE)
                fresh[chain.folder][at] = directory.placed(bytes(fresh[chain.folder][at]), int(clusters[0]),
                                                           is_contiguous=contiguous)
                changed.add(chain.folder)
        self._put_special(fresh[0])
        changed.add(0)
        by_place = {place: c for c in self.chains[1:] if (place := self.folder_of.get((c.folder, c.slot))) is not None}
        for place in sorted(changed):
            clusters = self.number[(by_place[place] if place else self.chains[0]).clusters]
            data, unit = bytes(fresh[place]), self.new.cluster
            for number, cluster in enumerate(clusters.tolist()):
                part = data[number * unit:(number + 1) * unit]
                if part:
                    yield self.new.cluster_offset(cluster), part

    def _put_special(self, root: bytearray) -> None:
        """Bitmap and up-case table at their new places."""
        for at in range(0, len(root), ENTRY_SIZE):
            if root[at] == 0:
                return
            if root[at] == BITMAP:
                root[at:at + ENTRY_SIZE] = special_entry(BITMAP, int(self.new_bitmap[0]), self.new.bitmap_bytes)
            elif root[at] == UPCASE:
                checksum = int.from_bytes(root[at + 4:at + 8], "little")
                root[at:at + ENTRY_SIZE] = special_entry(UPCASE, int(self.number[self.upcase[0]]),
                                                         self.volume.upcase_place[1], checksum=checksum)

    def _bitmap_writes(self) -> list[tuple[int, bytes]]:
        raw = np.packbits(self.used, bitorder="little").tobytes()
        raw = raw.ljust(len(self.new_bitmap) * self.new.cluster, b"\0")
        return [(self.new.cluster_offset(int(self.new_bitmap[0])), raw)]

    def _fat_writes(self) -> Iterator[tuple[int, bytes]]:
        table = np.zeros(self.new.fat_sectors * self.new.sector // 4, "<u4")
        table[0], table[1] = 0xFFFFFFF8, 0xFFFFFFFF
        bad = np.flatnonzero(self.volume.table == BAD) - self.shift
        bad = bad[(bad >= 2) & (bad < self.new.cluster_count + 2)]
        table[bad] = 0xFFFFFFF7
        for clusters in (*self.linked, self.new_bitmap, self.number[self.upcase]):
            table[clusters[:-1]] = clusters[1:]
            table[clusters[-1]] = 0xFFFFFFFF
        raw = table.tobytes()
        for at in range(0, len(raw), PIECE):
            yield self.new.fat_offset(0) + at, raw[at:at + PIECE]

    def _region(self, hidden_sectors: int | None) -> bytes:
        new, raw = self.new, self.volume.boot.raw.copy()
        for field, value in (("volume_length", new.total_sectors), ("fat_length", new.fat_sectors),
                             ("cluster_heap_offset", new.heap_start), ("cluster_count", new.cluster_count),
                             ("first_cluster_of_root", int(self.linked[0][0])),
                             ("percent_in_use", int(self.used.sum()) * 100 // new.cluster_count)):
            raw[field] = value
        if hidden_sectors is not None:
            raw["partition_offset"] = hidden_sectors
        rest = self.blocks.read(new.sector, 10 * new.sector)
        head = self.blocks.read(0, new.sector)
        return boot_region(raw.tobytes() + head[512:], rest, new.sector)

