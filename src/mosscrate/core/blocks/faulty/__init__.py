"""Cards that misbehave as described: bad places, false sizes, caches, stalls, somebody's hand that pulls them.

`description` is what a card's file may say, `holding` where an address really leads, `caching` a card's memory of its
last blocks, `state` what lasts from one opening to the next, `blocks` draws it together.
"""

from mosscrate.core.blocks.faulty.blocks import FaultyBlocks
from mosscrate.core.blocks.faulty.description import (
    AddressLine,
    Bad,
    Cache,
    Drop,
    FalseMiddle,
    Faults,
    Fold,
    Repeat,
    Slow,
    Speed,
    Stall,
)
from mosscrate.core.blocks.faulty.state import CardState

__all__ = ["AddressLine", "Bad", "Cache", "CardState", "Drop", "FalseMiddle", "Faults", "FaultyBlocks", "Fold",
           "Repeat", "Slow", "Speed", "Stall"]
