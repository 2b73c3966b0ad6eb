"""The log of a card along its depth: how fast each stretch was read or written, and where it is bad.

Speeds are kept for pieces of one size, at most 8,192 of them; bad places exactly, merged. See docs/proof.md.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent

MOST_PIECES = 8192
LEAST_PIECE = 64 << 10
MOST_BAD = 65_536


@dataclass(frozen=True)
class Row:
    """One stretch of the log as it is drawn. Rates in bytes a second, 0 where nothing was measured.

    Attributes:
        start, end: bytes.
        slowest, mean, fastest: rates of its commands.
        longest: seconds of the command that took longest.
        bad: how many bad places touch it.
    """

    start: int
    end: int
    slowest: float
    mean: float
    fastest: float
    longest: float
    bad: int


class DepthLog:
    """Fills while a card is read or written; any depth can be asked for at any time."""

    def __init__(self, size: int) -> None:
        self.size = size
        self.piece = LEAST_PIECE
        while -(-size // self.piece) > MOST_PIECES:
            self.piece *= 2
        count = max(1, -(-size // self.piece))
        self.bytes, self.seconds = np.zeros(count), np.zeros(count)
        self.slowest, self.fastest, self.longest = np.full(count, np.inf), np.zeros(count), np.zeros(count)
        self._bad: list[Extent] = []

    def add(self, offset: int, length: int, seconds: float) -> None:
        """Note a command that was carried out."""
        first, last = offset // self.piece, (offset + length - 1) // self.piece
        rate, many = length / max(seconds, 1e-9), last - first + 1
        self.bytes[first:last + 1] += length / many
        self.seconds[first:last + 1] += seconds / many
        np.minimum(self.slowest[first:last + 1], rate, out=self.slowest[first:last + 1])
        np.maximum(self.fastest[first:last + 1], rate, out=self.fastest[first:last + 1])
        np.maximum(self.longest[first:last + 1], seconds, out=self.longest[first:last + 1])

    def add_bad(self, start: int, length: int) -> None:
        """Note a place that failed; neighbours become one, and beyond very many the closest do too."""
        self._bad.append(Extent(start, length))
        if len(self._bad) > 2 * MOST_BAD:
            self._bad = self.bad

    @property
    def bad(self) -> list[Extent]:
        """Bad places in order."""
        merged = _merged(self._bad, 0)
        return merged if len(merged) <= MOST_BAD else _merged(merged, self.piece)

    @property
    def measured(self) -> float:
        """Share of the depth that was measured, 0 to 1."""
        return float((self.bytes > 0).mean())

    @property
    def rate(self) -> float:
        """Bytes a second of all that was measured; 0 for nothing."""
        seconds = float(self.seconds.sum())
        return float(self.bytes.sum()) / seconds if seconds else 0.0

    @property
    def bad_bytes(self) -> int:
        """Bytes in bad places."""
        return sum(extent.length for extent in self.bad)

    def rows(self, edges: NDArray[np.int64]) -> list[Row]:
        """The log between each two of ascending depths, in bytes; summed over pieces, never sampled."""
        starts = np.array([extent.start for extent in self.bad], np.int64)
        ends = np.array([extent.end for extent in self.bad], np.int64)
        found = []
        for start, end in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
            a, b = start // self.piece, max(start // self.piece + 1, -(-end // self.piece))
            seconds = float(self.seconds[a:b].sum())
            bad = int(((starts < end) & (ends > start)).sum())
            if not seconds:
                found.append(Row(start, end, 0.0, 0.0, 0.0, 0.0, bad))
                continue
            found.append(Row(start, end, float(self.slowest[a:b].min()), float(self.bytes[a:b].sum()) / seconds,
                             float(self.fastest[a:b].max()), float(self.longest[a:b].max()), bad))
        return found


def _merged(extents: list[Extent], gap: int) -> list[Extent]:
    merged: list[Extent] = []
    for extent in sorted(extents, key=lambda each: each.start):
        if merged and extent.start <= merged[-1].end + gap:
            merged[-1] = Extent(merged[-1].start, max(merged[-1].end, extent.end) - merged[-1].start)
        else:
            merged.append(extent)
    return merged
