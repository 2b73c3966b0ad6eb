"""What a card is from one opening to the next: its clock, what went over, what its cache holds."""

from __future__ import annotations

import random
from collections import OrderedDict
from dataclasses import dataclass, field

from mosscrate.core.blocks.faulty.description import Bad


@dataclass(frozen=True)
class Held:
    """A block in a cache; `is_new` where it was written, and not only read."""

    number: int
    data: bytes
    is_new: bool


@dataclass
class CardState:
    """Lasts as long as the card has power.

    Attributes:
        seconds: of the card's clock.
        read, written: bytes that went over.
        writes: commands.
        cached: blocks by their addresses, the one longest unused first.
        worse: bad stretches that came by themselves.
        stalled: how many stalls there were.
    """

    seconds: float = 0.0
    read: int = 0
    written: int = 0
    writes: int = 0
    cached: OrderedDict[int, Held] = field(default_factory=OrderedDict)
    worse: list[Bad] = field(default_factory=list)
    stalled: int = 0
    chance: random.Random = field(default_factory=lambda: random.Random(1))

    def pull(self) -> None:
        """Take it out and put it in again: what a volatile cache held is lost."""
        self.cached.clear()
        self.written = self.read = self.writes = self.stalled = 0
