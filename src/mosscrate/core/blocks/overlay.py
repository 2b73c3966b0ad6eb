"""Copy-on-write: changes go to a scratch file, the medium behind stays as it is."""

from __future__ import annotations

import os
import tempfile
import weakref
from collections.abc import Iterator, Sequence

import numpy as np

from mosscrate.core.blocks.base import Blocks, Buffer, Extent, View

PAGE = 64 << 10
_BASE, _CHANGED, _ZERO = range(3)      # where a page is found


class Overlay(View):
    """A writable view; `changed_bytes` says how much was written into it."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self.writable = True
        self._pages = np.zeros(-(-inner.size // PAGE), np.uint8)
        self._scratch = tempfile.TemporaryFile(prefix="mosscrate-rehearsal-")  # noqa: SIM115 - closed by `close`
        weakref.finalize(self, self._scratch.close)       # or once nobody knows the view any more

    @property
    def changed_bytes(self) -> int:
        """Bytes held in the scratch file."""
        return int((self._pages == _CHANGED).sum()) * PAGE

    def changes(self) -> Iterator[Extent]:
        """The stretches that differ from the medium behind; holes are zeros."""
        for state, start, length in self._runs(0, self.size):
            if state != _BASE:
                yield Extent(start, length, is_hole=state == _ZERO)

    def zero(self, offset: int, length: int) -> None:
        """Whole pages are only marked; what sticks out at both ends is written."""
        self._within(offset, length)
        first, last = -(-offset // PAGE), (offset + length) // PAGE
        if offset + length == self.size:
            last = len(self._pages)
        if first >= last:
            self.write(offset, bytes(length))
            return
        self.write(offset, bytes(first * PAGE - offset))
        if last * PAGE < offset + length:
            self.write(last * PAGE, bytes(offset + length - last * PAGE))
        self._pages[first:last] = _ZERO

    def extents(self) -> Iterator[Extent]:
        """Zeroed pages as holes, changed ones as data, the rest as the medium behind says."""
        for state, start, length in self._runs(0, self.size):
            if state == _BASE:
                for extent in self.inner.extents():
                    first, last = max(extent.start, start), min(extent.end, start + length)
                    if first < last:
                        yield Extent(first, last - first, extent.is_hole)
            else:
                yield Extent(start, length, is_hole=state == _ZERO)

    def forgo(self, extents: Sequence[Extent]) -> None:
        """What lies behind the view may still be wanted."""

    def flush(self) -> None:
        """Nothing needs to last."""

    def __enter__(self) -> Overlay:
        return self

    def close(self) -> None:
        """Drop every change; the medium behind stays open."""
        self._scratch.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        for state, start, length in self._runs(offset, len(buffer)):
            part = buffer[start - offset:start - offset + length]
            if state == _BASE:
                self.inner.read_into(start, part)
            elif state == _ZERO:
                np.frombuffer(part, np.uint8)[:] = 0
            else:
                os.preadv(self._scratch.fileno(), [part], start)

    def _write(self, offset: int, data: Buffer) -> None:
        first, last = offset // PAGE, -(-(offset + len(data)) // PAGE)
        for page in {first, last - 1}:
            self._own(page, offset, offset + len(data))
        view, at = memoryview(data), offset
        while len(view):
            count = os.pwrite(self._scratch.fileno(), view, at)
            view, at = view[count:], at + count
        self._pages[first:last] = _CHANGED

    def _own(self, page: int, start: int, end: int) -> None:
        """Bring a page that will only partly be overwritten into the scratch file."""
        base = page * PAGE
        length = min(PAGE, self.size - base)
        if self._pages[page] != _CHANGED and (start > base or end < base + length):
            content = bytes(length) if self._pages[page] == _ZERO else self.inner.read(base, length)
            os.pwrite(self._scratch.fileno(), content, base)

    def _runs(self, offset: int, length: int) -> Iterator[tuple[int, int, int]]:
        """(state, start, length in bytes) of the runs of equal pages that cover a range."""
        first, last = offset // PAGE, -(-(offset + length) // PAGE)
        states = self._pages[first:last]
        cuts = np.flatnonzero(np.diff(states)) + 1
        for begin, end in zip([0, *cuts.tolist()], [*cuts.tolist(), len(states)], strict=True):
            start = max(offset, (first + begin) * PAGE)
            stop = min(offset + length, (first + end) * PAGE)
            if start < stop:
                yield int(states[begin]), start, stop - start
