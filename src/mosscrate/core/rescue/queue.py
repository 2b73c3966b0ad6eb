"""Which piece is next: the one with the most worth to be expected for each second that it is expected to take."""

from __future__ import annotations

import heapq
from collections.abc import Iterable

from mosscrate.core.rescue.areas import WORTH, Areas, Class
from mosscrate.core.rescue.pieces import SWEEP, SWEEP_OF_FILES, Again, Gap, Inside, Piece, Sweep
from mosscrate.core.rescue.state import RescueState

FRESH = 256                       # pieces taken before all are valued anew: chances change as a card is learnt
NARROWING = 0.5                   # chance of half of a stretch that holds a bad place
NEIGHBOURS = 16                   # the share of a gap that one good unit in it is thought to open
SAVES_FIRST = 6                   # so much more is asking for a save worth that nobody has asked for yet
FREE_WORTH = 1e-3                 # of a byte of free room, where it is wanted at all


class Queue:
    """All pieces of a rescue.

    Args:
        areas: of the card.
        state: what is had, and the gaps that are begun.
        with_free: whether free room is wanted too.
        again: whether units that have failed are tried again, and so often in all.
    """

    def __init__(self, areas: Areas, state: RescueState, *, with_free: bool, again: int) -> None:
        self.areas, self.state, self.again = areas, state, again
        self._heap: list[tuple[float, int, int, Piece]] = []
        self._number = self._taken = 0
        touched = state.touched()
        for start, end, which in areas.stretches(with_free=with_free):
            piece = SWEEP_OF_FILES if which in (Class.FILE, Class.FREE) else SWEEP
            self.put(Sweep(first, last, piece) for first, last in touched.missing(start, end))
        self.put(state.gaps.values())
        for tries, runs in enumerate(state.bad, 1):
            if tries < again:
                self.put(Again(start, end, tries) for start, end in runs)

    def put(self, pieces: Iterable[Piece]) -> None:
        """Add pieces."""
        for piece in pieces:
            self._number += 1
            heapq.heappush(self._heap, (-self.gain(piece), piece.start, self._number, piece))

    def best(self) -> tuple[Piece, float] | None:
        """The next piece, taken out, and its worth for each second; None where nothing is left."""
        self._taken += 1
        if self._taken % FRESH == 0:
            self._heap = [(-self.gain(entry[3]), *entry[1:]) for entry in self._heap]
            heapq.heapify(self._heap)
        while self._heap:
            _, start, number, piece = heapq.heappop(self._heap)
            gain = self.gain(piece)
            if not self._heap or gain >= -self._heap[0][0]:
                return piece, gain
            heapq.heappush(self._heap, (-gain, start, number, piece))
        return None

    def seconds(self) -> float:
        """That everything begun and untouched would take, if all that is begun failed unit by unit."""
        begun = sum(gap.end - gap.start for gap in self.state.gaps.values()) / self.state.unit
        swept = sum(piece.end - piece.start for *_, piece in self._heap if isinstance(piece, Sweep))
        return begun * self.state.learned.failure + swept / self.state.learned.rate

    def gain(self, piece: Piece) -> float:
        """Worth that the piece's next command is expected to bring for each second that it is expected to take."""
        state, command = self.state, piece.command(self.state.unit)
        chance = self._chance(piece)
        seconds = chance * command.length / state.learned.rate + (1 - chance) * state.learned.failure
        worth = self.areas.worth(command.start, command.end) or command.length * FREE_WORTH
        if isinstance(piece, Inside):                         # a good unit is the way to its neighbours
            worth = max(worth, self.areas.worth(piece.start, piece.end) / NEIGHBOURS)
        is_new_save = isinstance(piece, Sweep) and worth > WORTH[Class.STRUCTURE] * command.length
        return chance * worth * (SAVES_FIRST if is_new_save else 1) / seconds

    def _chance(self, piece: Piece) -> float:
        if isinstance(piece, Sweep):
            return self.state.chance(*_ends(piece, self.state.unit))
        if isinstance(piece, Gap):
            if not piece.is_bounded and not piece.tries:
                return self.state.chance(*_ends(piece, self.state.unit))
            return NARROWING if self._borders_good(piece) else self._inside(piece)
        if isinstance(piece, Inside):
            return self._inside(piece)
        return 0.3 / piece.tries

    def _inside(self, piece: Gap | Inside) -> float:
        return (piece.hits + self.state.learned.inside_chance * 2) / (piece.tries + 2)

    def _borders_good(self, gap: Gap) -> bool:
        """Whether what lies beside its next command was read: else it may well lie in one bad stretch with that."""
        start, end = _ends(gap, self.state.unit)
        beside = start - 1 if start == gap.start else end
        return not 0 <= beside < self.state.card.size or beside in self.state.have


def _ends(piece: Piece, unit: int) -> tuple[int, int]:
    command = piece.command(unit)
    return command.start, command.end
