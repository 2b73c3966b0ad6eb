"""A card that claims more than it has: found by comparing single places with what was written there.

Such a card drops what is written above its real size, or lets it overwrite its beginning: then a place in front holds
what was written a whole multiple of the real size behind it.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import gcd

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.base import FullView
from mosscrate.core.blocks.runs import distinct
from mosscrate.core.blocks.streaming import BLOCK
from mosscrate.core.sizes import KIB, MIB, binary
from mosscrate.core.watch import Watch

SPOT = 4 * KIB
SPOTS = 256                            # compared at once
ROUNDS = 6                             # each narrows the end sixteen times
SAMPLED = 16                           # spots of a block that passes
LEAST = 3                              # spots that say the same before a card is accused
STRAY = 10                             # one in so many may differ for another reason: a volume has grown since
STRIDES = (MIB, 64 * KIB)              # of which a real size is a multiple
TRACED = 6                             # spots in front that are looked for behind


class Sampled(FullView):
    """A source that is copied: of what passes in order a few places are held, so that it need not be read again."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self._held: dict[int, bytes] = {}
        self._every = 1                    # of so many blocks one is sampled

    def differing(self, target: Blocks, start: int) -> int:
        """How many of the places behind a byte are different on a target. Raises MediumError."""
        return sum(target.read(at, SPOT) != held for at, held in self._held.items()
                   if at >= start and at + SPOT <= target.size)

    def _seen(self, offset: int, data: memoryview) -> None:
        if offset % BLOCK == 0 and offset // BLOCK % self._every == 0 and len(data) >= SPOT:
            pages = np.frombuffer(data[:len(data) // SPOT * SPOT], np.uint64).reshape(-1, SPOT // 8)
            filled = np.flatnonzero(pages.any(axis=1))
            places = distinct(filled[np.linspace(0, len(filled) - 1, SAMPLED).astype(int)]) if len(filled) else ()
            for number in map(int, places):
                self._held[offset + number * SPOT] = pages[number].tobytes()
            if len(self._held) > 4 * SPOTS:
                self._every *= 2
                self._held = {at: held for at, held in self._held.items() if at // BLOCK % self._every == 0}


@dataclass(frozen=True)
class FalseSize:
    """Bytes that a card has at most, and whether what lies above overwrites its beginning."""

    real: int
    wraps: bool

    def sentence(self, card: Blocks) -> str:
        """What is said of it."""
        how = "overwrites its beginning" if self.wraps else "is not there"
        return (f"{card.name} is not what it claims to be: it holds about {binary(self.real)}, not "
                f"{binary(card.size)}; what is written above that {how}. It is a counterfeit, or failing.")


def false_size(source: Blocks, target: Blocks, length: int, watch: Watch) -> FalseSize | None:
    """What a target that should hold the first `length` bytes of a source really holds; None where nothing says less.

    Raises MediumError, Stopped.
    """
    target.drop_cache()
    spots = _spots(source, 0, length, SPOTS)
    differing = [at for at in spots if not _is_equal(source, target, at, watch)]
    if len(differing) < LEAST:
        return None
    equal = sorted(set(spots) - set(differing))
    last = max(equal, default=0)
    above = [at for at in differing if at > last]
    if len(above) >= LEAST and STRAY * (len(differing) - len(above)) <= len(equal):
        return FalseSize(_end_between(source, target, last, above[0], watch), wraps=False)
    return _folded(source, target, length, [at for at in differing if at < last], watch)


def _end_between(source: Blocks, target: Blocks, low: int, high: int, watch: Watch) -> int:
    """The first place that differs, as closely as what was written shows it."""
    for _ in range(ROUNDS):
        for at in _spots(source, low + SPOT, high - low - SPOT, 16):
            if _is_equal(source, target, at, watch):
                low = at
            else:
                high = at
                break
    return high


def _folded(source: Blocks, target: Blocks, length: int, front: list[int], watch: Watch) -> FalseSize | None:
    """Where the contents of places in front were written: a multiple of the real size behind them."""
    found: list[int] = []
    for at in front[::max(1, len(front) // TRACED)][:TRACED]:
        here = target.read(at, SPOT)
        behind = _behind(source, at, here, length, watch) if any(here) else None
        found += [behind] if behind else []
    return FalseSize(gcd(*found), wraps=True) if len(found) >= min(LEAST, len(front)) and found else None


def _behind(source: Blocks, at: int, here: bytes, length: int, watch: Watch) -> int | None:
    for stride in STRIDES:
        for extent in source.extents():
            first = max(at + stride, at + -(-(extent.start - at) // stride) * stride)
            for place in () if extent.is_hole else range(first, min(extent.end, length - SPOT) + 1, stride):
                watch.check()
                if source.read(place, SPOT) == here:
                    return place - at
    return None


def _is_equal(source: Blocks, target: Blocks, at: int, watch: Watch) -> bool:
    watch.check()
    return source.read(at, SPOT) == target.read(at, SPOT)


def _spots(source: Blocks, start: int, length: int, count: int) -> list[int]:
    """Places spread over what is written, that hold something else than zeros; in order."""
    runs = [(max(e.start, start), min(e.end, start + length)) for e in source.extents() if not e.is_hole]
    runs = [(a, b) for a, b in runs if b - a >= SPOT]
    total = sum(b - a for a, b in runs)
    step = max(SPOT, total // count // SPOT * SPOT)
    found, ahead = [], 0
    for a, b in runs:
        found += [at for at in range(-(-(a + ahead) // SPOT) * SPOT, b - SPOT + 1, step) if any(source.read(at, SPOT))]
        ahead = (ahead - (b - a)) % step
    return found
