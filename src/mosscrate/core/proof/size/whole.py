"""The full proof: every block carries its mark at once, and every block is looked at.

Nothing can hide from it but a card that remembers all it claims. What stood on the card is held in a file as large as
what it holds, or given up.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import pairwise
from pathlib import Path

import numpy as np

from mosscrate.core.blocks import Blocks, Extent, create_image, open_blocks
from mosscrate.core.blocks.proof_marks import BLOCK, MAGIC, NO_CONTENTS, build, read
from mosscrate.core.blocks.runs import joined
from mosscrate.core.blocks.streaming import copy
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.size.journal import Journal, as_blocks
from mosscrate.core.proof.size.plans import Numbers
from mosscrate.core.proof.size.putting_back import PutBack, told_apart
from mosscrate.core.proof.size.verdict import Kind, Verdict
from mosscrate.core.sizes import MIB
from mosscrate.core.slots.proofs import WHOLE
from mosscrate.core.watch import Progress, Watch

PIECE = MIB
HELD = "whole"                           # the file of old contents
NOTHING, FAILED = -1, -2                 # instead of the block whose mark is shown
TRIES = 3
FALSE_FROM = 8 * MIB                     # a silent stretch of so much, or a 128th of the card, is no bad place any more
WORN = 64 << 10                          # on small cards, so much is


@dataclass(frozen=True)
class Shown:
    """Neighbouring blocks that all show marks from the same distance.

    Attributes:
        first, count: blocks.
        mark: block whose mark the first of them shows; NOTHING, or FAILED where it could not be read or written.
    """

    first: int
    count: int
    mark: int

    @property
    def end(self) -> int:
        """Block behind the last."""
        return self.first + self.count

    @property
    def is_foreign(self) -> bool:
        """Whether marks of other blocks stand there."""
        return self.mark >= 0 and self.mark != self.first


@dataclass
class Whole:
    """A card that is proved whole.

    Args:
        card: open for writing, everybody else kept out.
        nonce: of the marks.
        watch: is told.
        writes, reads: logs to be filled.
        skipped: stretches that are not marked: what stands there could not be read.
        magic: of the marks; it says whether contents are to come back in their place.
    """

    card: Blocks
    nonce: bytes
    watch: Watch
    writes: DepthLog
    reads: DepthLog
    skipped: tuple[Extent, ...] = ()
    magic: np.uint64 = MAGIC
    is_odd: bool = False                 # its room folds by less than a block
    shown: list[Shown] = field(default_factory=list)
    repeats: list[Shown] = field(default_factory=list)      # stretches of which every block shows one mark

    @property
    def blocks(self) -> int:
        """Of the card; less than a block at its end is left alone."""
        return self.card.size // BLOCK

    def mark(self) -> None:
        """Write every mark, upward. Raises MediumError where the card is gone, Stopped."""
        for first, count in self._pieces("Writing marks"):
            begun = self.card.now()
            try:
                self.card.write(first * BLOCK, self._marks(first, count))
                self.writes.add(first * BLOCK, count * BLOCK, self.card.now() - begun)
            except MediumError:
                self._one_by_one(first, count)
        self.card.flush()
        self.card.drop_cache()

    def look(self) -> None:
        """Read every mark. Raises MediumError where the card is gone, Stopped."""
        for first, count in self._pieces("Reading marks"):
            begun = self.card.now()
            try:
                data = self.card.read(first * BLOCK, count * BLOCK)
                self.reads.add(first * BLOCK, count * BLOCK, self.card.now() - begun)
                marks = self._marks_in(first, data)
            except MediumError:
                marks = np.array([self._mark_at(block) for block in range(first, first + count)], np.int64)
            self._note(first, marks)

    def verdict(self) -> Verdict:
        """What it comes to."""
        size, bad = self.card.size, sum(run.count for run in self.shown if run.mark == FAILED)
        if bad * 2 > self.blocks:
            return Verdict(Kind.UNSURE, "whole", size, bad=bad)
        repeated = self._repeated()
        end = self._shared()
        if end is None and self.is_odd:                     # blocks that show parts of others alone
            end = min((run.first for run in self.shown if run.is_foreign), default=None)
        if repeated is not None:
            return Verdict(Kind.REPEATS, "whole", size, repeated * BLOCK, is_exact=not self.is_odd, bad=bad,
                           evidence=f"Everything from byte {repeated * BLOCK:,} on shows one and the same mark.")
        if end is not None:
            pair = next(run for run in self.shown if run.is_foreign)
            return Verdict(Kind.FOLDS, "whole", size, end * BLOCK, is_exact=not self.is_odd, bad=bad,
                           evidence=f"What was written at byte {pair.mark * BLOCK:,} was read at byte "
                                    f"{pair.first * BLOCK:,}.")
        silent = [run for run in self.shown if run.mark == NOTHING and
                  run.count * BLOCK >= min(FALSE_FROM, max(WORN, size // 128))]
        if silent:
            first, last = silent[0], silent[-1]
            is_top = last.end >= self.blocks and len(silent) == 1
            return Verdict(Kind.DROPS if is_top else Kind.HOLE, "whole", size, first.first * BLOCK, is_exact=True,
                           hole=(0, 0) if is_top else (first.first * BLOCK, first.end * BLOCK), bad=bad,
                           evidence="Nothing that was written there could be read again.")
        return Verdict(Kind.HOLDS, "whole", size, size, is_exact=True, bad=bad, lost=self.lost, skipped=self.skipped)

    @property
    def lost(self) -> tuple[Extent, ...]:
        """Silent places: what was written there is not held."""
        return tuple(joined(Extent(run.first * BLOCK, run.count * BLOCK) for run in self.shown if run.mark == NOTHING))

    def _pieces(self, phase: str) -> Iterator[tuple[int, int]]:
        """(first, count) of commands of 1 MiB that touch nothing that is skipped."""
        for piece in _pieces(self.blocks * BLOCK, self.skipped):
            self.watch.progress(phase, piece.start, self.card.size)
            yield piece.start // BLOCK, piece.length // BLOCK

    def _one_by_one(self, first: int, count: int) -> None:
        """After a long command has failed: its good blocks are written all the same."""
        failed = 0
        for block in range(first, first + count):
            try:
                self.card.write(block * BLOCK, self._marks(block, 1))
            except MediumError:
                failed += 1
                self.writes.add_bad(block * BLOCK, BLOCK)
        if failed == count:
            self.card.read(0, BLOCK)                        # raises where it is not there any more

    def _mark_at(self, block: int) -> int:
        try:
            return int(self._marks_in(block, self.card.read(block * BLOCK, BLOCK))[0])
        except MediumError:
            self.reads.add_bad(block * BLOCK, BLOCK)
            return FAILED

    def _marks_in(self, first: int, data: bytes) -> Numbers:
        own = np.arange(first, first + len(data) // BLOCK)
        blocks = as_blocks(data)
        addresses = read(blocks, self.nonce, own * BLOCK)
        foreign = (addresses >= 0) & (addresses != own * BLOCK)
        if foreign.any() and not self.is_odd:
            self.is_odd = bool((addresses[foreign] % BLOCK).any() or (read(blocks[foreign], self.nonce) < 0).any())
        shown = np.where(addresses >= 0, addresses // BLOCK, NOTHING)
        return np.where((shown == own) & (addresses != own * BLOCK), shown + 1, shown)     # less than one away

    def _marks(self, first: int, count: int) -> bytes:
        return build(np.arange(first, first + count, dtype=np.int64) * BLOCK, self.nonce, self.magic).tobytes()

    def _note(self, first: int, marks: Numbers) -> None:
        """Runs of one distance; neighbours become one over commands."""
        if len(marks) > 1 and marks[0] >= 0 and (marks == marks[0]).all():
            self.repeats.append(Shown(first, len(marks), int(marks[0])))
            return
        blocks = np.arange(first, first + len(marks))
        failed_writing = np.array([any(e.start <= b * BLOCK < e.end for e in self.writes.bad) for b in blocks]) \
            if self.writes.bad else np.zeros(len(marks), bool)
        marks = np.where(failed_writing & (marks == NOTHING), FAILED, marks)
        distance = np.where(marks >= 0, marks - blocks, np.where(marks == NOTHING, np.iinfo(np.int64).min,
                                                                np.iinfo(np.int64).max))
        cuts = [0, *(np.flatnonzero(np.diff(distance)) + 1).tolist(), len(marks)]
        for begin, end in pairwise(cuts):
            run = Shown(first + begin, end - begin, int(marks[begin]))
            last = self.shown[-1] if self.shown else None
            if last is not None and last.end == run.first and (
                    run.mark == last.mark if run.mark < 0 else run.mark - last.mark == last.count and last.mark >= 0):
                self.shown[-1] = Shown(last.first, last.count + run.count, last.mark)
            else:
                self.shown.append(run)

    def _repeated(self) -> int | None:
        """Where one block begins to answer for everything; None where none does."""
        if not self.repeats:
            return None
        mark = self.repeats[0].mark
        return min(run.first for run in (*self.shown, *self.repeats) if run.mark == mark) + 1

    def _shared(self) -> int | None:
        """The lowest block whose room belongs to a lower one: both show one mark."""
        held = sorted((run for run in self.shown if run.mark >= 0), key=lambda run: (run.mark, run.first))
        found = []
        lowest: list[Shown] = []                            # runs whose marks may overlap those that follow
        for run in held:
            lowest = [each for each in lowest if each.mark + each.count > run.mark]
            for each in lowest:
                a, b = each.first + run.mark - each.mark, run.first
                if a != b:
                    found.append(max(a, b))
            lowest.append(run)
        return min(found, default=None)


class HeldContents:
    """What stood on a card, in a sparse file of its journal's folder."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @classmethod
    def take(cls, card: Blocks, path: Path, watch: Watch) -> tuple[HeldContents, tuple[Extent, ...]]:
        """Read all of it; returns what could not be read too. Raises MediumError, Stopped."""
        path.unlink(missing_ok=True)
        with create_image(path, card.size) as image:
            copied = copy(card, image, card.size, watch, phase="Reading what is there", mend=True)
            image.flush()
        return cls(path), copied.unreadable

    def put_back_marked(self, card: Blocks, nonce: bytes, skipped: tuple[Extent, ...], watch: Watch) -> PutBack:
        """After an interruption: only what still bears a mark, the highest address first. Raises MediumError."""
        marked, since = list[int](), list[int]()
        with open_blocks(self.path) as old:
            for piece in self._told(reversed(_pieces(card.size, skipped)), card, watch):
                whole = piece.length // BLOCK * BLOCK
                blocks = range(piece.start // BLOCK, (piece.start + whole) // BLOCK)
                told = told_apart(card, blocks, old.read(piece.start, whole), nonce)
                since += [block * BLOCK for block in told.since]
                marked += [block * BLOCK for block in told.marked]
                for block in reversed(told.marked):
                    _restore(card, old, Extent(block * BLOCK, BLOCK))
            card.flush()
            card.drop_cache()
            left = [at for at in marked if not _is_same(card, old, Extent(at, BLOCK))]
        return PutBack(len(marked), tuple(sorted(left)), tuple(sorted(since)))

    def put_back(self, card: Blocks, skipped: tuple[Extent, ...], watch: Watch) -> list[int]:
        """The highest address first, compared upward; returns bytes of blocks that do not take theirs.

        Raises MediumError where the card is gone.
        """
        with open_blocks(self.path) as old:
            todo = _pieces(card.size, skipped)
            for _ in range(TRIES):
                for piece in self._told(reversed(todo), card, watch):
                    _restore(card, old, piece)
                card.flush()
                card.drop_cache()
                todo = [piece for piece in todo if not _is_same(card, old, piece)]
                if not todo:
                    return []
            card.read(0, BLOCK)                             # raises where it is not there any more
            blocks = [Extent(at, min(BLOCK, piece.end - at)) for piece in todo
                      for at in range(piece.start, piece.end, BLOCK)]
            return [block.start for block in blocks if not _is_same(card, old, block)]

    def _told(self, pieces: Iterable[Extent], card: Blocks, watch: Watch) -> Iterator[Extent]:
        """Pieces, each told as progress; it cannot be stopped."""
        for piece in pieces:
            watch.report(Progress("Putting back what was there", card.size - piece.end, card.size, watch.step))
            yield piece


def _pieces(size: int, skipped: tuple[Extent, ...]) -> list[Extent]:
    """Commands of 1 MiB at most over all of a card but the blocks that are skipped, in order."""
    out = Stretches.of(skipped).units_of(BLOCK, size)
    return [Extent(low, high - low) for at in range(0, size, PIECE)
            for low, high, is_out in out.cut(at, min(at + PIECE, size)) if not is_out]


def _restore(card: Blocks, old: Blocks, piece: Extent) -> None:
    data = old.read(piece.start, piece.length)
    try:
        card.write(piece.start, data)
    except MediumError:
        for at in reversed(range(0, piece.length, BLOCK)):
            try:
                card.write(piece.start + at, data[at:at + BLOCK])
            except MediumError:
                continue                                    # the comparison tells


def _is_same(card: Blocks, old: Blocks, piece: Extent) -> bool:
    try:
        return card.read(piece.start, piece.length) == old.read(piece.start, piece.length)
    except MediumError:
        return False


def prove_whole(card: Blocks, journal: Journal | None, watch: Watch, *, nonce: bytes, writes: DepthLog,
                reads: DepthLog) -> Verdict:
    """Write and read every block. What stood there is put back, where it can be. Raises MediumError, JobError, Stopped.

    Args:
        card: open for writing, everybody else kept out.
        journal: a new one whose folder has room for all that the card holds; None gives its contents up.
        watch: is told; when it is stopped the journal still says what to put back.
        nonce: of the marks, 16 bytes.
        writes, reads: to be filled, and drawn meanwhile.
    """
    skipped: tuple[Extent, ...] = ()
    if journal is not None:
        _, skipped = HeldContents.take(card, journal.folder / HELD, watch)
        journal.record.skipped = [(e.start, e.length) for e in skipped]
        journal.record.stage = WHOLE
        journal.sync()
    whole = Whole(card, nonce, watch, writes, reads, skipped, MAGIC if journal is not None else NO_CONTENTS)
    whole.mark()
    whole.look()
    found = whole.verdict()
    if journal is None:
        for at in (0, max(0, card.size - MIB)):              # it is blank, and looks like it
            card.zero(at, min(MIB, card.size - at))
        card.flush()
        return replace(found, is_given_up=True)
    back = HeldContents(journal.folder / HELD).put_back(card, skipped, watch)
    end = found.real if found.is_false and found.real is not None else card.size
    return replace(found, not_back=tuple(at for at in back if at < end))


def put_whole_back(card: Blocks, journal: Journal, watch: Watch) -> PutBack:
    """After an interruption: only what still bears a mark is written. Raises MediumError."""
    skipped = tuple(Extent(start, length) for start, length in journal.record.skipped)
    held = HeldContents(journal.folder / HELD)
    back = held.put_back_marked(card, journal.nonce, skipped, watch)
    back.end(journal)
    return back
