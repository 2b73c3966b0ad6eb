"""Growing a FAT volume in place.

A longer volume needs a longer FAT, and the FAT stands before the data. So the clusters in its way
move to free room, and all others keep their place on the medium while their *numbers* go down, in
the FAT and in every folder. For that the FAT grows by whole clusters. The fixed root directory of
FAT12 and FAT16 stands between FAT and data and moves along.

Everything is computed from what was read before the first write; the caller puts a journal below.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from math import gcd

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.base import Kind
from mosscrate.core.volumes.fat.making import fsinfo
from mosscrate.core.volumes.fat.structures import (
    BOOT16,
    BOOT32,
    DIRECTORY_ENTRY,
    ENTRY_SIZE,
    FSINFO,
    IS_LONG_NAME,
    MAX_CLUSTERS,
    VOLUME_LABEL,
    FatType,
    Geometry,
)
from mosscrate.core.volumes.fat.table import BAD, FREE, Table, encode, head_of
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat
from mosscrate.core.watch import Watch

PIECE = 4 << 20
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
    new, limit = _fitted(replace(old, total_sectors=min(size // old.sector, MAX_SECTORS)), old)
    if size // old.sector > MAX_SECTORS:
        limit = _LIMITS[old.type]
    if new.total_sectors <= old.total_sectors:
        reason = f": {limit}" if limit else ""
        raise FitError(f"The volume has {binary(old.size)} and cannot grow to {binary(size)}{reason}.")
    return GrowPlan(old, new, (new.data_start - old.data_start) // old.cluster_sectors, limit)


def largest(volume: FatVolume) -> tuple[int, str]:
    """Bytes the volume can be grown to, and the limit that stands there."""
    geometry, limit = _fitted(replace(volume.geometry, total_sectors=MAX_SECTORS), volume.geometry)
    return geometry.size, limit or _LIMITS[volume.geometry.type]


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
    move = _Renumbering(volume, plan_)
    folders = list(move.folders())
    head = head_of(blocks, plan_.old, volume.boot.active_fat)
    metadata = Extent(0, plan_.new.data_start * plan_.new.sector)
    blocks.foretell([metadata, *move.targets(), *(Extent(at, len(data)) for at, data in folders)])

    move.copy_clusters(blocks, watch)
    for at, data in folders:
        blocks.write(at, data)
        watch.check()
    if plan_.shift and plan_.old.root_entries:
        root = move.renumbered(volume.root_bytes())
        blocks.write(plan_.new.root_start * plan_.new.sector, root)
    _write_tables(blocks, plan_.new, move.table(), head, watch)
    for at, sector in _boot_sectors(volume, plan_, move, hidden_sectors):
        blocks.write(at, sector)
    blocks.flush()
    return plan_


class _Renumbering:
    """Old cluster numbers to new ones, and what follows from that."""

    def __init__(self, volume: FatVolume, plan: GrowPlan) -> None:
        self.volume, self.old, self.new, self.shift = volume, plan.old, plan.new, plan.shift
        table = volume.table
        self.number = np.arange(len(table), dtype=np.int64) - plan.shift
        self.in_way = np.flatnonzero(table[2:2 + plan.shift] != FREE) + 2
        if (table[self.in_way] == BAD).any():
            raise FitError("A cluster marked as bad lies where the FAT must grow; the volume cannot be grown "
                           "in place. Rebuild it instead.")
        self.to = self._free_room(table)[:len(self.in_way)]
        if len(self.to) < len(self.in_way):
            raise FitError("There is not enough free room to move the clusters that lie in the FAT's way.")
        self.number[self.in_way] = self.to

    def table(self) -> Table:
        """The FAT in new numbers, shape (new clusters + 2,)."""
        old = self.volume.table
        wrong = (old >= len(old)) & (old < BAD) | (old == 1)
        wrong[:2] = False
        if wrong.any():
            raise FormatError("FAT", "entry", self.old.fat_offset(0), int(old[wrong][0]), "a cluster of the volume")
        used = np.flatnonzero(old[2:] != FREE) + 2
        links = old[used].astype(np.int64)
        is_link = links < BAD
        links[is_link] = self.number[links[is_link]]
        fresh = np.zeros(self.new.cluster_count + 2, np.uint32)
        fresh[self.number[used]] = links
        return fresh

    def targets(self) -> list[Extent]:
        """Where moved clusters go."""
        return [Extent(self.new.cluster_offset(first), count * self.new.cluster)
                for first, count in _runs(self.to)]

    def copy_clusters(self, blocks: Blocks, watch: Watch) -> None:
        """Copy what lies in the way, neighbours together."""
        unit, total = self.old.cluster, len(self.in_way) * self.old.cluster
        both = np.flatnonzero((np.diff(self.in_way) != 1) | (np.diff(self.to) != 1)) + 1
        done = 0
        for source, target in zip(np.split(self.in_way, both), np.split(self.to, both), strict=True):
            for first in range(0, len(source), max(1, PIECE // unit)):
                count = min(max(1, PIECE // unit), len(source) - first)
                data = blocks.read(self.old.cluster_offset(int(source[first])), count * unit)
                blocks.write(self.new.cluster_offset(int(target[first])), data)
                done += len(data)
                watch.progress("Moving clusters out of the way", done, total)

    def folders(self) -> Iterator[tuple[int, bytes]]:
        """(offset, bytes) of every stretch of a folder whose numbers change. Raises FormatError."""
        if not self.shift:
            return
        tree = self.volume.tree()
        if tree.findings:
            raise FormatError("FAT folder", tree.findings[0].where, 0, tree.findings[0].sentence,
                              "folders that can all be read; mend the volume first")
        clusters = [e.node for e in tree.entries if e.kind == Kind.FOLDER]
        if self.old.root_cluster:
            clusters.insert(0, self.old.root_cluster)
        for cluster in clusters:
            data, at = self.renumbered(self.volume.directory_bytes(cluster)), 0
            for run in self.volume.chains.runs(cluster):
                numbers = self.number[run[0]:run[0] + run[1]]
                for first, count in _runs(numbers):
                    length = count * self.new.cluster
                    yield self.new.cluster_offset(first), data[at:at + length]
                    at += length

    def renumbered(self, data: bytes) -> bytes:
        """A folder's bytes with every first cluster in new numbers; deleted entries stay as they are."""
        entries = np.frombuffer(bytearray(data), DIRECTORY_ENTRY, count=len(data) // ENTRY_SIZE)
        first = np.frombuffer(data, np.uint8)[:len(entries) * ENTRY_SIZE:ENTRY_SIZE]
        ends = np.flatnonzero(first == 0)
        live = (first != 0xE5) & ((entries["attributes"] & 0x3F) != IS_LONG_NAME) \
            & ((entries["attributes"] & VOLUME_LABEL) == 0)
        live[ends[0] if len(ends) else len(live):] = False
        high = entries["cluster_high"].astype(np.int64) << 16 if self.old.root_cluster else 0
        clusters = np.where(live, entries["cluster_low"] + high, 0)
        if (clusters >= len(self.number)).any() or (clusters == 1).any():
            raise FormatError("FAT folder", "first cluster", 0, int(clusters.max()), "a cluster of the volume")
        fresh = np.where(clusters >= 2, self.number[clusters], clusters)
        changed = clusters >= 2
        entries["cluster_low"][changed] = fresh[changed] & 0xFFFF
        if self.old.root_cluster:
            entries["cluster_high"][changed] = fresh[changed] >> 16
        return bytes(entries.tobytes()) + data[len(entries) * ENTRY_SIZE:]

    def _free_room(self, table: Table) -> NDArray[np.int64]:
        """Free clusters in new numbers: the fresh room at the end first, it is in one piece."""
        fresh = np.arange(len(table) - self.shift, self.new.cluster_count + 2, dtype=np.int64)
        if len(fresh) >= len(self.in_way):
            return fresh
        inside = np.flatnonzero(table[2 + self.shift:] == FREE) + 2
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


def _write_tables(blocks: Blocks, geometry: Geometry, table: Table, head: tuple[int, int], watch: Watch) -> None:
    """All copies: the part up to the last used cluster, zeros behind it."""
    last = int(np.flatnonzero(table)[-1]) if table.any() else 2
    raw = encode(table[:last + 1 + last % 2 + 1], geometry.type, head=head)
    length = geometry.fat_sectors * geometry.sector
    raw = raw.ljust(min(length, -(-len(raw) // geometry.sector) * geometry.sector), b"\0")
    for copy in range(geometry.fat_count):
        base = geometry.fat_offset(copy)
        for at in range(0, len(raw), PIECE):
            blocks.write(base + at, raw[at:at + PIECE])
            watch.progress("Writing the FATs", copy * length + at, geometry.fat_count * length)
        for at in range(len(raw), length, 4 * PIECE):
            blocks.zero(base + at, min(4 * PIECE, length - at))
            watch.progress("Writing the FATs", copy * length + at, geometry.fat_count * length)


def _boot_sectors(volume: FatVolume, plan: GrowPlan, move: _Renumbering,
                  hidden_sectors: int | None) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes): backup and FSInfo first, the boot sector that makes it all valid last."""
    new, raw = plan.new, volume.boot.raw.copy()
    is_fat32 = volume.boot.is_fat32
    place = Place("FAT boot sector", BOOT32 if is_fat32 else BOOT16, 0)
    is_small = new.total_sectors < 65536 and not is_fat32
    place.put(raw, total_sectors_16=new.total_sectors if is_small else 0,
              total_sectors_32=0 if is_small else new.total_sectors)
    if hidden_sectors is not None:
        place.put(raw, hidden_sectors=hidden_sectors)
    if is_fat32:
        place.put(raw, fat_sectors_32=new.fat_sectors, root_cluster=int(move.number[plan.old.root_cluster]))
        yield from _fat32_copies(volume, plan, move, raw.tobytes())
    else:
        place.put(raw, fat_sectors_16=new.fat_sectors)
    yield 0, raw.tobytes()


def _fat32_copies(volume: FatVolume, plan: GrowPlan, move: _Renumbering, boot: bytes) -> Iterator[tuple[int, bytes]]:
    sector, reserved = plan.new.sector, plan.new.reserved
    free = plan.new.cluster_count - int((volume.table[2:] != FREE).sum())
    info = fsinfo(free, 2)
    backup, number = (int(volume.boot.raw[f]) for f in ("backup_boot_sector", "fsinfo_sector"))
    if 0 < number < reserved:
        yield number * sector, info
    if 0 < backup < reserved:
        yield backup * sector, boot
        if number > 0 and backup + number < reserved:
            old = np.frombuffer(volume.blocks.read((backup + number) * sector, FSINFO.itemsize), FSINFO)[0]
            if int(old["lead_signature"]):
                yield (backup + number) * sector, info


def _runs(numbers: NDArray[np.int64]) -> Iterator[tuple[int, int]]:
    """(first, count) of the stretches of neighbouring numbers."""
    if len(numbers):
        for run in np.split(numbers, np.flatnonzero(np.diff(numbers) != 1) + 1):
            yield int(run[0]), len(run)
