"""Other blocks of which some stretches read as zeros."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence

from mosscrate.core.blocks.base import Blocks, Extent, View


class Blanked(View):
    """A view for reading; `blanks` are stretches that read as zeros, in order and apart from one another."""

    def __init__(self, inner: Blocks, blanks: Sequence[Extent]) -> None:
        super().__init__(inner)
        self.writable = False
        self._starts = [extent.start for extent in blanks]
        self._ends = [extent.end for extent in blanks]

    def extents(self) -> Iterator[Extent]:
        """See Blocks: the blanks are holes."""
        for extent in self.inner.extents():
            at, number = extent.start, bisect_right(self._ends, extent.start)
            while not extent.is_hole and number < len(self._starts) and self._starts[number] < extent.end:
                start, end = max(at, self._starts[number]), min(extent.end, self._ends[number])
                if start > at:
                    yield Extent(at, start - at)
                yield Extent(start, end - start, is_hole=True)
                at, number = end, number + 1
            if at < extent.end:
                yield Extent(at, extent.end - at, extent.is_hole)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        number, end = bisect_right(self._ends, offset), offset + len(buffer)
        while number < len(self._starts) and self._starts[number] < end:
            start, stop = max(offset, self._starts[number]), min(end, self._ends[number])
            buffer[start - offset:stop - offset] = bytes(stop - start)
            number += 1
