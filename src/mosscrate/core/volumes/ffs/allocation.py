"""The free blocks of a volume that is being changed; what was freed is handed out last, a journal has to save it."""

from __future__ import annotations

from collections import deque

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary


class FreeBlocks:
    """Hands out blocks in their order.

    Args:
        used: blocks in use, shape (total,); kept up to date.
        unit: bytes of a block.
    """

    def __init__(self, used: NDArray[np.bool_], unit: int) -> None:
        self.used, self._unit = used, unit
        self._runs = deque((first, last - first) for first, last in runs_of(~used).tolist())
        self._freed: list[tuple[int, int]] = []
        self._count = int((~used).sum())

    def extents(self) -> list[Extent]:
        """What was free at the start, in bytes."""
        return [Extent(first * self._unit, count * self._unit) for first, count in self._runs]

    def take(self, count: int) -> NDArray[np.int64]:
        """Numbers of that many blocks, in one piece where there is one at hand. Raises FitError."""
        if count > self._count:
            raise FitError(f"There is no room: {binary(count * self._unit)} are needed, "
                           f"{binary(self._count * self._unit)} are free.")
        taken, left = [np.zeros(0, np.int64)], count
        while left:
            if not self._runs:
                self._runs.extend(self._freed)
                self._freed.clear()
            first, length = self._runs.popleft()
            part = min(left, length)
            taken.append(np.arange(first, first + part))
            if part < length:
                self._runs.appendleft((first + part, length - part))
            left -= part
        numbers = np.concatenate(taken)
        self.used[numbers] = True
        self._count -= count
        return numbers

    def take_one(self) -> int:
        """The number of one block. Raises FitError."""
        return int(self.take(1)[0])

    def give_back(self, number: int) -> None:
        """A block is free again."""
        self.used[number] = False
        self._freed.append((number, 1))
        self._count += 1
