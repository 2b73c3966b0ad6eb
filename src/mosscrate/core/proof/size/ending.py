"""Where a false card really ends, to one block. Each question is a round of its own: marked, read, put back."""

from __future__ import annotations

import random
from dataclasses import dataclass
from math import gcd

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.proof_marks import BLOCK
from mosscrate.core.proof.size.journal import as_blocks
from mosscrate.core.proof.size.plans import FIRST, Numbers, Plan
from mosscrate.core.proof.size.rounds import Rounds

WAYS = 16                                # parts into which a stretch is cut by one round
TRIES = 4                                # of asking whether writing folds
DIVISORS = 4096                          # of a distance that are tried, the largest first
NOWHERE = np.zeros(0, np.int64)


def last_held(rounds: Rounds, low: int, high: int, *, above: int | None = None) -> int:
    """The first block that holds nothing of its own, between one that does and one that does not.

    Args:
        rounds: asks.
        low, high: a block that holds its mark (-1 for the beginning), one that does not.
        above: a block that is written last of all: what answers for everything above the end would hold one mark.
    """
    while high - low > 1:
        places = _cut(low, high)
        written = np.append(places, [above] if above is not None and above not in places else []).astype(np.int64)
        seen = rounds.go(Plan(rounds.journal.record.stage, written, NOWHERE))
        held = np.isin(places, seen.held)
        known = held | np.isin(places, seen.blocks[seen.is_marked & (seen.shown != seen.blocks) & (seen.shown >= -2)])
        places, held = places[known], held[known]
        if not len(places):
            return high
        if held.all():
            low = int(places[-1])
        else:
            first = int(np.argmin(held))
            low, high = (int(places[first - 1]) if first else low), int(places[first])
    return high


def first_held(rounds: Rounds, low: int, high: int) -> int:
    """The first block that holds its own mark again, between one that does not and one that does."""
    while high - low > 1:
        places = _cut(low, high)
        seen = rounds.go(Plan(rounds.journal.record.stage, places, NOWHERE))
        held = places[np.isin(places, seen.held)]
        lost = places[np.isin(places, seen.lost)]
        new_high = int(held[0]) if len(held) else high
        below = lost[lost < new_high]
        new_low = int(below[-1]) if len(below) else low
        if (new_low, new_high) == (low, high):
            break
        low, high = new_low, new_high
    return high


@dataclass(frozen=True)
class Length:
    """Of a fold.

    Attributes:
        blocks: the smallest distance at which a mark shows again.
        upwards: whether a mark below is read above; else only a mark written above is read below.
        is_seen: whether it was seen, and not only taken from the pairs.
    """

    blocks: int
    upwards: bool
    is_seen: bool


