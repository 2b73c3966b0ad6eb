"""From a card to its tape: what is in use, cut at the borders of files, so that equal files are equal chunks.

Contents of files lie in file order, each cut from its own start; everything else in use lies by place, on a grid that
begins with its partition. Free room and the slack behind a file's end are left out.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import Layout
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.straight import SWAPPED, straight
from mosscrate.core.contents.survey import Opened
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images.kept.frames import LONGEST_CHUNK
from mosscrate.core.volumes import Entry, Kind, Tree, Volume

GRID = 256 << 10                         # of what no file covers
COARSE = LONGEST_CHUNK                   # of what cannot be opened
WITH_SLACK = ("fat12", "fat16", "fat32", "exfat", "ext2", "ext3", "ext4")      # a file has its last block to itself
_ROLES = {kind: number for number, kind in enumerate(FileKind)}
Runs = NDArray[np.int64]                 # shape (n, 2): start, end
Place = tuple[int, int]                  # byte of the card, length


@dataclass(frozen=True)
class TapedFile:
    """A file with its contents on the tape; `sparse` where it is longer than these."""

    volume: int
    entry: Entry
    tape: int
    length: int


@dataclass
class Tape:
    """What a backup is read from.

    Attributes:
        places: (byte of the card, length) in tape order.
        cuts: bytes of the tape at which chunks begin.
        files: on it.
        size: bytes.
    """

    places: list[tuple[int, int]] = field(default_factory=list)
    cuts: list[int] = field(default_factory=list)
    files: list[TapedFile] = field(default_factory=list)
    size: int = 0

    @property
    def is_disjoint(self) -> bool:
        """Whether no byte of the card is on it twice."""
        places = np.array(sorted(self.places), np.int64).reshape(-1, 2)
        return bool((places[1:, 0] >= (places[:, 0] + places[:, 1])[:-1]).all())

    def add(self, pieces: list[tuple[int, int]], step: int, first: int = 0) -> None:
        """Bytes that belong together, cut every `step`; the first cut comes after `first` bytes, 0 for a whole step."""
        length = sum(count for _, count in pieces)
        if not length:
            return
        self.places += pieces
        begin = self.size + (first or step)
        self.cuts += [self.size, *range(begin, self.size + length, step)]
        self.size += length


def tape_of(card: Blocks, layout: Layout | None, opened: Opened, *, every_byte: bool = False) -> Tape:
    """Lay out what is in use on a card, by what its survey opened.

    Volumes that contradict themselves are taken whole, with the files that can be followed; others whole by place.
    """
    try:
        view = straight(card)
    except MediumError:
        return _tape(card, [])                            # not even its beginning can be read
    believed = None if view.container == SWAPPED else layout
    for whole in (every_byte, True):                      # files may lie over one another, though nobody checks that
        tape = _tape(card, list(_shares(view, believed, opened, every_byte=whole)))
        if tape.is_disjoint:
            return tape
    return _tape(card, [])                                # partitions do


def _tape(card: Blocks, shares: list[_Share]) -> Tape:
    """Everything that is in use, by what opened volumes say of their part of it."""
    tape = Tape()
    taken = _joined([(share.start, share.end) for share in shares])
    holes = _joined([(e.start, e.end) for e in card.extents() if e.is_hole])
    outside = without(np.array([[0, card.size]], np.int64), taken)
    for start, end in without(outside, holes).tolist():
        _by_place(tape, start, end, COARSE, 0)
    for share in shares:
        for start, end in without(share.tables, holes).tolist():
            _by_place(tape, start, end, GRID, share.start)
    for share in shares:
        seen: dict[tuple[tuple[int, int], ...], int] = {}
        for entry, pieces in share.files:
            at = seen.setdefault(tuple(pieces), tape.size)               # a second name of the same file
            tape.files.append(TapedFile(share.look.index, entry, at, sum(n for _, n in pieces)))
            if at == tape.size:
                tape.add(pieces, LONGEST_CHUNK)
    return tape


@dataclass(frozen=True)
class _Share:
    """What one opened volume adds: its files in order, everything else of it by place.

    Attributes:
        look: its partition.
        start: byte of the card at which it begins.
        end: behind its last byte.
        files: with their pieces, as (byte of the card, length).
        tables: what else is taken.
    """

    look: PartitionLook
    start: int
    end: int
    files: list[tuple[Entry, list[Place]]]
    tables: Runs


def _in_use(look: PartitionLook, volume: Volume, tree: Tree, view: Blocks) -> _Share:
    """Of a volume whose tables can be believed, what is in use. Raises FormatError, MediumError."""
    start = look.partition.start
    end = start + min(volume.size, look.partition.length, view.size - start)
    used = _joined([(start + e.start, min(start + e.end, end)) for e in volume.used_extents()])
    files = [(entry, _pieces(volume, entry, start)) for entry in tree.entries if entry.kind == Kind.FILE]
    covered = [(at, at + count) for _, pieces in files for at, count in pieces]
    covered += [run for entry, pieces in files for run in _slack(volume, start, entry, pieces)]
    return _Share(look, start, end, _by_first(files), without(used, _joined(covered)))


def _every_byte(look: PartitionLook, volume: Volume, tree: Tree, view: Blocks) -> _Share:
    """All of a partition; of its files those that can be followed and share no byte with another one."""
    start, end = look.partition.start, min(look.partition.end, view.size)
    files = list[tuple[Entry, list[Place]]]()
    for entry in tree.entries:
        with suppress(FormatError, MediumError):
            if entry.kind == Kind.FILE:
                files.append((entry, _pieces(volume, entry, start)))
    files = _apart(files, start, end)
    covered = _joined([(at, at + count) for _, pieces in files for at, count in pieces])
    return _Share(look, start, end, _by_first(files), without(np.array([[start, end]], np.int64), covered))


def _pieces(volume: Volume, entry: Entry, start: int) -> list[Place]:
    rows = volume.pieces_of(entry)
    return list(zip((rows["place"] + start).tolist(), rows["length"].tolist(), strict=True))


def _by_first(files: list[tuple[Entry, list[Place]]]) -> list[tuple[Entry, list[Place]]]:
    return sorted(files, key=lambda each: each[1][0][0] if each[1] else 0)


def _apart(files: list[tuple[Entry, list[Place]]], start: int, end: int) -> list[tuple[Entry, list[Place]]]:
    """Files within a stretch of the card of which no two share a byte; names of one and the same file count once."""
    while True:
        owners = {tuple(pieces): number for number, (_, pieces) in enumerate(files)}
        rows = np.array([(at, at + count, number) for pieces, number in owners.items() for at, count in pieces],
                        np.int64).reshape(-1, 3)
        rows = rows[np.argsort(rows[:, 0], kind="stable")]
        reach = np.maximum.accumulate(rows[:, 1]) if len(rows) else rows[:, 1]
        wrong = (rows[:, 0] < start) | (rows[:, 1] > end) | (rows[:, 0] < np.append(start, reach[:-1])[:len(rows)])
        if not wrong.any():
            return files
        out = {tuple(files[number][1]) for number in np.unique(rows[wrong, 2]).tolist()}
        files = [(entry, pieces) for entry, pieces in files if tuple(pieces) not in out]


def _slack(volume: Volume, start: int, entry: Entry, pieces: list[Place]) -> list[tuple[int, int]]:
    """Room of a file that is not its contents, where a file system has such room."""
    if volume.kind not in WITH_SLACK:
        return []
    is_exfat = volume.kind == "exfat"                                     # what was never written has room too
    runs = [(start + e.start, e.length) for e in volume.extents_of(entry)] if is_exfat else pieces
    if not runs or (volume.kind.startswith("ext") and (runs[-1][0] - start) % volume.block):
        return []                                                         # it stands in an inode
    at, count = runs[-1]
    whole = [(at, at + length) for at, length in runs] if is_exfat else []
    return [*whole, (at + count, at + count + -count % volume.block)]


def without(runs: Runs, others: Runs) -> Runs:
    """Runs without what others cover; both in order and apart."""
    if not len(runs) or not len(others):
        return runs
    edges = np.unique(np.concatenate([runs.reshape(-1), others.reshape(-1)]))
    starts, ends = edges[:-1], edges[1:]
    keep = _covers(runs, starts) & ~_covers(others, starts)
    return _joined_array(np.stack([starts[keep], ends[keep]], axis=1))


def _covers(runs: Runs, at: NDArray[np.int64]) -> NDArray[np.bool_]:
    place = np.searchsorted(runs[:, 0], at, "right") - 1
    covered: NDArray[np.bool_] = (place >= 0) & (at < runs[np.maximum(0, place), 1])
    return covered


def _joined(pairs: list[tuple[int, int]]) -> Runs:
    return _joined_array(np.array(sorted(p for p in pairs if p[0] < p[1]), np.int64).reshape(-1, 2))


def _joined_array(runs: Runs) -> Runs:
    """In order; those that touch or overlap as one."""
    if not len(runs):
        return runs
    reach = np.maximum.accumulate(runs[:, 1])
    is_first = np.append(True, runs[1:, 0] > reach[:-1])
    last = np.append(np.flatnonzero(is_first)[1:] - 1, len(runs) - 1)
    return np.stack([runs[is_first, 0], reach[last]], axis=1)


def _by_place(tape: Tape, start: int, end: int, step: int, origin: int) -> None:
    """A stretch, cut where a grid that begins at `origin` has its lines."""
    ahead = step - (start - origin) % step
    tape.add([(start, end - start)], step, ahead if ahead < step else 0)


def _shares(view: Blocks, layout: Layout | None, opened: Opened, *, every_byte: bool) -> Iterator[_Share]:
    """Of every volume that was gone through to its last file; whole where it cannot be believed or followed."""
    for look in layout.with_contents if layout is not None else ():
        if look.index in opened.volumes and look.volume is not None:
            volume, tree = opened.volumes[look.index]
            share = None if every_byte or look.volume.unsound else _tried(_in_use, look, volume, tree, view)
            share = share or _tried(_every_byte, look, volume, tree, view)
            if share is not None:
                yield share


def _tried(way: Callable[[PartitionLook, Volume, Tree, Blocks], _Share], look: PartitionLook, volume: Volume,
           tree: Tree, view: Blocks) -> _Share | None:
    with suppress(FormatError, MediumError):
        return way(look, volume, tree, view)
    return None


def role_of(entry: Entry) -> int:
    """The kind of a file as a number: in the order of FileKind."""
    return _ROLES[kind_of(entry)]
