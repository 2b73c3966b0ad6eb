"""The journal of an in-place change: what is overwritten is saved first, checksummed and synced.

docs/formats/journal.md describes the file. A record that was not completely written belongs to a
write that had not begun, so the reader stops there. Taking back applies the records in reverse.
"""

from __future__ import annotations

import os
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.binary import Record
from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.blocks.swapped import swapped
from mosscrate.core.errors import JobError
from mosscrate.core.watch import Watch

MAGIC = b"MOSSJRN1"
RECORD = np.dtype([("mark", "V4"), ("kind", "<u4"), ("offset", "<u8"), ("length", "<u8"), ("digest", "V32")])
MARK = b"SAVE"
DATA, ZEROS, DONE, SWAP = range(4)
PIECE = 4 << 20
LARGEST_SWAP = 64 << 20
SECTOR = 512                            # written whole or not at all, by every medium
_FACTORS = np.random.default_rng(0x5EED).integers(0, 2**64, SECTOR // 8, np.uint64) | np.uint64(1)


@dataclass(frozen=True)
class Saved:
    """One record: old bytes of a stretch; `data` is None where they were zeros.

    For a stretch whose bytes were about to be swapped, `marks` has one number for each sector of it.
    """

    start: int
    length: int
    data: bytes | None
    marks: NDArray[np.uint64] | None = None


class JournalledBlocks(View):
    """Lets nothing be overwritten that is not in the journal."""

    def __init__(self, inner: Blocks, path: Path) -> None:
        super().__init__(inner)
        self._covered: list[tuple[int, int]] = []            # sorted, apart from each other
        self._file = path.open("xb")
        self._file.write(MAGIC)
        self._sync()
        folder = os.open(path.parent, os.O_RDONLY)
        os.fsync(folder)
        os.close(folder)

    def foretell(self, extents: Sequence[Extent]) -> None:
        """Save all of these stretches with one sync."""
        gaps = [gap for e in extents for gap in self._cover(e.start, e.end)]
        for gap in gaps:
            for start in range(gap.start, gap.end, PIECE):
                self._save(start, min(PIECE, gap.end - start))
        if gaps:
            self._sync()

    def forgo(self, extents: Sequence[Extent]) -> None:
        """Stretches that may be overwritten without being saved."""
        for e in extents:
            self._cover(e.start, e.end)

    def foreswap(self, extent: Extent, old: Buffer) -> None:
        """Note the sectors of a stretch by their marks, from which both states can be told apart."""
        gaps = self._cover(extent.start, extent.end)
        if gaps != [Extent(extent.start, extent.length)] or extent.length > LARGEST_SWAP:
            for gap in gaps:
                for start in range(gap.start, gap.end, PIECE):
                    self._save(start, min(PIECE, gap.end - start))
        else:
            self._record(SWAP, extent.start, extent.length, marks_of(old).astype("<u8").tobytes())
        self._sync()

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.foretell([Extent(offset, length)])
        super().zero(offset, length)

    def finish(self) -> None:
        """The change is complete and on the medium."""
        self.inner.flush()
        self._record(DONE, 0, 0, b"")
        self._sync()
        self._file.close()

    def abandon(self) -> None:
        """Close the journal of a change that did not come to its end."""
        self._file.close()

    def _write(self, offset: int, data: Buffer) -> None:
        self.foretell([Extent(offset, len(data))])
        super()._write(offset, data)

    def _save(self, start: int, length: int) -> None:
        old = self.inner.read(start, length)
        if np.frombuffer(old, np.uint8).any():
            self._record(DATA, start, length, old)
        else:
            self._record(ZEROS, start, length, b"")

    def _record(self, kind: int, start: int, length: int, data: bytes) -> None:
        head = np.zeros((), RECORD)
        head["mark"], head["kind"], head["offset"], head["length"] = np.void(MARK), kind, start, length
        head["digest"] = np.void(_digest(head, data))
        self._file.write(head.tobytes())
        self._file.write(data)

    def _sync(self) -> None:
        self._file.flush()
        os.fsync(self._file.fileno())

    def _cover(self, start: int, end: int) -> list[Extent]:
        """Mark a stretch as saved; returns the parts of it that were not."""
        at = bisect_right(self._covered, (start, start))
        first = at - 1 if at and self._covered[at - 1][1] >= start else at
        last = first
        gaps, position = [], start
        while last < len(self._covered) and self._covered[last][0] <= end:
            low, high = self._covered[last]
            if position < low:
                gaps.append(Extent(position, low - position))
            position = max(position, high)
            last += 1
        if position < end:
            gaps.append(Extent(position, end - position))
        joined = self._covered[first:last]
        low, high = min([start, *(r[0] for r in joined)]), max([end, *(r[1] for r in joined)])
        self._covered[first:last] = [(low, high)]
        return gaps


def read_journal(path: Path) -> tuple[list[int], bool]:
    """File offsets of the whole records, and whether the change came to its end. Raises JobError."""
    places, is_done = [], False
    with path.open("rb") as file:
        if file.read(len(MAGIC)) != MAGIC:
            raise JobError(f"{path} is not a journal of this program; it cannot be used to take anything back.")
        while saved := _next(file):
            at, kind, _ = saved
            is_done = is_done or kind == DONE
            places.append(at)
    return places, is_done


def take_back(path: Path, blocks: Blocks, watch: Watch) -> int:
    """Put every saved stretch back, the last one first; returns how many bytes. Raises JobError, MediumError.

    It can be interrupted and repeated: the journal stays as it is.
    """
    places, _ = read_journal(path)
    done = 0
    for number, saved in enumerate(_reversed(path, places)):
        if saved.marks is not None:
            _swap_back(blocks, saved.start, saved.length, saved.marks)
        elif saved.data is None:
            blocks.zero(saved.start, saved.length)
        else:
            blocks.write(saved.start, saved.data)
        done += saved.length
        watch.progress(f"Taking back {blocks.name}", number + 1, len(places))
    blocks.flush()
    return done


def marks_of(data: Buffer) -> NDArray[np.uint64]:
    """A number for each sector, shape (sectors,): others, but for a chance of one in 2**64, once it is swapped."""
    return np.asarray((_sectors(data).view("<u8") * _FACTORS).sum(axis=1, dtype=np.uint64))


def _swap_back(blocks: Blocks, start: int, length: int, marks: NDArray[np.uint64]) -> None:
    """Swap those sectors of a stretch that have been swapped. Raises JobError where one is neither old nor swapped."""
    now = blocks.read(start, length)
    other = swapped(now)
    is_old = marks_of(now) == marks
    lost = np.flatnonzero(~is_old & (marks_of(other) != marks))
    if len(lost):
        raise JobError(f"The sector at byte {start + int(lost[0]) * SECTOR} of {blocks.name or 'the card'} is neither "
                       "as it was nor swapped; something else has written to it. What lies behind it is swapped back.")
    if is_old.all():
        return
    rows = [_sectors(data) for data in (now, other)]
    blocks.write(start, np.where(is_old[:, None], *rows).tobytes()[:length])


def _sectors(data: Buffer) -> NDArray[np.uint8]:
    """Bytes as whole sectors, shape (sectors, 512), the last one filled up with zeros."""
    if len(data) % SECTOR:
        data = bytes(data).ljust(-(-len(data) // SECTOR) * SECTOR, b"\0")
    return np.frombuffer(data, np.uint8).reshape(-1, SECTOR)


def _reversed(path: Path, places: list[int]) -> Iterator[Saved]:
    with path.open("rb") as file:
        for at in reversed(places):
            file.seek(at)
            found = _next(file)
            if found is None:
                raise JobError(f"The journal {path} cannot be read at byte {at}.")
            if found[1] != DONE:
                yield found[2]


def _next(file: BinaryIO) -> tuple[int, int, Saved] | None:
    """(file offset, kind, record) or None at the end or at a record that is not whole."""
    at = file.tell()
    raw = file.read(RECORD.itemsize)
    if len(raw) < RECORD.itemsize:
        return None
    head = np.frombuffer(raw, RECORD)[0]
    kind, length = int(head["kind"]), int(head["length"])
    if head["mark"].tobytes() != MARK or length > {DATA: PIECE, SWAP: LARGEST_SWAP}.get(kind, length):
        return None
    data = file.read({DATA: length, SWAP: -(-length // SECTOR) * 8}.get(kind, 0))
    if _digest(head, data) != head["digest"].tobytes():
        return None
    return at, kind, Saved(int(head["offset"]), length, data if kind == DATA else None,
                           np.frombuffer(data, "<u8") if kind == SWAP else None)


def _digest(head: Record | np.void, data: bytes) -> bytes:
    numbers = f"{int(head['kind'])} {int(head['offset'])} {int(head['length'])} ".encode()
    return blake3(numbers + data).digest()