def distance(rounds: Rounds, pairs: tuple[tuple[int, int], ...]) -> Length:
    """The length of a fold: the distance of a pair, then its divisors, with one mark and a look at each."""
    written, read = max(pairs, key=max)
    low, high = sorted((written, read))
    whole = high - low
    apart = whole
    for a, b in pairs:
        apart = gcd(apart, abs(a - b))
    distances = np.array(sorted({whole // k for k in range(1, min(whole, DIVISORS) + 1) if whole % k == 0}
                                | {apart * k for k in range(1, min(DIVISORS, whole // apart) + 1)}))
    for start, looked in ((low, low + distances), (high, high - distances)):
        if start < FIRST:
            continue
        looked = looked[(looked >= 0) & (looked < rounds.blocks)]
        seen = rounds.go(Plan(rounds.journal.record.stage, np.array([start]), looked))
        shows = seen.blocks[~seen.is_marked & (seen.shown == start)]
        if len(shows):
            return Length(int(np.abs(shows - start).min()), start == low, is_seen=True)
    return Length(apart, upwards=False, is_seen=False)


def folded_end(rounds: Rounds, fold: int, high: int) -> int:
    """The first block that is the same room as the one a length of the fold below it, up to a block that is."""
    low = fold - 1
    while high - low > 1:
        places = _apart(_cut(low, high), fold)
        places = places[places - fold >= FIRST]
        if not len(places):
            return _folded_onto_the_beginning(rounds.card, fold, high)
        seen = rounds.go(Plan(rounds.journal.record.stage, places - fold, places))
        shows = dict(zip(seen.blocks.tolist(), seen.shown.tolist(), strict=True))
        folds = np.array([shows[int(p)] == int(p) - fold for p in places])
        if folds.any():
            first = int(np.argmax(folds))
            low, high = (int(places[first - 1]) if first else low), int(places[first])
        else:
            low = int(places[-1])
    return high


def folds_to_the_top(rounds: Rounds, fold: int, end: int) -> bool:
    """Whether the last blocks are rooms below too, and not only those of a stretch in the middle."""
    last = rounds.blocks - 1
    places = np.array([p for p in {last, (end + last) // 2} if p - fold >= FIRST])
    seen = rounds.go(Plan(rounds.journal.record.stage, _apart(places, fold) - fold, _apart(places, fold)))
    return bool((seen.shown[~seen.is_marked] == seen.blocks[~seen.is_marked] - fold).all())


def writes_fold(rounds: Rounds, end: int, chance: random.Random) -> bool:
    """Whether what is written above an end, and cannot be read there, overwrites what lies below."""
    for _ in range(TRIES):
        high = chance.randrange(end, rounds.blocks)
        if _comes_to_lie(rounds, high, high % end):
            return True
    return False


def written_end(rounds: Rounds, apart: int, low: int, high: int) -> int | None:
    """The end of a card whose writes fold and whose reads do not, where a mark was seen once.

    Args:
        rounds: asks.
        apart: blocks from where the mark was read to where it was written: so many times the end.
        low, high: a block below the end, one at or above it.
    """
    for end in sorted(apart // times for times in range(1, DIVISORS + 1) if apart % times == 0):
        if low < end <= high and _comes_to_lie(rounds, end + min(FIRST, end - 1), min(FIRST, end - 1)):
            return end
    return None


def _comes_to_lie(rounds: Rounds, high: int, low: int) -> bool:
    """Whether a mark for one block is read at another, whose contents are held before, so that asking costs nothing."""
    rounds.hold(low)
    return (high, low) in rounds.go(Plan(rounds.journal.record.stage, np.array([high]), np.array([low]))).pairs


def _folded_onto_the_beginning(card: Blocks, fold: int, high: int) -> int:
    """Below it no mark may be put; two addresses of one room have the same contents."""
    length = min(FIRST, high - fold)
    if length <= 0:
        return fold
    below, above = (as_blocks(card.read(start * BLOCK, length * BLOCK)) for start in (0, fold))
    differs = np.flatnonzero((below != above).any(axis=1))
    return fold + int(differs[-1]) + 1 if len(differs) else fold


def is_line(rounds: Rounds, pairs: tuple[tuple[int, int], ...], chance: random.Random) -> bool:
    """Whether one line of the address is stuck: then addresses with that bit as it is stuck are themselves.

    A fold of a power of two shows a mark one length below, whatever the bit; a stuck line only where the bit differs.
    """
    step = abs(pairs[0][0] - pairs[0][1])
    if step & (step - 1) or any(abs(a - b) != step for a, b in pairs) or rounds.blocks < 3 * step:
        return False
    asked = 0
    for _ in range(2):
        high = chance.randrange(2 * step, rounds.blocks) & ~step
        if high < 2 * step or high + step >= rounds.blocks:
            continue
        seen = rounds.go(Plan(rounds.journal.record.stage, np.array([high]), np.array([high - step, high + step])))
        shows = set(seen.blocks[~seen.is_marked & (seen.shown == high)].tolist())
        if high - step in shows or high + step not in shows:
            return False
        asked += 1
    return asked > 0


def _cut(low: int, high: int) -> Numbers:
    """At most WAYS - 1 places between two, in order; none below what may be marked."""
    places = np.unique(np.linspace(low, high, WAYS + 1).astype(np.int64)[1:-1])
    return places[(places > low) & (places < high) & (places >= FIRST)]


def _apart(places: Numbers, fold: int) -> Numbers:
    """Those that are different rooms of a fold: of equal remainders only the first."""
    _, first = np.unique(places % fold, return_index=True)
    return places[np.sort(first)]
