"""Writes that are not on the card yet, by place; a later one covers an earlier one."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator

from mosscrate.core.blocks.base import Buffer

Piece = tuple[int, int, memoryview | None]       # start, end, bytes; None stands for zeros


class Held:
    """What a group of writes will put onto the card. Offsets and lengths in bytes."""

    def __init__(self) -> None:
        self._starts: list[int] = []
        self._pieces: list[Piece] = []
        self.bytes = 0                            # that are held in memory

    def __bool__(self) -> bool:
        return bool(self._pieces)

    def put(self, offset: int, data: Buffer) -> None:
        """Hold a copy of `data`, whatever stood there before."""
        self._insert(offset, offset + len(data), memoryview(bytes(data)))

    def put_zeros(self, offset: int, length: int) -> None:
        """Hold zeros, which take no room."""
        self._insert(offset, offset + length, None)

    def lay_over(self, offset: int, buffer: memoryview) -> None:
        """Put what is held over what was read from the card."""
        for start, end, data in self.within(offset, offset + len(buffer)):
            buffer[start - offset:end - offset] = bytes(end - start) if data is None else data

    def within(self, first: int, last: int) -> Iterator[Piece]:
        """The pieces between two places, cut to them, in order."""
        for at in range(max(0, bisect_right(self._starts, first) - 1), len(self._pieces)):
            start, end, data = self._pieces[at]
            if start >= last:
                return
            low, high = max(start, first), min(end, last)
            if low < high:
                yield low, high, None if data is None else data[low - start:high - start]

    def stretches(self, unit: int, size: int) -> Iterator[tuple[int, int]]:
        """(start, end) of what is held, in whole units, cut at `size`; neighbours are joined."""
        first = last = -1
        for start, end, _ in self._pieces:
            low, high = start // unit * unit, min(size, -(-end // unit) * unit)
            if low > last:
                if last > first:
                    yield first, last
                first = low
            last = max(last, high)
        if last > first:
            yield first, last

    def clear(self) -> None:
        """Nothing is held any more."""
        self._starts, self._pieces, self.bytes = [], [], 0

    def _insert(self, start: int, end: int, data: memoryview | None) -> None:
        if end <= start:
            return
        low = max(0, bisect_right(self._starts, start) - 1)
        if low < len(self._pieces) and self._pieces[low][1] <= start:
            low += 1
        high = low
        while high < len(self._pieces) and self._pieces[high][0] < end:
            high += 1
        fresh: list[Piece] = [(start, end, data)]
        for a, b, old in self._pieces[low:high]:
            self.bytes -= 0 if old is None else b - a
            if a < start:
                fresh.insert(0, (a, start, None if old is None else old[:start - a]))
            if b > end:
                fresh.append((end, b, None if old is None else old[end - a:]))
        self._pieces[low:high] = fresh
        self._starts[low:high] = [piece[0] for piece in fresh]
        self.bytes += sum(0 if d is None else b - a for a, b, d in fresh)
