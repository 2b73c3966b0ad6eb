"""From a card to its tape: what is in use, cut at the borders of files, so that equal files are equal chunks.

Contents of files lie in file order, each cut from its own start; everything else in use lies by place, on a grid that
begins with its partition. Free room and the slack behind a file's end are left out.
"""

from __future__ import annotations

from collections.abc import Iterator
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

    Volumes that contradict themselves or cannot be opened are taken whole.
    """
    try:
        view = straight(card)
    except MediumError:
        return _tape(card, [])                            # not even its beginning can be read
    shares = list(_shares(view, None if every_byte or view.container == SWAPPED else layout, opened))
    tape = _tape(card, shares)
    return tape if tape.is_disjoint else _tape(card, [])


def _tape(card: Blocks, shares: list[_Share]) -> Tape:
    """Everything that is in use, by what opened volumes say of their part of it."""
    tape = Tape()
    taken = _joined([run for share in shares for run in share.inside])
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


class _Share:
    """What one opened volume adds: its tables by place, its files in order."""

    def __init__(self, look: PartitionLook, volume: Volume, tree: Tree, view: Blocks) -> None:
        self.look, self.start = look, look.partition.start
        size = min(volume.size, look.partition.length, view.size - self.start)
        self.inside = [(self.start, self.start + size)]
        used = _joined([(self.start + e.start, min(self.start + e.end, self.start + size))
                        for e in volume.used_extents()])
        found = []
        for entry in tree.entries:
            if entry.kind == Kind.FILE:
                rows = volume.pieces_of(entry)
                pieces = list(zip((rows["place"] + self.start).tolist(), rows["length"].tolist(), strict=True))
                found.append((entry, pieces))
        self.files = sorted(found, key=lambda each: each[1][0][0] if each[1] else 0)
        covered = [(at, at + count) for _, pieces in self.files for at, count in pieces]
        covered += [run for entry, pieces in self.files for run in self._slack(volume, entry, pieces)]
        self.tables = without(used, _joined(covered))

    def _slack(self, volume: Volume, entry: Entry, pieces: list[tuple[int, int]]) -> list[tuple[int, int]]:
        """Room of a file that is not its contents, where a file system has such room."""
        if volume.kind not in WITH_SLACK:
            return []
        is_exfat = volume.kind == "exfat"                                     # what was never written has room too
        runs = [(self.start + e.start, e.length) for e in volume.extents_of(entry)] if is_exfat else pieces
        if not runs or (volume.kind.startswith("ext") and (runs[-1][0] - self.start) % volume.block):
            return []                                                         # it stands in an inode
        at, count = runs[-1]
        whole = [(start, start + length) for start, length in runs] if is_exfat else []
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


def _shares(view: Blocks, layout: Layout | None, opened: Opened) -> Iterator[_Share]:
    """Of every volume that was gone through to its last file, and whose tables can be believed."""
    for look in layout.with_contents if layout is not None else ():
        if look.index in opened.volumes and look.volume is not None and not look.volume.unsound:
            with suppress(FormatError, MediumError):
                yield _Share(look, *opened.volumes[look.index], view)


def role_of(entry: Entry) -> int:
    """The kind of a file as a number: in the order of FileKind."""
    return _ROLES[kind_of(entry)]
