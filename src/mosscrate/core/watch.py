"""How long work talks to whoever waits for it.

A job is an ordinary function that takes a `Watch`. It reports frozen `Progress` records and calls
`check` between blocks, which raises `Stopped` when somebody asked for that. Whoever runs the job
decides on which thread, and how often to look at the reports.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from mosscrate.core.errors import Stopped


@dataclass(frozen=True)
class Progress:
    """Where a job stands. Bytes of this phase; `total` is None when it cannot be known."""

    phase: str
    done: int
    total: int | None
    step: int = 0                     # 0-based index in the job sheet


def _ignore(progress: Progress) -> None:
    """Report to nobody."""


def _never() -> bool:
    return False


@dataclass
class Watch:
    """The two lines between a job and its onlooker."""

    report: Callable[[Progress], None] = _ignore
    should_stop: Callable[[], bool] = _never
    step: int = field(default=0)

    def progress(self, phase: str, done: int, total: int | None) -> None:
        """Report, then stop if asked to. Raises Stopped."""
        self.report(Progress(phase, done, total, self.step))
        self.check()

    def check(self) -> None:
        """Raises Stopped when somebody asked for it."""
        if self.should_stop():
            raise Stopped("Stopped as you asked.")
