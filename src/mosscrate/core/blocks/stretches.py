"""Sets of bytes of a medium, as runs: which are free, which were let go, which were saved."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.base import Extent

Rows = NDArray[np.int64]


@dataclass(frozen=True)
class Stretches:
    """Runs of bytes; `rows` has shape (n, 2): start and end, in order, none touching the next."""

    rows: Rows = field(default_factory=lambda: np.zeros((0, 2), np.int64))

    @staticmethod
    def of(extents: Iterable[Extent]) -> Stretches:
        """Those of extents, which may overlap and come in any order."""
        return Stretches(_merged(np.array([(e.start, e.end) for e in extents], np.int64).reshape(-1, 2)))

    def __bool__(self) -> bool:
        return bool(len(self.rows))

    def __len__(self) -> int:
        return len(self.rows)

    def __iter__(self) -> Iterator[Extent]:
        for start, end in self.rows.tolist():
            yield Extent(start, end - start)

    def __or__(self, other: Stretches) -> Stretches:
        return Stretches(_merged(np.concatenate((self.rows, other.rows)))) if self and other else self or other

    def __and__(self, other: Stretches) -> Stretches:
        if not (self and other):
            return Stretches()
        firsts = np.searchsorted(other.rows[:, 1], self.rows[:, 0], "right")
        counts = np.searchsorted(other.rows[:, 0], self.rows[:, 1], "left") - firsts
        mine = np.repeat(np.arange(len(self.rows)), counts)
        theirs = np.arange(len(mine)) - np.repeat(np.cumsum(counts) - counts, counts) + np.repeat(firsts, counts)
        rows = np.stack((np.maximum(self.rows[mine, 0], other.rows[theirs, 0]),
                         np.minimum(self.rows[mine, 1], other.rows[theirs, 1])), axis=1)
        return Stretches(rows)

    def __sub__(self, other: Stretches) -> Stretches:
        if not (self and other):
            return self
        edges = np.concatenate(([self.rows[0, 0]], other.rows.reshape(-1), [self.rows[-1, 1]]))
        between = edges.reshape(-1, 2)
        return self & Stretches(between[between[:, 0] < between[:, 1]])

    @property
    def bytes(self) -> int:
        """How many there are."""
        return int((self.rows[:, 1] - self.rows[:, 0]).sum())

    def whole(self, unit: int, size: int) -> Stretches:
        """The whole units in them, each run for itself; one that ends with the medium of `size` bytes keeps its end."""
        starts, ends = -(-self.rows[:, 0] // unit) * unit, self.rows[:, 1] // unit * unit
        rows = np.stack((starts, np.where(self.rows[:, 1] == size, size, ends)), axis=1)
        return Stretches(rows[rows[:, 0] < rows[:, 1]])

    def units_of(self, unit: int, size: int) -> Stretches:
        """Every unit that they touch."""
        rows = np.stack((self.rows[:, 0] // unit * unit, np.minimum(size, -(-self.rows[:, 1] // unit) * unit)), axis=1)
        return Stretches(_merged(rows))

    def cut_to_units(self, unit: int) -> Stretches:
        """As many whole units of each as there are, counted from its start."""
        ends = self.rows[:, 1] - (self.rows[:, 1] - self.rows[:, 0]) % unit
        return Stretches(_merged(np.stack((self.rows[:, 0], ends), axis=1)))

    def moved(self, by: int) -> Stretches:
        """Each so many bytes further on."""
        return Stretches(self.rows + by)

    def without(self, size: int) -> Stretches:
        """What a medium of `size` bytes has besides them."""
        return Stretches(np.array([[0, size]], np.int64)) - self if size else Stretches()

    def holds(self, start: int, end: int) -> bool:
        """Whether all bytes of a stretch are among them."""
        at = int(np.searchsorted(self.rows[:, 1], start, "right"))
        return start >= end or (at < len(self.rows) and self.rows[at, 0] <= start and end <= self.rows[at, 1])

    def cut(self, start: int, end: int) -> Iterator[tuple[int, int, bool]]:
        """(start, end, whether it is among them) of the parts of a stretch."""
        at = start
        first = int(np.searchsorted(self.rows[:, 1], start, "right"))
        last = int(np.searchsorted(self.rows[:, 0], end, "left"))
        for low, high in self.rows[first:last].tolist():
            low, high = max(low, start), min(high, end)
            if at < low:
                yield at, low, False
            yield low, high, True
            at = high
        if at < end:
            yield at, end, False


def _merged(rows: Rows) -> Rows:
    rows = rows[rows[:, 0] < rows[:, 1]]
    if not len(rows):
        return rows
    rows = rows[np.argsort(rows[:, 0], kind="stable")]
    reach = np.maximum.accumulate(rows[:, 1])
    first = np.flatnonzero(np.append(True, rows[1:, 0] > reach[:-1]))
    return np.stack((rows[first, 0], reach[np.append(first[1:], len(rows)) - 1]), axis=1)
