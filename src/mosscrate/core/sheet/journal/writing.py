"""Writing over a journal: writes are held, gathered into groups, noted, and only then put onto the card."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.base import Blocks, Buffer, Extent, View
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.sheet.journal import structures as s
from mosscrate.core.sheet.journal.held import Held
from mosscrate.core.sheet.journal.journal import Journal, Written
from mosscrate.core.sheet.journal.marks import SECTOR, marks_of, sectors_of
from mosscrate.core.sheet.journal.structures import Holds, Standing

GROUP = 32 << 20                        # bytes that are held before they are noted with one sync
PIECE = 4 << 20
NEAR = 8                                # sectors between two changes that are noted together
SETTLED_EVERY = 4                       # groups after which the card itself is synced


@dataclass
class _LetGo:
    """Room that belongs to nobody, as whole sectors; shape (n, 2), sorted, apart from each other."""

    runs: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))

    def add(self, extents: Sequence[Extent], size: int) -> None:
        fresh = np.array([(-(-e.start // SECTOR) * SECTOR, e.end if e.end == size else e.end // SECTOR * SECTOR)
                          for e in extents], np.int64).reshape(-1, 2)
        rows = np.concatenate((self.runs, fresh[fresh[:, 0] < fresh[:, 1]]))
        if not len(rows):
            return
        rows = rows[np.argsort(rows[:, 0], kind="stable")]
        reach = np.maximum.accumulate(rows[:, 1])
        first = np.flatnonzero(np.append(True, rows[1:, 0] > reach[:-1]))
        self.runs = np.stack((rows[first, 0], reach[np.append(first[1:], len(rows)) - 1]), axis=1)

    def cut(self, start: int, end: int) -> Iterator[tuple[int, int, bool]]:
        """(start, end, whether it was let go) of the parts of a stretch."""
        at = start
        first = int(np.searchsorted(self.runs[:, 1], start, "right"))
        last = int(np.searchsorted(self.runs[:, 0], end, "left"))
        for low, high in self.runs[first:last].tolist():
            low, high = max(low, start), min(high, end)
            if at < low:
                yield at, low, False
            yield low, high, True
            at = high
        if at < end:
            yield at, end, False


@dataclass
class _Pending:
    """A group that is being put together: what will be noted, and what will be written."""

    notes: list[Written] = field(default_factory=list)
    writes: list[tuple[int, int, memoryview | None]] = field(default_factory=list)     # start, length, bytes or zeros
    bytes: int = 0

    def add(self, note: Written, data: memoryview | None) -> None:
        self.notes.append(note)
        self.writes.append((note.start, note.length, data))
        self.bytes += sum(len(p) for p in note.parts) + (0 if data is None else len(data))


class JournalledBlocks(View):
    """Lets nothing be overwritten that is not in the journal; reads see what is held."""

    def __init__(self, inner: Blocks, journal: Journal, step: int = 0) -> None:
        super().__init__(inner)
        self.journal, self.step = journal, step
        self._held, self._let_go, self._pending = Held(), _LetGo(), _Pending()
        self._settled = journal.slot.high                   # the state that the card itself is in for certain
        self._swap: tuple[Extent, bytes] | None = None

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self._within(offset, length)
        self._held.put_zeros(offset, length)

    def forgo(self, extents: Sequence[Extent]) -> None:
        """Stretches that may be overwritten without being kept, until the step ends."""
        self._let_go.add(extents, self.size)

    def foreswap(self, extent: Extent, old: Buffer) -> None:
        """The next write is this stretch with its words exchanged: its marks are enough to tell both apart."""
        if extent.start % SECTOR == 0 and (extent.length % SECTOR == 0 or extent.end == self.size):
            self._seal()
            self._swap = extent, marks_of(old).tobytes()

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        self._seal()
        return super().extents()

    def flush(self) -> None:
        """Everything is noted, and on the card itself."""
        self._seal()
        self.inner.flush()
        self._settled = len(self.journal.groups)

    def end_step(self, finished: int) -> None:
        """Note how many steps of the sheet are finished: a place to which the job can be taken back and run on."""
        self.flush()
        state, slot = self._settled, self.journal.slot
        self.journal.put_slot(standing=Standing.OPEN, low=state, high=state, steps=finished,
                              ends=(*slot.ends, state)[-s.MOST_ENDS:])
        self._let_go = _LetGo()
        self.step = finished

    def _claim_no_free_room(self, pending: _Pending) -> None:
        """Free room that an earlier step has filled may be free again, and is then filled without being announced."""
        slot = self.journal.slot
        if not slot.is_free_unclaimed and slot.ends and any(n.holds == Holds.LET_GO for n in pending.notes):
            self.journal.put_slot(is_free_unclaimed=True)

    def close(self) -> None:
        """The card stays open; it belongs to whoever opened it."""

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        if self._held:
            self._held.lay_over(offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        if self._swap and (offset, len(data)) == (self._swap[0].start, self._swap[0].length):
            self._write_swapped(offset, data)
            return
        self._swap = None
        self._held.put(offset, data)
        if self._held.bytes >= GROUP:
            self._seal()

    def _write_swapped(self, offset: int, data: Buffer) -> None:
        assert self._swap is not None, "foreswap came first"
        (_, old), self._swap = self._swap, None
        view = memoryview(data)
        parts = (old, marks_of(view).tobytes())
        self._pending.add(Written(Holds.SWAP, offset, len(view), s.digest_of(view), parts), view)
        self._emit()

    def _seal(self) -> None:
        """Note what is held as groups, then write it."""
        for start, end in self._held.stretches(SECTOR, self.size):
            for low, high, is_free in self._let_go.cut(start, end):
                self._note_free(low, high) if is_free else self._note(low, high)
        self._emit()
        self._held.clear()

    def _note(self, start: int, end: int) -> None:
        """Sectors of a stretch that will be others, with what they hold."""
        for at in range(start, end, PIECE):
            length = min(PIECE, end - at)
            old = self.inner.read(at, length)
            new = bytearray(old)
            self._held.lay_over(at, memoryview(new))
            before, after = sectors_of(old), sectors_of(bytes(new))
            for first, last in _joined((before != after).any(axis=1)):
                low, high = first * SECTOR, min(last * SECTOR, length)
                data = memoryview(new)[low:high]
                is_zero = not after[first:last].any()
                was_zero = not before[first:last].any()
                marks = marks_of(data).tobytes()
                parts = (marks,) if was_zero else (memoryview(old)[low:high], marks)
                holds, digest = Holds.ZEROS if was_zero else Holds.OLD, s.OF_ZEROS if is_zero else s.digest_of(data)
                self._pending.add(Written(holds, at + low, high - low, digest, parts), None if is_zero else data)
            if self._pending.bytes >= 2 * GROUP:
                self._emit()

    def _note_free(self, start: int, end: int) -> None:
        """Room that held nothing: only what will stand there is known again."""
        at = start
        while at < end:
            low, high, data = next(self._held.within(at, end), (end, end, None))
            if low == at and data is None and (high % SECTOR == 0 or high == self.size):
                self._pending.add(Written(Holds.LET_GO, at, high - at, s.OF_ZEROS), None)
                at = high
                continue
            length = min(s.PIECE, end - at)
            is_whole = low == at and high - low >= length and data is not None
            new = data[:length] if is_whole and data is not None else self._assembled(at, length)
            self._pending.add(Written(Holds.LET_GO, at, length, s.digest_of(new)), new)
            at += length

    def _assembled(self, at: int, length: int) -> memoryview:
        new = memoryview(bytearray(length))
        self.inner.read_into(at, new)
        self._held.lay_over(at, new)
        return new

    def _emit(self) -> None:
        """Announce a group where it overwrites something, then write it.

        A group that only fills free room needs no announcement: it is noted with the next one that does.
        """
        pending, self._pending = self._pending, _Pending()
        if not pending.notes:
            return
        group = self.journal.append(self.step, pending.notes)
        self._claim_no_free_room(pending)
        if any(note.holds != Holds.LET_GO for note in pending.notes):
            self.journal.put_slot(standing=Standing.OPEN, low=self._settled, high=group.number)
        for start, length, data in pending.writes:
            if data is None:
                self.inner.zero(start, length)
            else:
                self.inner.write(start, data)
        if group.number - self._settled >= SETTLED_EVERY and self.journal.slot.high == group.number:
            self.inner.flush()
            self._settled = group.number


def _joined(mask: NDArray[np.bool_]) -> Iterator[tuple[int, int]]:
    """Runs of sectors, those joined that have few others between them."""
    runs = runs_of(mask)
    if not len(runs):
        return
    apart = np.flatnonzero(runs[1:, 0] - runs[:-1, 1] > NEAR)
    firsts, lasts = runs[np.append(0, apart + 1), 0], runs[np.append(apart, len(runs) - 1), 1]
    yield from zip(firsts.tolist(), lasts.tolist(), strict=True)
