"""One partition, seen as a medium of its own; and one with room behind it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from mosscrate.core.blocks.base import Blocks, Buffer, Extent, View


class Window(View):
    """`length` bytes of other blocks, from `start` on."""

    def __init__(self, inner: Blocks, start: int, length: int) -> None:
        super().__init__(inner)
        inner._within(start, length)
        self.start, self.size = start, length

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self._within(offset, length)
        self.inner.zero(self.start + offset, length)

    def forgo(self, extents: Sequence[Extent]) -> None:
        """See Blocks."""
        self.inner.forgo([Extent(e.start + self.start, e.length) for e in extents])

    def will_need(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.inner.will_need(self.start + offset, length)

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        for extent in self.inner.extents():
            first = max(extent.start, self.start)
            last = min(extent.end, self.start + self.size)
            if first < last:
                yield Extent(first - self.start, last - first, extent.is_hole)

    def close(self) -> None:
        """The medium behind it stays open; it belongs to whoever opened it."""

    def _read(self, offset: int, length: int) -> bytes:
        return self.inner.read(self.start + offset, length)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(self.start + offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        self.inner.write(self.start + offset, data)


class Longer(View):
    """Other blocks with zeros behind them, up to `size`; only to be read."""

    def __init__(self, inner: Blocks, size: int) -> None:
        super().__init__(inner)
        self.size, self.writable = max(size, inner.size), False

    def extents(self) -> Iterator[Extent]:
        """The zeros are a hole."""
        yield from self.inner.extents()
        if self.size > self.inner.size:
            yield Extent(self.inner.size, self.size - self.inner.size, is_hole=True)

    def close(self) -> None:
        """The blocks stay open; they belong to whoever opened them."""

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        there = max(0, min(len(buffer), self.inner.size - offset))
        if there:
            self.inner.read_into(offset, buffer[:there])
        buffer[there:] = bytes(len(buffer) - there)
