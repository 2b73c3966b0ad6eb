"""Room that a card has behind the volume that is filled: growing it first, when somebody asks for that."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from math import log2

from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError
from mosscrate.core.fill.placed import Question
from mosscrate.core.sheet.planning.forecasting import after
from mosscrate.core.sheet.planning.propose import filling
from mosscrate.core.sheet.steps import AnyStep
from mosscrate.core.sizes import MIB, binary

GROW, LEAVE = "grow it first", "leave it"
KEY = "grow"
WORTH = 64 * MIB                         # bytes behind a volume that are spoken of


@dataclass(frozen=True)
class Roomier:
    """The step that gives a volume the room behind it, the bytes that are free afterwards, the question about it."""

    step: AnyStep
    free: int
    question: Question


def roomier(layout: Layout, partition: int, name: str) -> Roomier | None:
    """What could be gained for a partition; None where it is not the last one, or nothing worth speaking of."""
    last = layout.last()
    if last is None or last.index != partition or last.volume is None or last.volume.free is None:
        return None
    with suppress(FitError):
        step = filling(layout, name)
        look = next((each for each in after(step, layout, layout).partitions if each.index == partition), None) \
            if step is not None else None
        if step is not None and look is not None and look.volume is not None and look.volume.free is not None:
            gained = look.volume.size - last.volume.size
            free = last.volume.free + gained - gained // 64       # its tables take some of it
            if gained >= WORTH:
                return Roomier(step, free, Question(KEY, f"{binary(gained)} behind {last.name} are not used.",
                                                    (LEAVE, GROW), 2500 + 100 * log2(1 + gained / MIB), 0))
    return None
