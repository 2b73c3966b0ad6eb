"""A medium as it stands now: by what it is known to be as it was, and which of its room is free.

It is known by its map, its volumes, every entry of their trees, and anchors in its files. Left out is what mounting and
reading alone may change: times of access, counts of mounts and of free blocks, hints and flags of a clean ending. Two
cards that are equal in all of this cannot be told apart here.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.blocks.runs import distinct
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import Opened, has_blank_ends, partition_window, trace_between
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images import packed_in
from mosscrate.core.maps import MapKind, Partition, PartitionMap, map_format, read_map
from mosscrate.core.maps.edits import front
from mosscrate.core.maps.mbr import is_extended
from mosscrate.core.volumes import Entry, Kind, Tree, Volume, open_volume, soundness

ANCHORS, CLOSED_ANCHORS = 64, 256        # sectors of files of a volume; of a partition that cannot be opened
EDGE = 64 << 10
SECTOR = 512
IN_FRONT = 1 << 20                       # of the first partition: boot code, lists, more of the map


@dataclass(frozen=True)
class Part:
    """A partition, and what was opened on it; `volume` is None where nothing was."""

    partition: Partition
    window: Window | None = None
    volume: Volume | None = None
    tree: Tree | None = None

    @cached_property
    def lines(self) -> tuple[bytes, ...]:
        """What its folders say of each entry of its tree."""
        return tuple(_line_of(e).encode("utf-8", "surrogatepass") for e in (self.tree.entries if self.tree else ()))


class State:
    """A medium that is looked at for several purposes: its map is read once, each volume opened and walked once."""

    def __init__(self, blocks: Blocks) -> None:
        self.blocks = blocks
        self._view = straight(blocks) if packed_in(blocks) is None else blocks

    @cached_property
    def map(self) -> PartitionMap | None:
        """None where none can be read."""
        try:
            return read_map(self._view)
        except FormatError:
            return None

    @cached_property
    def parts(self) -> tuple[Part, ...]:
        """Every partition that may hold something. Raises MediumError."""
        return tuple(self._part(p) for p in (self.map.partitions if self.map else ()))

    @property
    def opened(self) -> Opened:
        """Its volumes, for a survey of the same moment. Raises MediumError."""
        return Opened({part.partition.index: (part.volume, part.tree) for part in self.parts
                       if part.volume is not None and part.tree is not None})

    @cached_property
    def digest(self) -> bytes:
        """BLAKE3 over what it is known by, 32 bytes. Raises MediumError."""
        if packed_in(self.blocks) is not None:
            return known_by_its_file(self.blocks)
        hasher, map_ = blake3(f"{self.blocks.size}\n".encode()), self.map
        hasher.update(self._view.container.encode())
        if map_ is None:
            _closed(self._view, hasher)
            return hasher.digest()
        hasher.update(f"{map_.kind} {map_.id} {map_.sector}\n".encode())
        for part in self.parts:
            p = part.partition
            hasher.update(f"{p.index} {p.start} {p.length} {p.type} {p.flags} {p.label}\n".encode())
            if part.window is not None:
                _partition(part, hasher)
            elif not self._holds_others(p):
                hasher.update(b"behind the end")
        return hasher.digest()

    @cached_property
    def free(self) -> Stretches:
        """What holds nothing that anybody could want back: free room of sound volumes, and room that no partition has.

        Nothing of a medium whose map cannot be read; all of one that is blank wherever it was looked. Raises
        MediumError.
        """
        map_ = self.map
        if packed_in(self.blocks) is not None or map_ is None:
            return Stretches()
        if map_.kind == MapKind.NONE and has_blank_ends(self.blocks) and trace_between(self.blocks) is None:
            return Stretches.of([Extent(0, self.blocks.size)])
        inside = [e for part in self.parts for e in _free_of(part)]
        return Stretches.of(inside) | _between_partitions(map_, self.blocks.size)

    def _part(self, partition: Partition) -> Part:
        if self._holds_others(partition):
            return Part(partition)
        try:
            window = partition_window(self._view, partition)
        except MediumError:
            return Part(partition)
        try:
            volume = open_volume(window)
            return Part(partition, window, volume, volume.tree())
        except FormatError:
            return Part(partition, window)

    def _holds_others(self, partition: Partition) -> bool:
        return self.map is not None and self.map.kind == MapKind.MBR and is_extended(partition)


def fingerprint(blocks: Blocks) -> bytes:
    """BLAKE3 over what a medium is known by, 32 bytes. Raises MediumError."""
    return State(blocks).digest


def _free_of(part: Part) -> Iterator[Extent]:
    """Free blocks of a volume whose tables and files agree. Bytes of the medium.

    What no block of it covers, such as sectors behind the last cluster, is not free: no table says so.
    """
    if part.volume is None or part.tree is None or part.window is None:
        return
    try:
        if soundness(part.volume, part.tree).because:
            return
        used = Stretches.of(part.volume.used_extents())
    except FormatError:
        return
    free = used.without(min(part.volume.size, part.window.size))
    yield from free.cut_to_units(part.volume.block).moved(part.partition.start)


def _between_partitions(map: PartitionMap, size: int) -> Stretches:
    """Room that no partition has, behind the first one, and where none of the map's own records lie.

    What lies in front of the first partition is often boot code that no map names.
    """
    format = map_format(map.kind)
    if not format.is_written or not format.can_be_changed(map):
        return Stretches()
    free, in_front = Stretches(), min((p.start for p in map.partitions), default=IN_FRONT)
    for level in format.levels(map, size):
        first, end = max(level.first + level.own, in_front), min(level.end, size)
        free |= Stretches.of([Extent(first, max(0, end - first))]) - Stretches.of(
            Extent(start := front(map, p), p.end - start) for p in level.partitions)
    return free - Stretches.of(Extent(p.record, SECTOR) for p in map.partitions if p.record)


def known_by_its_file(blocks: Blocks) -> bytes:
    """Of a disk in a packed file, which would have to be unpacked for the rest: both ends of the file, and its times.

    What is written from it is compared with its checksums besides.
    """
    packed = packed_in(blocks)
    assert packed is not None, "only a packed disk is known by its file"
    file, member = packed.meter.inner, packed.packing.member
    edge = min(EDGE, file.size)
    hasher = blake3(f"{file.size} {member} {file.changed_at}\n".encode())
    hasher.update(file.read(0, edge))
    hasher.update(file.read(file.size - edge, edge))
    return hasher.digest()


def _partition(part: Part, hasher: blake3) -> None:
    assert part.window is not None, "it lies on the medium"
    volume = part.volume
    if volume is None or part.tree is None:
        _closed(part.window, hasher)
        return
    hasher.update(f"{volume.variant} {volume.id} {volume.label} {volume.size} {volume.block}\n".encode())
    hasher.update(b"\n".join(part.lines))
    _anchors(volume, part.window, part.tree.entries, hasher)


def _line_of(e: Entry) -> str:
    """All that a folder says of an entry, but for what reading alone changes."""
    return (f"{e.path}\t{e.kind}\t{e.size}\t{e.modified}\t{e.node}\t{e.target}\t{e.mode}\t{e.owner}\t{e.attributes}"
            f"\t{e.protection}\t{e.comment}\t{e.resource}")


def _anchors(volume: Volume, window: Window, entries: tuple[Entry, ...], hasher: blake3) -> None:
    """A sector in the middle of files that are spread over the tree."""
    files = [e for e in entries if e.kind == Kind.FILE and e.size]
    places = distinct(np.linspace(0, len(files) - 1, min(ANCHORS, len(files))).astype(int)).tolist() if files else []
    for entry in (files[k] for k in places):
        try:
            extents = volume.extents_of(entry)
        except FormatError:
            hasher.update(b"broken")
            continue
        if extents:
            middle = extents[len(extents) // 2]
            at = (middle.start + middle.length // 2) // SECTOR * SECTOR
            hasher.update(window.read(at, min(SECTOR, window.size - at)))


def _closed(blocks: Blocks, hasher: blake3) -> None:
    """Both ends and anchors of what cannot be opened."""
    edge = min(EDGE, blocks.size)
    hasher.update(blocks.read(0, edge))
    hasher.update(blocks.read(blocks.size - edge, edge))
    last = max(0, blocks.size - SECTOR) // SECTOR
    for sector in distinct(np.linspace(0, last, CLOSED_ANCHORS).astype(np.int64)).tolist():
        hasher.update(blocks.read(sector * SECTOR, min(SECTOR, blocks.size - sector * SECTOR)))
