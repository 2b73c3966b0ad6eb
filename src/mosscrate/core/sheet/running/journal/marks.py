"""A number for each sector, by which its contents are known again without keeping them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.base import Buffer

SECTOR = 512                            # written whole or not at all, by every medium
Marks = NDArray[np.uint64]
_FACTORS = np.random.default_rng(0x5EED).integers(0, 2**64, SECTOR // 8, np.uint64) | np.uint64(1)
_HALF = np.uint64(32)
_ROWS = 512                             # sectors that are worked on at once, so that they stay in the cache


def marks_of(data: Buffer) -> Marks:
    """A mark for each sector, shape (sectors,); 0 for zeros, and two contents share one with a chance of 1 in 2**64.

    Every word is folded onto itself before it is multiplied: otherwise its highest bit would count for nothing
    once two of them change.
    """
    rows = sectors_of(data).view("<u8")
    found, folded = np.empty(len(rows), np.uint64), np.empty((_ROWS, SECTOR // 8), np.uint64)
    for first in range(0, len(rows), _ROWS):
        part = rows[first:first + _ROWS]
        words = folded[:len(part)]
        np.right_shift(part, _HALF, out=words)
        np.bitwise_xor(words, part, out=words)
        np.matmul(words, _FACTORS, out=found[first:first + _ROWS])
    return found


def sectors_of(data: Buffer) -> NDArray[np.uint8]:
    """Bytes as whole sectors, shape (sectors, 512), the last one filled up with zeros."""
    if len(data) % SECTOR:
        data = bytes(data).ljust(-(-len(data) // SECTOR) * SECTOR, b"\0")
    return np.frombuffer(data, np.uint8).reshape(-1, SECTOR)


def sector_count(length: int) -> int:
    """Sectors that bytes take, the last one perhaps in part."""
    return -(-length // SECTOR)
