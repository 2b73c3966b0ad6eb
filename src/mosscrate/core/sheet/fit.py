"""What a sheet does to the target, before anything is done: layouts, sentences, bytes."""

from __future__ import annotations

from dataclasses import dataclass

from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.layouts import after, grown_length, room_behind
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.words import StepLine, line_of

__all__ = ["Forecast", "StepLine", "after", "forecast", "grown_length", "room_behind"]


@dataclass(frozen=True)
class Forecast:
    """The target as it will be, every step in words, and what stands against it."""

    layout: Layout | None
    lines: tuple[StepLine, ...]
    problems: tuple[Finding, ...]

    @property
    def seconds(self) -> float:
        """Of all steps."""
        return sum(line.seconds for line in self.lines)


def forecast(sheet: JobSheet, source: Layout | None, target: Layout | None) -> Forecast:
    """Follow the steps through the layouts. Steps that do not fit become problems, not errors."""
    lines, problems = [], []
    for step in sheet.steps:
        try:
            lines.append(line_of(step, sheet, source, target))
            target = after(step, source, target)
        except FitError as error:
            if not lines or lines[-1].step is not step:
                lines.append(StepLine(step, "This step does not fit.", 0, 0))
            problems.append(Finding(Severity.PROBLEM, str(error)))
    return Forecast(target, tuple(lines), tuple(problems))
