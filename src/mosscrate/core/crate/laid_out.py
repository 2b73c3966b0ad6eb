"""Files that lie anywhere, laid out as volumes of a disk that nobody writes: what keeps a part of a card, or a device.

Only the tables of these volumes are made; where the contents of a file would lie, they are read from where it is. So a
part is kept, looked into, compared and put back by everything that does it with a whole card.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.blocks.runs import joined, with_holes
from mosscrate.core.blocks.sparse import Sparse
from mosscrate.core.contents.transfer import copy_tree, hollow, plan_passage
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, write_map
from mosscrate.core.sizes import MIB
from mosscrate.core.volumes import Entry, Kind, Making, edit, facts_of, format_for, open_volume
from mosscrate.core.watch import Watch

KIND, BLOCK = "ext4", 4096               # takes every name and date that any other kind has
INODE_ROOM = 16 << 10                    # bytes of a volume for each thing on it
SMALLEST = 16 * MIB
FIXED_ID = "6d6f7373-0000-4000-8000-000000000000"      # always the same, so that equal trees have equal tables


class Reader(Protocol):
    """What the contents of files are read from."""

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """`count` bytes of a file from byte `at` on. Raises MediumError, FormatError."""


@dataclass(frozen=True)
class Part:
    """Some files of a volume: its number, its label, what is kept (folders before what they hold), and their reader."""

    index: int
    label: str
    entries: Sequence[Entry]
    reader: Reader


@dataclass(frozen=True)
class _Stretch:
    """Where bytes of a file would lie on the disk, and from which byte of the file on."""

    start: int
    length: int
    logical: int
    entry: Entry
    reader: Reader


class LaidOut(Blocks):
    """The disk: its tables, and where bytes of files would lie between them."""

    def __init__(self, tables: Sparse, stretches: list[_Stretch]) -> None:
        super().__init__(tables.size, name=tables.name)
        self.tables = tables
        self.stretches = sorted(stretches, key=lambda stretch: stretch.start)
        self._starts = [stretch.start for stretch in self.stretches]

    def order(self) -> list[Entry]:
        """Files with contents, in the order in which they lie on the disk."""
        return list(dict.fromkeys(stretch.entry for stretch in self.stretches))

    def extents(self) -> Iterator[Extent]:
        """What tables and files take; holes between."""
        held = joined([*(e for e in self.tables.extents() if not e.is_hole),
                       *(Extent(s.start, s.length) for s in self.stretches)])
        return with_holes(((each.start, each.end) for each in held), self.size)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.tables.read_into(offset, buffer)
        number = max(0, bisect_right(self._starts, offset) - 1)
        for stretch in self.stretches[number:]:
            first, last = max(offset, stretch.start), min(offset + len(buffer), stretch.start + stretch.length)
            if stretch.start >= offset + len(buffer):
                break
            if first < last:
                data = stretch.reader.read_at(stretch.entry, stretch.logical + first - stretch.start, last - first)
                buffer[first - offset:first - offset + len(data)] = data


def lay_out(parts: Sequence[Part], name: str, watch: Watch) -> LaidOut:
    """A disk on which some files lie. Raises FitError where a name or size cannot stand on it, Stopped."""
    lengths = [_length_for(part.entries) for part in parts]
    tables = Sparse(sum(lengths) + (2 + max(part.index for part in parts)) * MIB, name=name)
    map_ = _map_of(tables, [part.index for part in parts], lengths)
    found = list[_Stretch]()
    for part in parts:
        seat = map_.partition(part.index)
        window = Window(tables, seat.start, seat.length)
        format_for(KIND).make(window, Making(KIND, part.label[:16], BLOCK, id=FIXED_ID, made=_newest(part.entries)))
        found += _filled(window, part, seat.start, watch)
    return LaidOut(tables, found)


def _filled(window: Window, part: Part, start: int, watch: Watch) -> Iterator[_Stretch]:
    facts = facts_of(KIND)
    assert facts is not None, "it is one of ours"
    passage = plan_passage(part.entries, facts)
    editor = edit(window)
    copy_tree(hollow, part.entries, editor, passage, watch)
    editor.commit()
    came_from = {passage.path(entry): entry for entry in part.entries}
    volume = open_volume(window)
    for entry in volume.tree().entries:
        if entry.kind == Kind.FILE:
            own = came_from[entry.path]
            for row in volume.pieces_of(entry).tolist():
                yield _Stretch(start + row[1], row[2], row[0], own, part.reader)


def _map_of(tables: Sparse, indices: list[int], lengths: list[int]) -> PartitionMap:
    """The disk's map, written; numbers of partitions as they are on the card."""
    if indices == [0]:
        return PartitionMap(MapKind.NONE, "", (Partition(0, 0, tables.size),))
    map_ = edits.new_map(MapKind.GPT, tables.size, tables.sector)
    wanted, start = dict(zip(indices, lengths, strict=True)), MIB
    for index in range(1, max(indices) + 1):             # numbers are given in order, those not wanted too
        length = wanted.get(index, MIB)
        map_, _ = edits.added(map_, tables.size, start=start, length=length, kind=KIND, alignment=MIB)
        start += length
    for index in set(range(1, max(indices))) - set(wanted):
        map_ = edits.removed(map_, index)
    write_map(tables, map_)
    return map_


def _length_for(entries: Sequence[Entry]) -> int:
    data = sum(-(-entry.size // BLOCK) * BLOCK for entry in entries)
    needed = data + data // 64 + len(entries) * INODE_ROOM
    return max(SMALLEST, -(-(needed + needed // 16 + SMALLEST // 2) // MIB) * MIB)


def _newest(entries: Sequence[Entry]) -> int:
    return max((entry.modified or 0 for entry in entries), default=0)
