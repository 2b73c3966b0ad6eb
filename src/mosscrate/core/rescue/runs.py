"""A growing set of bytes of a card, kept as runs that never touch one another."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray


class Runs:
    """Sorted runs [start, end) in bytes."""

    def __init__(self, pairs: Iterable[tuple[int, int]] = ()) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        for start, end in pairs:
            self.add(start, end)

    def __iter__(self) -> Iterator[tuple[int, int]]:
        return zip(self._starts, self._ends, strict=True)

    def __len__(self) -> int:
        return len(self._starts)

    def __contains__(self, at: int) -> bool:
        place = bisect_right(self._starts, at) - 1
        return place >= 0 and at < self._ends[place]

    def add(self, start: int, end: int) -> None:
        """Add a run; those that it touches become one with it."""
        first, last = bisect_left(self._ends, start), bisect_right(self._starts, end)
        if first < last:
            start, end = min(start, self._starts[first]), max(end, self._ends[last - 1])
        self._starts[first:last], self._ends[first:last] = [start], [end]

    def remove(self, start: int, end: int) -> None:
        """Take a run out, wherever it is in."""
        first, last = bisect_right(self._ends, start), bisect_left(self._starts, end)
        if first >= last:
            return
        kept = [(s, e) for s, e in ((self._starts[first], start), (end, self._ends[last - 1])) if s < e]
        self._starts[first:last], self._ends[first:last] = [s for s, _ in kept], [e for _, e in kept]

    def within(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        """The parts of a stretch that are in the set."""
        place = bisect_right(self._ends, start)
        while place < len(self._starts) and self._starts[place] < end:
            yield max(start, self._starts[place]), min(end, self._ends[place])
            place += 1

    def missing(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        """The parts of a stretch that are not in the set."""
        at = start
        for begin, stop in self.within(start, end):
            if at < begin:
                yield at, begin
            at = stop
        if at < end:
            yield at, end

    @property
    def total(self) -> int:
        """Bytes in the set."""
        return sum(self._ends) - sum(self._starts)

    @property
    def array(self) -> NDArray[np.int64]:
        """The runs as rows of (start, end)."""
        return np.array([self._starts, self._ends], np.int64).T
