"""One measured figure and its goal."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass

from mosscrate.core.sheet.running.journal.writing import JournalledBlocks


@dataclass(frozen=True)
class Figure:
    """`value` in `unit`; the goal is met at or below it."""

    name: str
    value: float
    goal: float
    unit: str
    detail: str = ""

    @property
    def is_met(self) -> bool:
        """Whether the goal is reached."""
        return self.value <= self.goal

    @property
    def line(self) -> str:
        """For the terminal."""
        mark = "✓" if self.is_met else "✗"
        return f"{mark} {self.name:52} {self.value:8.3f} {self.unit:3}  goal {self.goal:g}  {self.detail}"


def seconds(work: Callable[[], object]) -> float:
    """How long something takes."""
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def settled(work: Callable[[], object], journal: JournalledBlocks) -> float:
    """How long a change takes until all of it is on the card."""
    begun = time.perf_counter()
    work()
    journal.flush()
    return time.perf_counter() - begun


def paired(work: Callable[[], object], plain: Callable[[], object], rounds: int = 5) -> tuple[float, str]:
    """Median of the ratio work / plain over rounds in which the two take turns, and both medians in words."""
    pairs = [(seconds(plain), seconds(work)) for _ in range(rounds)]
    ratio = statistics.median(b / a for a, b in pairs)
    medians = [statistics.median(p[k] for p in pairs) for k in (0, 1)]
    return ratio, f"plain {medians[0]:.2f} s, ours {medians[1]:.2f} s, {rounds} rounds"
