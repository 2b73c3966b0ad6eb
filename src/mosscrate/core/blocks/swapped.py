"""The two bytes of every 16-bit word exchanged: how some adapters put a drive onto a card."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks.base import Blocks, Buffer, View


class SwappedBlocks(View):
    """Shows a medium as the machine behind its adapter sees it; reads and writes both."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self.size = inner.size // 2 * 2
        self.container = "swapped"

    @property
    def has_end(self) -> bool:
        """See Blocks."""
        return self.inner.has_end

    def read_some(self, offset: int, buffer: memoryview) -> int:
        """See Blocks; whole words from the beginning of one."""
        count = self.inner.read_some(offset, buffer[:len(buffer) // 2 * 2])
        while count % 2 and (rest := self.inner.read_some(offset + count, buffer[count:count + 1])):
            count += rest
        count = count // 2 * 2
        np.frombuffer(buffer[:count], "<u2").byteswap(inplace=True)
        self.size = self.inner.size // 2 * 2
        return count

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        first, last = offset // 2 * 2, -(-(offset + len(buffer)) // 2) * 2
        if (first, last - first) == (offset, len(buffer)):
            self.inner.read_into(offset, buffer)
            np.frombuffer(buffer, "<u2").byteswap(inplace=True)
            return
        data = swapped(self.inner.read(first, last - first))
        buffer[:] = data[offset - first:offset - first + len(buffer)]

    def _write(self, offset: int, data: Buffer) -> None:
        first, last = offset // 2 * 2, -(-(offset + len(data)) // 2) * 2
        if (first, last) != (offset, offset + len(data)):
            whole = bytearray(swapped(self.inner.read(first, last - first)))
            whole[offset - first:offset - first + len(data)] = data
            data = whole
        self.inner.write(first, swapped(data))


def swapped(data: Buffer) -> bytes:
    """Bytes with neighbours exchanged; the length is even."""
    return np.frombuffer(data, "<u2").byteswap().tobytes()
