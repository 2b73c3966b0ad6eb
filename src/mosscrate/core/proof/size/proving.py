"""The way through a proof: it ends at the first certainty, so that a false card is written as little as can be."""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.proof_marks import BLOCK
from mosscrate.core.proof.size import ending, findings, rounds, whole
from mosscrate.core.proof.size.journal import Journal
from mosscrate.core.proof.size.plans import FIRST, RUN, Plan, comb, knock, run
from mosscrate.core.proof.size.putting_back import PutBack, told_apart
from mosscrate.core.proof.size.rounds import Rounds, Seen
from mosscrate.core.proof.size.verdict import Kind, Verdict
from mosscrate.core.sizes import counted
from mosscrate.core.slots.proofs import WHOLE, Place
from mosscrate.core.watch import Watch

DRIVES_OUT = 8192                        # blocks of a run behind which no mark of the comb is in a cache any more
ASKED = 64                               # blocks that seemed to hold something, asked again at once
ENOUGH = 0.5                             # of the marks have to be readable for a verdict


def prove_size(card: Blocks, journal: Journal, watch: Watch, *, run_length: int = RUN) -> Verdict:
    """Prove how much a card holds, and put everything back. Raises MediumError, JobError, Stopped.

    Whatever happens, what was on the card is in the journal until it is back (`put_back`).

    Args:
        card: open for writing, everybody else kept out.
        journal: a new one.
        watch: is told; stopping puts everything back first.
        run_length: bytes of the run.
    """
    if card.size // BLOCK <= FIRST:
        return Verdict(Kind.UNSURE, "knock", card.size, evidence=f"{card.name} is too small for the quick proof, which "
                       "leaves the first MiB alone. The full proof (every block) tells how large it is.")
    return _Proof(card, journal, watch, run_length).verdict()


def put_back(card: Blocks, journal: Journal, watch: Watch) -> PutBack:
    """After an interruption: what bears a mark gets back what stood there, and nothing else is written.

    Raises MediumError.
    """
    if journal.record.stage == WHOLE:
        return whole.put_whole_back(card, journal, watch)
    marked, since = list[Place](), list[int]()
    for place in journal.downwards():
        told = told_apart(card, range(place.block, place.block + place.count), journal.old(place), journal.nonce)
        marked += [journal.block_of(place, block - place.block) for block in reversed(told.marked)]
        since += [block * BLOCK for block in told.since if place.block >= FIRST]
    back = rounds.put_back(marked, card, journal, watch)
    done = PutBack(len(marked), tuple(block * BLOCK for block in back), tuple(sorted(since)))
    done.end(journal)
    return done


def take_back(card: Blocks, journal: Journal, watch: Watch) -> PutBack:
    """After a stop, while everybody else is still kept out: all of it, and all of the first MiB. Raises MediumError."""
    if journal.record.stage == WHOLE:
        return whole.put_whole_back(card, journal, watch)
    places = journal.downwards()
    left = rounds.put_back(places, card, journal, watch)
    done = PutBack(sum(place.count for place in places), tuple(block * BLOCK for block in left))
    done.end(journal)
    return done


