"""What is worth how much on a card: its structures, saves, settings, files, and room that holds nothing."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from enum import IntEnum

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import joined
from mosscrate.core.contents import Layout
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.volumes import Kind, open_volume

HEAD = 1 << 20                    # before the first partition: the map, boot code


class Class(IntEnum):
    """What a byte belongs to; where two claim it, the greater has it."""

    FREE = 0
    DOUBTFUL = 1                  # free as far as tables tell that could not all be read
    STRUCTURE = 2
    FILE = 3
    SETTING = 4
    SAVE = 5


WORTH = np.array([0.0, 0.05, 60.0, 1.0, 20.0, 100.0])          # of a byte, by class
_OF_KIND = {FileKind.SAVE: Class.SAVE, FileKind.SETTING: Class.SETTING}


@dataclass(frozen=True)
class Areas:
    """Stretches of a card in order, without gaps, each of one class.

    Attributes:
        edges: bytes at which they begin, and the card's size; shape (n + 1,).
        classes: shape (n,).
    """

    edges: NDArray[np.int64]
    classes: NDArray[np.uint8]
    _at: NDArray[np.float64] = field(init=False)
    _before: NDArray[np.float64] = field(init=False)       # worth up to each edge

    def __post_init__(self) -> None:
        worth = np.diff(self.edges) * WORTH[self.classes]
        object.__setattr__(self, "_at", self.edges.astype(np.float64))
        object.__setattr__(self, "_before", np.concatenate([[0.0], np.cumsum(worth)]))

    def worth(self, start: int, end: int) -> float:
        """Of a stretch."""
        return float(np.diff(np.interp([start, end], self._at, self._before))[0])

    def stretches(self, *, with_free: bool) -> Iterator[tuple[int, int, Class]]:
        """(start, end, class) of everything that is wanted."""
        for start, end, which in zip(self.edges[:-1].tolist(), self.edges[1:].tolist(), self.classes.tolist(),
                                     strict=True):
            if which != Class.FREE or with_free:
                yield start, end, Class(which)

    def shares(self, have: Runs) -> dict[Class, tuple[int, int]]:
        """For each class that there is: bytes that are in a set, and all of them."""
        known = np.zeros(len(self.classes), np.int64)
        runs = have.array
        if len(runs):
            before = np.concatenate([[0], np.cumsum(runs[:, 1] - runs[:, 0])])
            place = np.searchsorted(runs[:, 0], self.edges, "right")
            behind = np.where(place > 0, np.maximum(0, runs[np.maximum(0, place - 1), 1] - self.edges), 0)
            known = np.diff(before[place] - behind)
        lengths = np.diff(self.edges)
        return {which: (int(known[mine].sum()), int(lengths[mine].sum()))
                for which in Class if (mine := self.classes == which).any()}

    @property
    def digest(self) -> str:
        """Knows the same division again."""
        return blake3(self.edges.tobytes() + self.classes.tobytes()).hexdigest()


def areas_of(card: Blocks, layout: Layout | None, doubtful: Runs) -> Areas:
    """Divide a card by what is on it.

    Args:
        card: as far as it can be read; tables that cannot be are zeros.
        layout: of it; None where not even the map could be read.
        doubtful: what was asked for of its tables and could not be read.
    """
    if layout is None or not layout.partitions:
        return _painted(card, {Class.FILE: [Extent(0, card.size)]})
    paint: dict[Class, list[Extent]] = {which: [] for which in Class}
    paint[Class.STRUCTURE].append(Extent(0, min(HEAD, card.size, layout.partitions[0].partition.start or card.size)))
    view = straight(card)
    for look in layout.with_contents:
        _paint_partition(view, look, doubtful, paint)
    return _painted(card, paint)


def _paint_partition(view: Blocks, look: PartitionLook, doubtful: Runs, paint: dict[Class, list[Extent]]) -> None:
    start, end = look.partition.start, min(look.partition.end, view.size)
    try:
        volume = open_volume(partition_window(view, look.partition))
        paint[Class.STRUCTURE] += [Extent(start + e.start, e.length) for e in volume.used_extents()]
        entries = volume.tree().entries
    except (FormatError, MediumError):
        paint[Class.FILE].append(Extent(start, max(0, end - start)))
        return
    for entry in entries:
        with suppress(FormatError, MediumError):
            which = _OF_KIND.get(kind_of(entry), Class.FILE) if entry.kind == Kind.FILE else Class.STRUCTURE
            paint[which] += [Extent(start + e.start, e.length) for e in volume.extents_of(entry)]
    if any(True for _ in doubtful.within(start, end)):
        paint[Class.DOUBTFUL].append(Extent(start, end - start))


def _painted(card: Blocks, paint: dict[Class, list[Extent]]) -> Areas:
    """Where stretches overlap, the greater class is seen; in whole sectors."""
    unit, size = card.sector, card.size
    layers = {which: joined(Extent(e.start // unit * unit, -(-e.end // unit) * unit - e.start // unit * unit)
                            for e in extents if e.length) for which, extents in paint.items() if extents}
    cuts = [min(at, size) for extents in layers.values() for e in extents for at in (e.start, e.end)]
    edges = np.unique(np.array([0, size, *cuts], np.int64))
    classes = np.zeros(len(edges) - 1, np.uint8)
    for which in sorted(layers):
        starts = np.array([e.start for e in layers[which]], np.int64)
        ends = np.array([e.end for e in layers[which]], np.int64)
        place = np.searchsorted(starts, edges[:-1], "right") - 1
        classes[(place >= 0) & (edges[:-1] < ends[np.maximum(0, place)])] = which
    is_first = np.append(True, classes[1:] != classes[:-1])
    return Areas(np.append(edges[:-1][is_first], size), classes[is_first])
