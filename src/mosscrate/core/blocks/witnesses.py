"""Whether a card is still there when a place of it cannot be read: other places are asked that could be read before."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable

from mosscrate.core.blocks.base import Blocks
from mosscrate.core.errors import MediumError
from mosscrate.core.sizes import MIB

MOST, APART = 4, 16 * MIB         # places, and bytes between them: a card that gets worse loses neighbours together


class Witnesses:
    """Places of a card that were read, the latest ones. It counts as gone when none of them answers any more.

    Args:
        card: is asked.
        places: bytes at which something was read already.
    """

    def __init__(self, card: Blocks, places: Iterable[int] = ()) -> None:
        self.card = card
        self._places = deque(places, maxlen=MOST)

    def __bool__(self) -> bool:
        """Whether anything was ever read."""
        return bool(self._places)

    def saw(self, start: int) -> None:
        """Something was read at a byte."""
        if len(self._places) > 1 and abs(start - self._places[-2]) < APART:
            self._places.pop()
        self._places.append(start)

    def is_there(self) -> bool:
        """Whether one of them answers, past the system's memory of the card; a card that never gave anything is."""
        asked = list(self._places)
        if asked:
            self.card.drop_cache()
        while asked:
            if self._answers(asked[-1]):
                self._places = deque(asked, maxlen=MOST)
                return True
            asked.pop()
        return not self._places

    def _answers(self, start: int) -> bool:
        at = start // self.card.sector * self.card.sector
        try:
            self.card.read(at, min(self.card.sector, self.card.size - at))
        except MediumError:
            return False
        return True
