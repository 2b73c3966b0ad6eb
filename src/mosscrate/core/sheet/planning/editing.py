"""Where a step goes in a sheet: the one rule, for the window and for the shell."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import AnyStep, Eject, KeepCard


@dataclass(frozen=True)
class Edited:
    """A sheet with more steps, and which of its steps are left out; numbers count from 0."""

    sheet: JobSheet
    left_out: frozenset[int] = frozenset()


def with_steps(sheet: JobSheet, steps: tuple[AnyStep, ...], left_out: frozenset[int] = frozenset(), *,
               may_begin_anew: bool = False) -> Edited:
    """A sheet with more steps, before the card is let go of.

    Another way of writing all of a source takes the place of the one that is there. Where a sheet may begin anew,
    steps that begin from nothing take the place of everything but what is kept first.
    """
    old = sheet.steps
    if may_begin_anew and any(step.begins_anew for step in steps):
        old, left_out = tuple(step for step in old if isinstance(step, KeepCard | Eject)), frozenset()
    writing = next((k for k, step in enumerate(old) if step.writes_all), None)
    if writing is not None and len(steps) == 1 and steps[0].writes_all:
        return Edited(_holding(sheet, (*old[:writing], *steps, *old[writing + 1:])), left_out)
    at = next((k for k, step in enumerate(old) if isinstance(step, Eject)), len(old))
    moved = frozenset(k if k < at else k + len(steps) for k in left_out)
    return Edited(_holding(sheet, (*old[:at], *steps, *old[at:])), moved)


def _holding(sheet: JobSheet, steps: tuple[AnyStep, ...]) -> JobSheet:
    return msgspec.structs.replace(sheet, steps=steps)
