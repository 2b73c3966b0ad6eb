"""Streaming a file's bytes into the stretches that were allocated for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.volumes.base import Data

SMALL, MOST_HELD = 64 << 10, 1 << 20


def pieces_of(data: Data, size: int | None) -> tuple[Iterator[bytes], int]:
    """The data in pieces, and how long the file becomes."""
    if isinstance(data, bytes):
        return iter((data,)), max(size or 0, len(data))
    return iter(data), size or 0


class Gathering(View):
    """Joins writes that follow one another, as those of small files do, until `settle`."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self._at, self._held = 0, bytearray()

    def settle(self) -> None:
        """Write what is held. Raises MediumError."""
        if self._held:
            held, self._held = self._held, bytearray()
            self.inner.write(self._at, held)

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        if length <= SMALL:
            self.write(offset, bytes(length))
            return
        self.settle()
        self.inner.zero(offset, length)

    def _write(self, offset: int, data: Buffer) -> None:
        if offset != self._at + len(self._held) or len(self._held) + len(data) > MOST_HELD:
            self.settle()
        if len(data) >= MOST_HELD:
            self.inner.write(offset, data)
            return
        if not self._held:
            self._at = offset
        self._held += data


def fill(blocks: Blocks, extents: Iterable[Extent], pieces: Iterator[bytes], size: int, unit: int) -> None:
    """Write at most `size` bytes of the pieces into the extents; what they do not fill becomes zeros.

    Every write but the last of a piece ends on a multiple of `unit` bytes. Raises MediumError.
    """
    rest, left = memoryview(b""), size
    for extent in extents:
        at = extent.start
        while at < extent.end:
            if not rest:
                rest = memoryview(next(pieces, b""))[:left]
            if not rest:
                blocks.zero(at, extent.end - at)
                break
            part = rest[:extent.end - at]
            rest, left = rest[len(part):], left - len(part)
            if left == 0 and len(part) % unit:
                part = memoryview(bytes(part).ljust(-(-len(part) // unit) * unit, b"\0"))[:extent.end - at]
            blocks.write(at, part)
            at += len(part)
