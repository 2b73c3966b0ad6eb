"""A medium that lives in memory: for small images and for tests."""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks.base import SECTOR, Blocks, Buffer, Extent


class MemoryBlocks(Blocks):
    """Blocks over a bytearray."""

    def __init__(self, data: Buffer, *, sector: int = SECTOR, name: str = "memory") -> None:
        super().__init__(len(data), sector=sector, writable=True, name=name)
        self.data = bytearray(data)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        buffer[:] = memoryview(self.data)[offset:offset + len(buffer)]

    def _write(self, offset: int, data: Buffer) -> None:
        self.data[offset:offset + len(data)] = data


class Nothing(Blocks):
    """Zeros of any size, which take no room: what a fresh volume is tried out on, below an overlay."""

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        buffer[:] = bytes(len(buffer))

    def extents(self) -> Iterator[Extent]:
        """One hole."""
        yield Extent(0, self.size, is_hole=True)
