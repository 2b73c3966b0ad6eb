"""Old cluster numbers to new ones: what must be copied, and how FAT and folders read afterwards.

Growing and shrinking both give clusters other numbers; everything here is computed from what was
read before the first write.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.volumes.base import Kind
from mosscrate.core.volumes.clusters import BAD, FREE, Table, copy_clusters
from mosscrate.core.volumes.fat.making import fsinfo
from mosscrate.core.volumes.fat.structures import (
    BOOT16,
    BOOT32,
    DIRECTORY_ENTRY,
    ENTRY_SIZE,
    FSINFO,
    IS_LONG_NAME,
    VOLUME_LABEL,
    Geometry,
)
from mosscrate.core.volumes.fat.table import encode
from mosscrate.core.volumes.fat.volume import FatVolume
from mosscrate.core.watch import Watch

PIECE = 4 << 20


class Renumbering:
    """Clusters `moving` (old numbers) go to `to` (new numbers); all others go down by `shift`."""

    def __init__(self, volume: FatVolume, new: Geometry, *, shift: int, moving: NDArray[np.int64],
                 to: NDArray[np.int64]) -> None:
        self.volume, self.old, self.new, self.shift = volume, volume.geometry, new, shift
        self.moving, self.to = moving, to[:len(moving)]
        if (volume.table[moving] == BAD).any():
            raise FitError("A cluster marked as bad lies where room is needed; the volume cannot be resized "
                           "in place. Rebuild it instead.")
        if len(self.to) < len(moving):
            raise FitError("There is not enough free room to move the clusters that lie in the way.")
        self.number = np.arange(len(volume.table), dtype=np.int64) - shift
        self.number[moving] = self.to

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
        places = self.number[used]
        is_inside = places < self.new.cluster_count + 2        # a bad cluster may have been cut off
        fresh = np.zeros(self.new.cluster_count + 2, np.uint32)
        fresh[places[is_inside]] = links[is_inside]
        return fresh

    def copy_clusters(self, blocks: Blocks, watch: Watch) -> None:
        """Copy what moves, neighbours together."""
        copy_clusters(blocks, self.old, self.new, self.moving, self.to, watch)

    def folders(self) -> Iterator[tuple[int, bytes]]:
        """(offset, bytes) of every stretch of a folder whose numbers change. Raises FormatError."""
        if not self.shift and not len(self.moving):
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
                for first, count in runs(numbers):
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


def write_tables(blocks: Blocks, geometry: Geometry, table: Table, head: tuple[int, int], watch: Watch) -> None:
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


def boot_sectors(move: Renumbering, hidden_sectors: int | None) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes): backup and FSInfo first, the boot sector that makes it all valid last."""
    new, volume = move.new, move.volume
    raw, is_fat32 = volume.boot.raw.copy(), volume.boot.is_fat32
    place = Place("FAT boot sector", BOOT32 if is_fat32 else BOOT16, 0)
    is_small = new.total_sectors < 65536 and not is_fat32
    place.put(raw, total_sectors_16=new.total_sectors if is_small else 0,
              total_sectors_32=0 if is_small else new.total_sectors)
    if hidden_sectors is not None:
        place.put(raw, hidden_sectors=hidden_sectors)
    if is_fat32:
        place.put(raw, fat_sectors_32=new.fat_sectors, root_cluster=int(move.number[move.old.root_cluster]))
        yield from _fat32_copies(move, raw.tobytes())
    else:
        place.put(raw, fat_sectors_16=new.fat_sectors)
    yield 0, raw.tobytes()


def _fat32_copies(move: Renumbering, boot: bytes) -> Iterator[tuple[int, bytes]]:
    volume, sector, reserved = move.volume, move.new.sector, move.new.reserved
    free = move.new.cluster_count - int((volume.table[2:] != FREE).sum())
    info = fsinfo(max(0, free), 2)
    backup, number = (int(volume.boot.raw[f]) for f in ("backup_boot_sector", "fsinfo_sector"))
    if 0 < number < reserved:
        yield number * sector, info
    if 0 < backup < reserved:
        yield backup * sector, boot
        if number > 0 and backup + number < reserved:
            old = np.frombuffer(volume.blocks.read((backup + number) * sector, FSINFO.itemsize), FSINFO)[0]
            if int(old["lead_signature"]):
                yield (backup + number) * sector, info


def runs(numbers: NDArray[np.int64]) -> Iterator[tuple[int, int]]:
    """(first, count) of the stretches of neighbouring numbers."""
    if len(numbers):
        for run in np.split(numbers, np.flatnonzero(np.diff(numbers) != 1) + 1):
            yield int(run[0]), len(run)
