"""Whether a card is still there when a place of it cannot be read: other places are asked that could be read before."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence

from mosscrate.core.blocks.base import Blocks, Extent
from mosscrate.core.errors import MediumError
from mosscrate.core.sizes import MIB

MOST, APART = 4, 16 * MIB         # places, and bytes between them: a card that gets worse loses neighbours together
HOPELESS = 16                     # failures after which a card of which nothing was ever read counts as gone too


class Witnesses:
    """Places of a card that were read, the latest ones. It counts as gone when none of them answers any more.

    Args:
        card: is asked.
        places: bytes at which something was read already.
    """

    def __init__(self, card: Blocks, places: Iterable[int] = ()) -> None:
        self.card = card
        self._places = deque(places, maxlen=MOST)
        self._failed = 0

    def __bool__(self) -> bool:
        """Whether anything was ever read."""
        return bool(self._places)

    def saw(self, start: int) -> None:
        """Something was read at a byte."""
        if len(self._places) > 1 and abs(start - self._places[-2]) < APART:
            self._places.pop()
        self._places.append(start)

    def saw_around(self, extent: Extent, bad: Sequence[Extent]) -> None:
        """A stretch was read but for what is bad of it, in order."""
        if not bad or bad[0].start > extent.start:
            self.saw(extent.start)
        elif bad[0].end < extent.end:
            self.saw(bad[0].end)

    def is_there(self) -> bool:
        """Whether one of them answers, past the system's memory of the card."""
        asked = list(self._places)
        if not asked:
            self._failed += 1
            return self._failed < HOPELESS
        self.card.drop_cache()
        while asked:
            if self._answers(asked[-1]):
                self._places = deque(asked, maxlen=MOST)
                return True
            asked.pop()
        return False

    def _answers(self, start: int) -> bool:
        at = start // self.card.sector * self.card.sector
        try:
            self.card.read(at, min(self.card.sector, self.card.size - at))
        except MediumError:
            return False
        return True
