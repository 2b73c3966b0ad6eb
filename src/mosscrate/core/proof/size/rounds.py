"""One round: everything old is read and held before the first mark, and everything is put back after the last look.

Reading everything first is what makes folding harmless: two addresses of one room have the same old contents, so any
order of putting them back is right. Highest first, because where reads and writes disagree the low address is the true
owner and must have the last word.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.proof_marks import BLOCK, NONE, build, read
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.size.journal import Journal, as_blocks
from mosscrate.core.proof.size.plans import FIRST, Numbers, Plan
from mosscrate.core.sizes import MIB
from mosscrate.core.slots.proofs import Place
from mosscrate.core.watch import Progress, Watch

PIECE = MIB // BLOCK                       # blocks of one command of a run
GONE = 12                                  # failures in a row after which it is asked whether the card is there
UNREADABLE = -3                            # besides NONE and TORN: an error, never evidence of a false size
TRIES = 3                                  # of putting back what does not stay


@dataclass
class Seen:
    """What a round saw.

    Attributes:
        blocks: that were marked, singles before the run, then those that were only looked at.
        is_marked: which of them were.
        shown: the block whose mark each showed; NONE, TORN or UNREADABLE.
    """

    blocks: Numbers
    is_marked: NDArray[np.bool_]
    shown: Numbers

    @property
    def held(self) -> Numbers:
        """Blocks that show their own mark, in order."""
        return np.sort(self.blocks[self.is_marked & (self.shown == self.blocks)])

    @property
    def lost(self) -> Numbers:
        """Blocks that were marked and show nothing of it, in order."""
        return np.sort(self.blocks[self.is_marked & (self.shown == NONE)])

    @property
    def pairs(self) -> tuple[tuple[int, int], ...]:
        """(block whose mark was written, other block at which it is read)."""
        foreign = (self.shown >= 0) & (self.shown != self.blocks)
        return tuple(zip(self.shown[foreign].tolist(), self.blocks[foreign].tolist(), strict=True))


@dataclass
class Rounds:
    """Goes through rounds on a card that the guard has opened."""

    card: Blocks
    journal: Journal
    watch: Watch
    bad: set[int] = field(default_factory=set)         # blocks that could not be read or written
    not_back: set[int] = field(default_factory=set)    # whose old contents do not stay
    failed: int = 0                                    # commands
    held_once: set[int] = field(default_factory=set)   # blocks that showed their own mark
    gone_once: set[int] = field(default_factory=set)   # blocks that were marked and showed something else
    is_odd: bool = False                               # room folds by less than a block
    ballast: tuple[int, int] = (0, 0)                  # a run after every mark, where a cache has to be driven out
    _failures: int = 0

    @property
    def blocks(self) -> int:
        """Of the card; less than a block at its end is left alone."""
        return self.card.size // BLOCK

    def go(self, plan: Plan) -> Seen:
        """Mark, look, and put back, whatever happens. Raises MediumError where the card is gone, JobError, Stopped."""
        self.journal.record.rounds += 1
        single = self._keep_single(plan.single)
        pieces = list(self._keep_run(*(plan.run if plan.run != (0, 0) else self.ballast)))
        self.journal.record.stage = plan.name
        self.journal.sync()
        self.card.drop_cache()
        try:
            return self._mark_and_look(plan, single, pieces)
        except BaseException:
            with suppress(MediumError):                     # the journal stays, for when the card is there again
                self._put_back([*((int(b), 1) for b in single), *pieces])
            raise

    def hold(self, first: int, count: int = 1) -> None:
        """Keep what stands at blocks that will not be marked themselves, but may be hit. Raises as `go`."""
        self.journal.record.rounds += 1
        for _ in self._keep_run(first, count):
            pass

    def leave(self, blocks: Numbers, stage: str) -> int:
        """Mark blocks and leave the marks there; returns how many were taken. Raises as `go`."""
        self.journal.record.rounds += 1
        single = self._keep_single(blocks)
        self.journal.record.stage = stage
        self.journal.sync()
        taken, _ = self._mark(single, [])
        self.card.flush()
        return len(taken)

    def look(self, blocks: Numbers) -> Numbers:
        """Blocks whose marks stand at some places; NONE, TORN or UNREADABLE."""
        self.card.drop_cache()
        return self._look(blocks)

    def _mark_and_look(self, plan: Plan, single: Numbers, pieces: list[tuple[int, int]]) -> Seen:
        marked = self._mark(single, pieces)
        self.card.flush()
        self.card.drop_cache()
        run = np.concatenate([np.arange(first, first + count) for first, count in marked[1]]) if marked[1] else \
            np.zeros(0, np.int64)
        shown = [self._look(marked[0]), *[self._look_at_run(first, count) for first, count in marked[1]],
                 self._look(plan.looked)]
        blocks = np.concatenate([marked[0], run, plan.looked]).astype(np.int64)
        is_marked = np.arange(len(blocks)) < len(marked[0]) + len(run)
        self._put_back([*((int(b), 1) for b in single), *pieces])
        seen = Seen(blocks, is_marked, np.concatenate(shown).astype(np.int64))
        self.held_once.update(seen.held.tolist())
        self.gone_once.update(blocks[is_marked & (seen.shown != blocks) & (seen.shown != UNREADABLE)].tolist())
        return seen

    # --- what was there -----------------------------------------------------------------------------------------------

    def _keep_single(self, blocks: Numbers) -> Numbers:
        """Hold what stands there; those that cannot be read are not marked."""
        kept = []
        for block in map(int, blocks):
            self.watch.check()
            if block in self.bad:
                continue
            if self.journal.holds(block):
                kept.append(block)
                continue
            data = self._read(block, 1)
            if data is None:
                continue
            self._hold(block, data)
            kept.append(block)
        return np.array(kept, np.int64)

    def _keep_run(self, first: int, count: int) -> Iterator[tuple[int, int]]:
        """The same for a stretch, in commands of 1 MiB; parts that cannot be read are left out."""
        for at in range(first, first + count, PIECE):
            self.watch.progress("Reading what is there", at - first, count)
            many = min(PIECE, first + count - at)
            data = self._read(at, many)
            if data is None:
                continue
            fresh = [block for block in range(at, at + many) if not self.journal.holds(block)]
            for start, end in _runs(fresh):
                part = memoryview(data)[(start - at) * BLOCK:(end - at) * BLOCK]
                if (read(as_blocks(part), self.journal.nonce) == NONE).all():
                    self.journal.add(start, part)
                else:
                    for block in range(start, end):
                        self._hold(block, data[(block - at) * BLOCK:(block - at + 1) * BLOCK])
            yield at, many

    def _hold(self, block: int, data: bytes | memoryview) -> None:
        """Old contents of one block; where a mark of ours stands, it is another address of the same room."""
        shown = int(read(as_blocks(data), self.journal.nonce)[0])
        if shown >= 0 and self.journal.holds(shown // BLOCK):
            self.journal.alias(block, shown // BLOCK)
        else:
            self.journal.add(block, data)

    # --- marks --------------------------------------------------------------------------------------------------------

    def _mark(self, single: Numbers, pieces: list[tuple[int, int]]) -> tuple[Numbers, list[tuple[int, int]]]:
        """Write them; returns those that were taken."""
        taken = [block for block in map(int, single) if self._write(block, self._marks(block, 1))]
        runs = []
        for number, (first, count) in enumerate(pieces):
            self.watch.progress("Writing marks", number, len(pieces))
            if self._write(first, self._marks(first, count)):
                runs.append((first, count))
        return np.array(taken, np.int64), runs

    def _marks(self, first: int, count: int) -> bytes:
        addresses = np.arange(first, first + count, dtype=np.int64) * BLOCK
        return build(addresses, self.journal.nonce).tobytes()

    def _look(self, blocks: Numbers) -> Numbers:
        shown = np.empty(len(blocks), np.int64)
        for number, block in enumerate(map(int, blocks)):
            self.watch.check()
            shown[number] = self._shown(block, 1)[0]
        return shown

    def _look_at_run(self, first: int, count: int) -> Numbers:
        self.watch.check()
        return self._shown(first, count)

    def _shown(self, first: int, count: int) -> Numbers:
        """Blocks whose marks stand there."""
        data = self._read(first, count)
        if data is None:
            return np.full(count, UNREADABLE, np.int64)
        blocks = np.arange(first, first + count)
        addresses = read(as_blocks(data), self.journal.nonce, blocks * BLOCK)
        foreign = (addresses >= 0) & (addresses != blocks * BLOCK)
        if foreign.any() and not self.is_odd:
            torn = read(as_blocks(data)[foreign], self.journal.nonce) < 0
            self.is_odd = bool((addresses[foreign] % BLOCK).any() or torn.any())
        shown = np.where(addresses >= 0, addresses // BLOCK, addresses)
        is_near = (shown == blocks) & (addresses != blocks * BLOCK)          # of another block, by less than one
        return np.where(is_near, shown + 1, shown)

    # --- putting back -------------------------------------------------------------------------------------------------

    def _put_back(self, places: list[tuple[int, int]]) -> None:
        held = {self.journal.held[block] for first, count in places for block in range(first, first + count)}
        self.not_back |= set(put_back(sorted(held, key=lambda place: -place.block), self.card, self.journal,
                                      self.watch))

    # --- the card -----------------------------------------------------------------------------------------------------

    def _read(self, first: int, count: int) -> bytes | None:
        """Whole blocks; None where they cannot be read. Raises MediumError where nothing can any more."""
        try:
            data = self.card.read(first * BLOCK, count * BLOCK)
        except MediumError:
            self._fail(first, count)
            return None
        self._failures = 0
        return data

    def _write(self, first: int, data: bytes) -> bool:
        try:
            self.card.write(first * BLOCK, data)
        except MediumError:
            self._fail(first, len(data) // BLOCK)
            return False
        self._failures = 0
        return True

    def _fail(self, first: int, count: int) -> None:
        self._failures += 1
        self.failed += 1
        if self._failures >= GONE:
            self._failures = 0
            self.card.read(0, BLOCK)                        # raises where it is not there any more
        self.bad.update(range(first, first + count))


def put_back(places: list[Place], card: Blocks, journal: Journal, watch: Watch) -> list[int]:
    """Put old contents back, the highest address first; compare upward; mend what differs, low addresses last.

    Returns blocks that do not take them: bad ones, or where nothing is held. Raises MediumError where the card is gone.
    """
    todo = [place for place in places if place.block >= FIRST]      # below nothing was marked: only what was hit
    untouched = [place for place in places if place.block < FIRST]
    for _ in range(TRIES):
        for number, place in enumerate(todo):
            if number % PIECE == 0:
                watch.report(Progress("Putting back what was there", number, len(todo), watch.step))
            _restore(place, card, journal)
        card.flush()
        card.drop_cache()
        todo = [place for place in (*todo, *untouched) if _reads(card, place.block, place.count) != journal.old(place)]
        untouched = []
        if not todo:
            return []
    if len(todo) == len(places):
        card.read(0, BLOCK)                                 # raises where it is not there any more
    return [place.block + k for place in todo for k, old in enumerate(as_blocks(journal.old(place)))
            if _reads(card, place.block + k, 1) != old.tobytes()]


def _restore(place: Place, card: Blocks, journal: Journal) -> None:
    """What cannot be written is told by the comparison; a bad block does not keep its neighbours from it."""
    old = journal.old(place)
    try:
        card.write(place.block * BLOCK, old)
    except MediumError:
        for k in reversed(range(place.count if place.count > 1 else 0)):
            with suppress(MediumError):
                card.write((place.block + k) * BLOCK, old[k * BLOCK:(k + 1) * BLOCK])


def _reads(card: Blocks, block: int, count: int) -> bytes | None:
    try:
        return card.read(block * BLOCK, count * BLOCK)
    except MediumError:
        return None


def _runs(numbers: list[int]) -> Iterator[tuple[int, int]]:
    """(first, last + 1) of neighbours."""
    if not numbers:
        return
    array = np.array(numbers)
    cuts = np.flatnonzero(np.diff(array) != 1)
    for a, b in zip(np.append(0, cuts + 1), np.append(cuts, len(array) - 1), strict=True):
        yield int(array[a]), int(array[b]) + 1
