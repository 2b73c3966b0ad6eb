"""The log of a card along its depth: how fast each stretch was read or written, and where it is bad.

Speeds are kept for pieces of one size, at most 8,192 of them; bad places exactly, merged. See docs/proof.md.
"""

from __future__ import annotations

import zipfile
import zlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.runs import joined

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
        self._is_merged = True

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
        self._is_merged = False
        if len(self._bad) > 2 * MOST_BAD:
            self._bad = self.bad

    @property
    def bad(self) -> list[Extent]:
        """Bad places in order."""
        if not self._is_merged:
            merged = joined(self._bad)
            self._bad = merged if len(merged) <= MOST_BAD else joined(merged, self.piece)
            self._is_merged = True
        return self._bad

    @property
    def rate(self) -> float:
        """Bytes a second of all that was measured; 0 for nothing."""
        seconds = float(self.seconds.sum())
        return float(self.bytes.sum()) / seconds if seconds else 0.0

    @property
    def bad_bytes(self) -> int:
        """Bytes in bad places."""
        return sum(extent.length for extent in self.bad)

    def save(self, path: Path) -> None:
        """Keep speeds for comparing with later ones; bad places are not among them. Raises OSError."""
        with path.open("wb") as file:
            np.savez_compressed(file, size=self.size, bytes=self.bytes, seconds=self.seconds)

    @classmethod
    def load(cls, path: Path) -> DepthLog | None:
        """Speeds as they were kept; None where there are none that can be used."""
        try:
            with path.open("rb") as file, np.load(file, allow_pickle=False) as kept:
                log = cls(int(kept["size"]))
                same = kept["bytes"].shape == kept["seconds"].shape == log.bytes.shape
                log.bytes, log.seconds = kept["bytes"].astype(float), kept["seconds"].astype(float)
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile, zlib.error):
            return None
        mean = np.divide(log.bytes, log.seconds, out=np.zeros_like(log.bytes), where=log.seconds > 0)
        log.slowest, log.fastest = np.where(mean > 0, mean, np.inf), mean
        return log if same else None

    def rate_between(self, start: int, end: int) -> float:
        """Bytes a second of what was measured in a stretch; 0 for nothing."""
        first, last = start // self.piece, max(start // self.piece + 1, -(-end // self.piece))
        seconds = float(self.seconds[first:last].sum())
        return float(self.bytes[first:last].sum()) / seconds if seconds else 0.0

    def rows(self, edges: NDArray[np.int64]) -> list[Row]:
        """The log between each two of ascending depths, in bytes; over whole pieces, never sampled."""
        starts, ends = edges[:-1], edges[1:]
        first = starts // self.piece
        pairs = np.stack([first, np.maximum(first + 1, -(-ends // self.piece))], axis=1).reshape(-1)
        bad = self.bad
        begin, end = (np.array([getattr(e, side) for e in bad], np.int64) for side in ("start", "end"))
        touching = np.searchsorted(begin, ends, "left") - np.searchsorted(end, starts, "right")
        seconds, total = _over(np.add, self.seconds, pairs), _over(np.add, self.bytes, pairs)
        mean = np.divide(total, seconds, out=np.zeros_like(total), where=seconds > 0)
        slowest = np.where(seconds > 0, _over(np.minimum, self.slowest, pairs), 0.0)
        columns = (starts, ends, slowest, mean, _over(np.maximum, self.fastest, pairs),
                   _over(np.maximum, self.longest, pairs), touching)
        return [Row(*values) for values in zip(*(column.tolist() for column in columns), strict=True)]


def _over(how: np.ufunc, values: NDArray[np.float64], pairs: NDArray[np.int64]) -> NDArray[np.float64]:
    """One value for each stretch [first, last) of pieces; `pairs` has the two behind one another."""
    padded = np.append(values, 0.0)                          # a stretch may end where the pieces do
    found: NDArray[np.float64] = how.reduceat(padded, pairs)[::2]
    return found