class _Proof:
    """One proof, from the first knock to the sentence."""

    def __init__(self, card: Blocks, journal: Journal, watch: Watch, run_length: int) -> None:
        self.rounds = Rounds(card, journal, watch)
        self.chance = random.Random(journal.nonce)
        self.run_length = run_length
        self.evidence = findings.Evidence()
        self.hit = set[int]()            # blocks whose contents were lost to marks before they were read
        self.stage = "knock"

    def verdict(self) -> Verdict:
        """See prove_size."""
        marked = readable = 0
        self.rounds.hold(0, min(FIRST, self.rounds.blocks))     # a map is worth more than what else a mark may hit
        for plan in self._plans():
            self.stage = plan.name
            if plan.name == "run":
                self.rounds.ballast = plan.run
            seen = self.rounds.go(plan)
            self.evidence.take(seen)
            marked += int(seen.is_marked.sum())
            readable += int((seen.is_marked & (seen.shown != rounds.UNREADABLE)).sum())
            if (found := self._conclude(seen)) is not None:
                return found
        is_enough = readable >= ENOUGH * marked and marked > 0
        return self._told(Kind.HOLDS if is_enough else Kind.UNSURE, self.rounds.blocks, hidden=self.rounds.ballast[1])

    def _plans(self) -> Iterator[Plan]:
        blocks = self.rounds.blocks
        yield knock(blocks, self.chance)
        yield comb(blocks, self.chance)
        yield run(blocks, self.chance, self.run_length)

    def _conclude(self, seen: Seen) -> Verdict | None:
        if pairs := findings.confirmed_pairs(seen, self.rounds):
            return self._of_pairs(pairs)
        stretch = findings.lost_stretch(self.evidence, seen, self.rounds, self.chance)
        return self._of_loss(stretch) if stretch is not None else None

    def _of_pairs(self, pairs: tuple[tuple[int, int], ...]) -> Verdict:
        written, read_at = max(pairs, key=max)
        more = f", and {counted(len(pairs) - 1, 'other')} likewise" if len(pairs) > 1 else ""
        said = f"A mark that was written at byte {written * BLOCK:,} was read at byte {read_at * BLOCK:,}{more}."
        high = max(written, read_at)
        if self.stage != "run" and findings.repeated(pairs, self.rounds, self.chance) is not None:
            end, is_exact = self._end(self._held_below(min(map(min, pairs))), high, above=self.rounds.blocks - 1)
            return self._told(Kind.REPEATS, end + 1, said, is_exact=is_exact)
        ballast, self.rounds.ballast = self.rounds.ballast, (0, 0)
        length = ending.distance(self.rounds, pairs)
        self.rounds.ballast = ballast
        if length.is_seen and length.upwards and ending.is_line(self.rounds, pairs, self.chance):
            return self._told(Kind.LINE, length.blocks, said, is_exact=True)
        if not length.is_seen or not length.upwards:            # hidden by a cache, or every question costs contents
            return self._of_writes_only(length, read_at, said) if length.is_seen else \
                self._told(Kind.FOLDS, length.blocks, said)
        end = ending.folded_end(self.rounds, length.blocks, max(high, length.blocks))
        return self._told(Kind.FOLDS, end, said, is_exact=ending.folds_to_the_top(self.rounds, length.blocks, end))

    def _of_writes_only(self, length: ending.Length, read_at: int, said: str) -> Verdict:
        """A mark was read below and never above: its distance may be several times the room."""
        held = [block for block in self.evidence.held if block < length.blocks]
        end = ending.written_end(self.rounds, length.blocks, max([read_at, *held]),
                                 min([length.blocks, *self.evidence.lost]))
        self._count_hit(end or length.blocks)
        return self._told(Kind.FOLDS, end or length.blocks, said, is_exact=end is not None)

    def _of_loss(self, stretch: findings.Stretch) -> Verdict:
        end, is_exact = self._end(self._held_below(stretch.first), stretch.first)
        said = f"Nothing that was written from byte {end * BLOCK:,} on could be read again."
        if stretch.above >= self.rounds.blocks or self.stage == "run":
            if is_exact and ending.writes_fold(self.rounds, end, self.chance):
                said += " It overwrites what lies below instead, though it cannot be read there."
                self._count_hit(end)
            return self._told(Kind.DROPS, end, said, is_exact=is_exact)
        first = ending.first_held(self.rounds, stretch.last, stretch.above)
        said = f"Nothing that was written from byte {end * BLOCK:,} to {first * BLOCK:,} could be read again."
        return self._told(Kind.HOLE, end, said, is_exact=is_exact, hole=(end * BLOCK, first * BLOCK))

    def _end(self, held: list[int], high: int, *, above: int | None = None) -> tuple[int, bool]:
        """See ending.last_held, between blocks that seem to hold their marks and one that does not; is it exact?

        The few marks of a question may all be in a cache that the many of the comb went through. So the end is asked
        for once more with a run of marks behind it, and if it is another one then, it is looked for with that.
        """
        end = ending.last_held(self.rounds, held[-1] if held else -1, high, above=above)
        if self.rounds.ballast != (0, 0) or end - 1 < FIRST or not held:
            return end, self.rounds.ballast == (0, 0)
        count = max(1, min(DRIVES_OUT, held[len(held) // 2] - FIRST))       # most of what seems to hold something does
        self.rounds.ballast = (FIRST, count)
        last = [] if above is None else [above]
        seen = self.rounds.go(Plan(self.stage, np.array([end - 1, *last]), ending.NOWHERE))
        is_held = end - 1 in seen.held or end - 1 in self.rounds.bad
        if not is_held:
            asked = np.array([held[k] for k in sorted({(len(held) - 1) * n // ASKED for n in range(ASKED + 1)})])
            seen = self.rounds.go(Plan(self.stage, np.append(asked, np.array(last, np.int64)), ending.NOWHERE))
            again = np.isin(asked, seen.held)
            low = int(asked[again].max(initial=-1))
            high = int(asked[~again & (asked > low)].min(initial=high))
            end = ending.last_held(self.rounds, low, high, above=above)
        self.rounds.ballast = (0, 0)
        return end, is_held or count > ENOUGH * DRIVES_OUT

    def _held_below(self, block: int) -> list[int]:
        return sorted(held for held in self.evidence.held if held < block)

    def _count_hit(self, end: int) -> None:
        """What lay where marks above the end came to lie, and was not read in time, is lost."""
        safe = set[int]()
        for number in range(1, self.rounds.journal.record.rounds + 1):
            read_now = {block for place in self.rounds.journal.record.places if place.round == number
                        for block in range(place.block, place.block + place.count)}
            safe |= {block for block in read_now if block < end} - self.hit
            self.hit |= {block % end for block in read_now if block >= end} - safe

    def _told(self, kind: Kind, end: int, evidence: str = "", *, is_exact: bool = False, hole: tuple[int, int] = (0, 0),
              hidden: int = 0) -> Verdict:
        if kind != Kind.HOLDS:                                  # a later round may have hit places of an earlier one
            journal = self.rounds.journal
            self.rounds.not_back -= journal.held.keys()
            self.rounds.not_back |= set(rounds.put_back(journal.downwards(), self.rounds.card, journal,
                                                        self.rounds.watch))
        lost = sorted(block * BLOCK for block in self.rounds.not_back | self.hit if block < end)
        if kind in (Kind.DROPS, Kind.REPEATS, Kind.HOLE):
            edge = end - (kind == Kind.REPEATS)                 # exactly is only what was asked on both sides
            is_exact = is_exact and edge - 1 in self.rounds.held_once and edge in self.rounds.gone_once
        is_exact = is_exact and not self.rounds.is_odd and end > FIRST
        held = [block for block in self.rounds.held_once if block < end]
        at_least = (max(held) + 1) * BLOCK if held and kind in (Kind.DROPS, Kind.REPEATS) and not is_exact else 0
        return Verdict(kind, self.stage, self.rounds.card.size, end * BLOCK, is_exact, hole, evidence,
                       self.rounds.failed, tuple(lost), hidden * BLOCK, at_least=at_least)


def room_for(size: int) -> int:
    """Bytes that the journal of a proof may need, for a card of a size."""
    return min(RUN, size // 8)
