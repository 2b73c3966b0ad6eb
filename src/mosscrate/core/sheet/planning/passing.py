"""What files lose on their way into volumes of another kind: told before anything is done."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from mosscrate.core.contents.transfer import Passage
from mosscrate.core.findings import Finding
from mosscrate.core.sheet.planning.forecasting import Forecast
from mosscrate.core.sheet.step import Step
from mosscrate.core.sizes import counted

SHOWN = 6


def together(seen: Forecast, steps: Iterable[Step] | None = None) -> Passage:
    """What all steps of a forecast lose as one passage, or some of them.

    Its paths begin with the partition where there is more than one.
    """
    wanted = None if steps is None else set(steps)
    found = [(line.step, line.decided.passage) for line in seen.lines
             if line.decided is not None and line.decided.passage is not None
             and (wanted is None or line.step in wanted)]
    whole = Passage()
    for step, passage in found:
        index = getattr(step, "source", getattr(step, "partition", 0))
        prefix = f"{index}: " if len(found) > 1 else ""
        whole.changed_names |= {prefix + old: new for old, new in passage.changed_names.items()}
        whole.left_out |= {prefix + path for path in passage.left_out}
        whole.findings += passage.findings
    return whole


def shortened(passage: Passage, most: int = SHOWN) -> tuple[Finding, ...]:
    """The first findings of a passage, and how many more there are."""
    found = passage.findings
    shown, more = tuple(found[:most]), len(found) - most
    if more <= 0:
        return shown
    return (*shown, replace(shown[-1], sentence=f"{counted(more, 'more name')} change in the same way."))
