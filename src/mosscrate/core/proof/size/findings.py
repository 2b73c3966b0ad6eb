"""What may be concluded from what was seen. Three findings count, and an error of the medium is none of them."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

import numpy as np

from mosscrate.core.blocks.proof_marks import BLOCK, NONE
from mosscrate.core.proof.size.plans import FIRST, Numbers, Plan
from mosscrate.core.proof.size.rounds import UNREADABLE, Rounds, Seen
from mosscrate.core.sizes import MIB

APART = 32 * MIB // BLOCK                # blocks between neighbouring lost marks; less on small cards
SMALL = 128                              # of which this is the part
LOST = 0.95                              # share of fresh places that have to be lost as well
REPEATED, OF = 5, 6                      # fresh places that show one and the same mark


@dataclass
class Evidence:
    """What all rounds of a proof saw.

    Attributes:
        held: blocks that showed their own mark.
        lost: blocks that showed nothing.
    """

    held: set[int] = field(default_factory=set)
    lost: set[int] = field(default_factory=set)

    def take(self, seen: Seen) -> None:
        """Add a round."""
        self.held |= set(seen.held.tolist())
        self.lost |= set(seen.lost.tolist())


@dataclass(frozen=True)
class Stretch:
    """Blocks that hold nothing: the last one held below them (-1 for none), first and last lost, first held above."""

    below: int
    first: int
    last: int
    above: int


def confirmed_pairs(seen: Seen, rounds: Rounds) -> tuple[tuple[int, int], ...]:
    """Foreign addresses that are believed: two of them, or one that is seen a second time."""
    pairs = seen.pairs
    if len(pairs) != 1:
        return pairs
    written, read = pairs[0]
    order = np.array([read, written]) if read >= FIRST else np.array([written])
    again = rounds.go(Plan(rounds.journal.record.stage, order, np.array([read])))
    return pairs if (written, read) in again.pairs else ()


def repeated(pairs: tuple[tuple[int, int], ...], rounds: Rounds, chance: random.Random) -> int | None:
    """The block whose mark answers everywhere above, where one is seen at five of six fresh places."""
    written, read = max(pairs)
    low = min(written, read)
    span = rounds.blocks - low
    if span < 2 * OF:
        return None
    fresh = np.array(sorted({low + 1 + chance.randrange(span - 1) for _ in range(OF)} - {written}))
    seen = rounds.go(Plan(rounds.journal.record.stage, np.array([written]), fresh))
    hits = int((seen.shown[~seen.is_marked] == written).sum())
    return low if hits >= min(REPEATED, len(fresh)) else None


def lost_stretch(evidence: Evidence, seen: Seen, rounds: Rounds, chance: random.Random) -> Stretch | None:
    """A stretch that holds nothing.

    Neighbouring lost marks, far enough apart and with none between that held, are the suspicion; fresh places decide.
    """
    need, fresh = (3, 12) if rounds.journal.record.stage == "knock" else (2, 32)
    apart = min(APART, rounds.blocks // SMALL)
    held = np.sort(seen.held)
    for group in _between(seen.lost, held):
        if len(group) < need or group[-1] - group[0] < apart * (need - 1):
            continue
        if rounds.ballast != (0, 0):
            return _bounds(group, held, rounds.blocks)          # a run lost thousands of marks: that is no chance
        places = np.array(sorted({chance.randrange(int(group[0]), int(group[-1]) + 1) for _ in range(fresh)}))
        places = places[places >= FIRST]
        again = rounds.go(Plan(rounds.journal.record.stage, places, np.zeros(0, np.int64)))
        evidence.take(again)
        counted = int((again.shown[again.is_marked] != UNREADABLE).sum())
        if counted and int((again.shown[again.is_marked] == NONE).sum()) >= LOST * counted:
            return _bounds(group, held, rounds.blocks)
    return None


def _bounds(group: Numbers, held: Numbers, blocks: int) -> Stretch:
    below, above = held[held < group[0]], held[held > group[-1]]
    return Stretch(int(below[-1]) if len(below) else -1, int(group[0]), int(group[-1]),
                   int(above[0]) if len(above) else blocks)


def _between(lost: Numbers, held: Numbers) -> list[Numbers]:
    """Lost blocks in groups that no held one parts."""
    numbers = np.searchsorted(held, lost)
    return [lost[numbers == number] for number in np.unique(numbers)]
