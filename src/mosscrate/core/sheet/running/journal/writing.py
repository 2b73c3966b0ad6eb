"""Writing over a journal: writes are held, gathered into groups, noted, and only then put onto the card."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.base import Blocks, Buffer, Extent, View
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.errors import MediumError
from mosscrate.core.sheet.running.journal import structures as s
from mosscrate.core.sheet.running.journal.held import Held
from mosscrate.core.sheet.running.journal.journal import Group, Journal, Written
from mosscrate.core.sheet.running.journal.looking import Look
from mosscrate.core.sheet.running.journal.marks import SECTOR, marks_of, sectors_of
from mosscrate.core.sheet.running.journal.structures import Holds, Standing

GROUP = 32 << 20                        # bytes that are held before they are noted with one sync
PIECE = 4 << 20
NEAR = 8                                # sectors between two changes that are noted together
SETTLED_EVERY = 4                       # groups after which the card itself is synced
STRAIGHT = 256 << 10                    # bytes from which a write into free room is not held
MOST_STRAIGHT = 4096                    # notes of such that are held


_Swap = tuple[Extent, bytes]            # a stretch, and the marks of what it holds before


@dataclass
class _Group:
    """A group that is put together: what will be noted, and what will be written."""

    notes: list[Written] = field(default_factory=list)
    writes: list[tuple[int, int, memoryview | None]] = field(default_factory=list)     # start, length, bytes or zeros
    bytes: int = 0

    def add(self, note: Written, data: memoryview | None) -> None:
        self.notes.append(note)
        self.writes.append((note.start, note.length, data))
        self.bytes += sum(len(p) for p in note.parts) + (0 if data is None else len(data))


class JournalledBlocks(View):
    """Lets nothing be overwritten that is not in the journal; reads see what is held.

    A group is noted and written on a thread of its own while the next one is filled.
    """

    def __init__(self, inner: Blocks, journal: Journal, step: int, look: Look) -> None:
        super().__init__(inner)
        self.journal, self.step, self._look = journal, step, look
        self._held, self._sealing, self._let_go = Held(), Held(), Stretches()
        self._may_go: Stretches | None = None               # what may be let go in this step; None before it writes
        self._straight: list[Written] = []                  # notes of what went into free room without being held
        self._settled = journal.slot.high                   # the state that the card itself is in for certain
        self._swap: _Swap | None = None                     # the next write is this one with its words exchanged
        self._swaps: list[_Swap] = []                       # of those that are held
        self._worker, self._hasher = ThreadPoolExecutor(1, "journal"), ThreadPoolExecutor(1, "digest")
        self._work: Future[None] | None = None
        self._flusher = ThreadPoolExecutor(1, "settle")
        self._settling: Future[None] | None = None

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self._within(offset, length)
        self._begin_step()
        self._held.put_zeros(offset, length)

    def forgo(self, extents: Sequence[Extent]) -> None:
        """Stretches that may be overwritten without being kept, until the step ends: what of them was free for long.

        That is: when the step began, and when the job and all below it began. What this or another job has put into
        free room is not let go a second time, so that it can always be told again.
        """
        self._begin_step()
        assert self._may_go is not None, "the step has begun"
        self._let_go |= Stretches.of(extents).whole(SECTOR, self.size) & self._may_go

    def _begin_step(self) -> None:
        if self._may_go is not None:
            return
        self._may_go = Stretches()                          # while it is found out
        free = self.journal.head.free.whole(SECTOR, self.size)
        if self.journal.groups and free:
            free -= saved_and_put(self.journal.groups)[1]
            try:
                free &= self._look(self).free
            except MediumError:                             # what cannot be read is not let go
                free = Stretches()
        self._may_go = free

    def foreswap(self, extent: Extent, old: Buffer) -> None:
        """The next write is this stretch with its words exchanged: its marks are enough to tell both apart."""
        if extent.start % SECTOR == 0 and (extent.length % SECTOR == 0 or extent.end == self.size):
            self._swap = extent, marks_of(old).tobytes()

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        self._seal_all()
        return super().extents()

    def flush(self) -> None:
        """Everything is noted, and on the card itself."""
        self._seal_all()
        if self._settling is not None:
            self._settling.result()
            self._settling = None
        self.inner.flush()
        self._settled = len(self.journal.groups)

    def end_step(self, finished: int) -> None:
        """Note how many steps of the sheet are finished: a place to which the job can be taken back and run on."""
        self.flush()
        state, slot = self._settled, self.journal.slot
        self.journal.put_slot(standing=Standing.OPEN, low=state, high=state, steps=finished,
                              ends=(*slot.ends, state)[-s.MOST_ENDS:])
        self._let_go, self._may_go = Stretches(), None
        self.step = finished

    def leave(self) -> None:
        """Wait for what is being written; what is held is dropped. For a step that did not come to its end."""
        with suppress(Exception):
            self._wait()
            if self._settling is not None:
                self._settling.result()
        self._held, self._straight = Held(), []

    def close(self) -> None:
        """The card stays open; it belongs to whoever opened it."""

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        sealing = self._sealing                             # it may be on the card before the next line has ended
        self.inner.read_into(offset, buffer)
        for held in (sealing, self._held):
            if held:
                held.lay_over(offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        self._begin_step()
        swap, self._swap = self._swap, None
        if swap and (offset, len(data)) == (swap[0].start, swap[0].length):
            self._swaps.append(swap)
            self._hold(offset, data)
        elif len(data) >= STRAIGHT and self._is_free(offset, len(data)):
            self._write_straight(offset, memoryview(data))
        else:
            self._hold(offset, data)

    def _hold(self, offset: int, data: Buffer) -> None:
        self._held.put(offset, data)
        if self._held.bytes >= GROUP:
            self._seal()

    def _is_free(self, offset: int, length: int) -> bool:
        """Whether whole sectors that were let go are written, and nothing is held for them."""
        end = offset + length
        if offset % SECTOR or (end % SECTOR and end != self.size):
            return False
        if any(True for held in (self._held, self._sealing) for _ in held.within(offset, end)):
            return False
        return self._let_go.holds(offset, end)

    def _write_straight(self, offset: int, data: memoryview) -> None:
        """Much data into free room: written while its digest is taken; it is noted with the next group."""
        self._fill([Extent(offset, len(data))])
        digests = self._hasher.submit(_digests, data)
        self.inner.write(offset, data)
        for at, digest in zip(range(0, len(data), s.PIECE), digests.result(), strict=True):
            length = min(s.PIECE, len(data) - at)
            self._straight.append(Written(Holds.LET_GO, offset + at, length, digest))
        if len(self._straight) >= MOST_STRAIGHT:
            self._seal()

    def _seal_all(self) -> None:
        self._seal()
        self._wait()

    def _seal(self) -> None:
        """Hand what is held to the thread that notes and writes it, once it is done with what it had before."""
        self._wait()
        if not self._held and not self._straight:
            return
        self._sealing, self._held = self._held, Held()
        notes, self._straight = self._straight, []
        swaps, self._swaps = self._swaps, []
        self._work = self._worker.submit(self._put, self._sealing, self._let_go, notes, swaps)
        self._fill([Extent(start, end - start) for start, end in self._sealing.stretches(SECTOR, self.size)])

    def _fill(self, extents: Sequence[Extent]) -> None:
        """What holds something of this job now is saved when it is written over again."""
        filled = Stretches.of(extents)
        self._let_go -= filled
        self._may_go = None if self._may_go is None else self._may_go - filled

    def _wait(self) -> None:
        """Until the thread is done. Raises what went wrong there."""
        work, self._work = self._work, None
        if work is not None:
            work.result()
        self._sealing = Held()

    # --- on the thread ---------------------------------------------------------------------------

    def _put(self, held: Held, let_go: Stretches, notes: list[Written], swaps: list[_Swap]) -> None:
        """Note what is held as groups, then write it."""
        group = _Group(notes)
        swapped_runs = Stretches.of(swap for swap, old in swaps if self._note_swap(held, group, swap, old))
        for start, end in held.stretches(SECTOR, self.size):
            for first, last, is_swapped in swapped_runs.cut(start, end):
                for low, high, is_free in let_go.cut(first, last) if not is_swapped else ():
                    group = self._note_free(held, group, low, high) if is_free else self._note(held, group, low, high)
        self._emit(group)

    def _note_swap(self, held: Held, group: _Group, swap: Extent, old: bytes) -> bool:
        """A stretch whose words are exchanged; not where something else was written into it since."""
        pieces = list(held.within(swap.start, swap.end))
        if len(pieces) != 1 or pieces[0][2] is None:
            return False
        new = pieces[0][2]
        group.add(Written(Holds.SWAP, swap.start, swap.length, s.digest_of(new), (old, marks_of(new).tobytes())), new)
        return True

    def _note(self, held: Held, group: _Group, start: int, end: int) -> _Group:
        """Sectors of a stretch that will be others, with what they hold."""
        for at in range(start, end, PIECE):
            length = min(PIECE, end - at)
            old = memoryview(bytearray(length))
            self.inner.read_into(at, old)
            new = self._new(held, at, length, old)
            before, after = (sectors_of(data).view("<u8") for data in (old, new))
            for first, last in _joined((before != after).any(axis=1)):
                low, high = first * SECTOR, min(last * SECTOR, length)
                data = new[low:high]
                is_zero = not after[first:last].any()
                was_zero = not before[first:last].any()
                marks = marks_of(data).tobytes()
                parts = (marks,) if was_zero else (old[low:high], marks)
                holds, digest = Holds.ZEROS if was_zero else Holds.OLD, s.OF_ZEROS if is_zero else s.digest_of(data)
                group.add(Written(holds, at + low, high - low, digest, parts), None if is_zero else data)
            if group.bytes >= 2 * GROUP:
                self._emit(group)
                group = _Group()
        return group

    def _new(self, held: Held, at: int, length: int, old: memoryview) -> memoryview:
        """What will stand at a place: as it is held where that is one piece, else laid over what stands there."""
        low, high, data = next(held.within(at, at + length), (0, 0, None))
        if data is not None and (low, high) == (at, at + length):
            return data
        new = memoryview(bytearray(old))
        held.lay_over(at, new)
        return new

    def _note_free(self, held: Held, group: _Group, start: int, end: int) -> _Group:
        """Room that held nothing: only what will stand there is known again."""
        at = start
        while at < end:
            low, high, data = next(held.within(at, end), (end, end, None))
            if low == at and data is None and (high % SECTOR == 0 or high == self.size):
                group.add(Written(Holds.LET_GO, at, high - at, s.OF_ZEROS), None)
                at = high
                continue
            length = min(s.PIECE, end - at)
            if low == at and high - low >= length and data is not None:
                new = data[:length]
            else:
                new = memoryview(bytearray(length))
                self.inner.read_into(at, new)
                held.lay_over(at, new)
            group.add(Written(Holds.LET_GO, at, length, s.digest_of(new)), new)
            at += length
        return group

    def _emit(self, group: _Group) -> None:
        """Announce a group where it overwrites something, then write it.

        A group that only fills free room needs no announcement: it is noted with the next one that does.
        """
        if not group.notes:
            return
        number = self.journal.append(self.step, group.notes).number
        if any(note.holds != Holds.LET_GO for note in group.notes):
            self.journal.put_slot(standing=Standing.OPEN, low=self._settled, high=number)
        for start, length, data in group.writes:
            if data is None:
                self.inner.zero(start, length)
            else:
                self.inner.write(start, data)
        is_settling = self._settling is not None and not self._settling.done()
        if number - self._settled >= SETTLED_EVERY and self.journal.slot.high == number and not is_settling:
            self._settling = self._flusher.submit(self._settle, number)

    def _settle(self, number: int) -> None:
        """The card is in a state for certain; meanwhile later groups are written."""
        self.inner.flush()
        self._settled = number


def saved_and_put(groups: Sequence[Group]) -> tuple[Stretches, Stretches]:
    """Room whose old contents groups have saved, and free room that they have filled."""
    stretches = [stretch for group in groups for stretch in group.stretches]
    return (Stretches.of(x.extent for x in stretches if x.holds != Holds.LET_GO),
            Stretches.of(x.extent for x in stretches if x.holds == Holds.LET_GO))


def _digests(data: memoryview) -> list[bytes]:
    """Of the pieces of what goes into free room."""
    return [s.digest_of(data[at:at + s.PIECE]) for at in range(0, len(data), s.PIECE)]


def _joined(mask: NDArray[np.bool_]) -> Iterator[tuple[int, int]]:
    """Runs of sectors, those joined that have few others between them."""
    runs = runs_of(mask)
    if not len(runs):
        return
    apart = np.flatnonzero(runs[1:, 0] - runs[:-1, 1] > NEAR)
    firsts, lasts = runs[np.append(0, apart + 1), 0], runs[np.append(apart, len(runs) - 1), 1]
    yield from zip(firsts.tolist(), lasts.tolist(), strict=True)
