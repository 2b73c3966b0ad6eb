"""A volume with some of its blocks exchanged in memory: replayed ones, or changes that are not written yet."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.base import View


class Patched(View):
    """Reads come from `writes` ({block: bytes}) where it has them; writes go to the volume itself."""

    def __init__(self, inner: Blocks, unit: int, writes: dict[int, bytes]) -> None:
        super().__init__(inner)
        self.unit, self.writes = unit, writes

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        first, last = offset // self.unit, (offset + len(buffer) - 1) // self.unit
        numbers = range(first, last + 1) if last - first < len(self.writes) else \
            [n for n in self.writes if first <= n <= last]
        for number in numbers:
            data = self.writes.get(number)
            if data is not None:
                start, end = max(offset, number * self.unit), min(offset + len(buffer), (number + 1) * self.unit)
                buffer[start - offset:end - offset] = data[start - number * self.unit:end - number * self.unit]
