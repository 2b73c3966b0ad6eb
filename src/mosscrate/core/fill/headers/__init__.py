"""Which system a file is for, by its header: published layouts of cartridges, discs and computers.

Each recogniser looks at the front of a file, and at a few pieces further in; what is not there reads as zeros.
"""

from __future__ import annotations

from collections.abc import Callable

from mosscrate.core.errors import MossError
from mosscrate.core.fill.headers import cartridges, computers, discs
from mosscrate.core.fill.headers.base import FRONT, NOTHING, Front, Reading

RECOGNISERS = (*cartridges.RECOGNISERS, *discs.RECOGNISERS, *computers.RECOGNISERS)

__all__ = ["FRONT", "NOTHING", "RECOGNISERS", "Front", "Reading", "read_header"]


def read_header(size: int, read: Callable[[int, int], bytes], ending: str = "") -> Reading:
    """What the header of a file says; NOTHING where none is known.

    Args:
        size: bytes of the file.
        read: (at, count) → bytes, fewer at the end. What it raises as MossError counts as unreadable.
        ending: of its name, without the dot; recognisers of that ending are asked first.
    """
    front = Front(size, read, ending.casefold())
    best = NOTHING
    for recogniser in sorted(RECOGNISERS, key=lambda each: front.ending not in each.endings):
        try:
            found = recogniser.look(front)
        except MossError:
            continue
        if found is not None and found.sure > best.sure:
            best = found
        if best.sure >= 3 or (best.sure == 2 and front.ending in recogniser.endings):
            break
    if best.sure == 1 and front.ending not in best.endings:
        return NOTHING                                        # too little to stand alone
    return best
