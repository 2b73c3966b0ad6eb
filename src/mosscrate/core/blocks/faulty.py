"""A card with faults: bad sectors, a false size, or somebody's hand that pulls it."""

from __future__ import annotations

from dataclasses import dataclass, field

from mosscrate.core.blocks.base import Blocks, Buffer, Extent, View
from mosscrate.core.errors import MediumError


@dataclass(frozen=True)
class Faults:
    """What is wrong with a card. Bytes from its start."""

    unreadable: tuple[Extent, ...] = field(default=())
    real_size: int | None = None          # writes above it are dropped
    pulled_after_writes: int | None = None


class FaultyBlocks(View):
    """Blocks that misbehave as told; counts what was written."""

    def __init__(self, inner: Blocks, faults: Faults) -> None:
        super().__init__(inner)
        self.faults = faults
        self.writes = 0

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self._count(offset)
        if held := self._held(offset, length):
            super().zero(offset, held)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self._present(offset)
        for bad in self.faults.unreadable:
            if offset < bad.end and bad.start < offset + len(buffer):
                raise MediumError(f"{self.name} cannot be read at byte {max(offset, bad.start)}: "
                                  "the medium reports an error there.", max(offset, bad.start))
        super()._read_into(offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        self._count(offset)
        if held := self._held(offset, len(data)):
            super()._write(offset, memoryview(data)[:held])

    def _held(self, offset: int, length: int) -> int:
        real = self.faults.real_size
        return length if real is None else max(0, min(length, real - offset))

    def _count(self, offset: int) -> None:
        self._present(offset)
        self.writes += 1

    def _present(self, offset: int) -> None:
        limit = self.faults.pulled_after_writes
        if limit is not None and self.writes >= limit:
            raise MediumError(f"{self.name} was pulled.", offset)
