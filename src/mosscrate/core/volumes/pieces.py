"""The bytes of one file as places on its volume: whole files and single stretches are read by them.

Pieces are contents, extents are room: blocks of OFS begin with a header, a file of ext has holes, one of
exFAT may have been written only in part.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.volumes.base import Entry, Kind

PIECE = np.dtype([("logical", np.int64), ("place", np.int64), ("length", np.int64)])
Pieces = NDArray[np.void]
STRETCH = 4 << 20                                          # bytes handed over at a time, at most


class ReadByPieces:
    """What a volume has that can say where the bytes of a file lie."""

    blocks: Blocks

    def pieces_of(self, entry: Entry) -> Pieces:
        """PIECE rows, ordered by `logical`; what no row covers is zeros. Raises FormatError, MediumError."""
        raise NotImplementedError

    def read_file(self, entry: Entry) -> Iterator[bytes]:
        """The bytes of a file in pieces of at most 4 MiB. Raises FormatError, MediumError."""
        if entry.kind != Kind.FILE:
            return
        at = 0
        for logical, place, length in self.pieces_of(entry).tolist():
            yield from _zeros(logical - at)
            for done in range(0, length, STRETCH):
                yield self.blocks.read(place + done, min(STRETCH, length - done))
            at = logical + length
        yield from _zeros(entry.size - at)

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """`count` bytes of a file from byte `at` on, fewer at its end. Raises FormatError, MediumError."""
        end = min(entry.size, at + count) if entry.kind == Kind.FILE else 0
        out = bytearray(max(0, end - at))
        for logical, place, length in within(self.pieces_of(entry), at, end).tolist() if out else ():
            out[logical - at:logical - at + length] = self.blocks.read(place, length)
        return bytes(out)


def pieces(logical: Sequence[int] | NDArray[np.int64], place: Sequence[int] | NDArray[np.int64],
           length: Sequence[int] | NDArray[np.int64]) -> Pieces:
    """Columns as rows; empty ones are left out."""
    rows = np.zeros(len(logical), PIECE)
    rows["logical"], rows["place"], rows["length"] = logical, place, length
    return rows[rows["length"] > 0]


def following(extents: Iterable[Extent]) -> Pieces:
    """Extents that hold nothing but the file, one behind the other."""
    rows, at = [], 0
    for extent in extents:
        rows.append((at, extent.start, extent.length))
        at += extent.length
    return np.array(rows, PIECE)


def within(rows: Pieces, start: int, end: int) -> Pieces:
    """Those parts of pieces that lie in [start, end) of the file."""
    ends = rows["logical"] + rows["length"]
    first, last = np.searchsorted(ends, start, "right"), np.searchsorted(rows["logical"], end)
    cut = rows[first:max(first, last)].copy()
    ahead = np.maximum(0, start - cut["logical"])
    cut["length"] = np.minimum(end, cut["logical"] + cut["length"]) - cut["logical"] - ahead
    cut["logical"] += ahead
    cut["place"] += ahead
    return cut


def _zeros(length: int) -> Iterator[bytes]:
    for done in range(0, length, STRETCH):
        yield bytes(min(STRETCH, length - done))
