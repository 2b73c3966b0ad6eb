"""Progress on a terminal: phase, bar, rate and remaining time; nothing where there is no terminal."""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from mosscrate.core.errors import BY_SIGNAL, Stopped
from mosscrate.core.watch import Progress, Watch

ENDS = (signal.SIGINT, signal.SIGTERM)


@contextmanager
def watching() -> Iterator[Watch]:
    """A watch that draws on stderr and stops at Ctrl+C, or when the system asks the program to end."""
    stop, asked = threading.Event(), list[int]()

    def on_signal(number: int, frame: FrameType | None) -> None:
        asked.append(number)
        stop.set()

    before = {number: signal.signal(number, on_signal) for number in ENDS}
    try:
        if sys.stderr.isatty():
            with _bar(stop) as watch:
                yield watch
        else:
            yield Watch(should_stop=stop.is_set)
    except Stopped as stopped:
        if asked:
            stopped.exit_code = BY_SIGNAL + asked[0]
        raise
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


@contextmanager
def _bar(stop: threading.Event) -> Iterator[Watch]:
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, TextColumn, TimeRemainingColumn, TransferSpeedColumn
    from rich.progress import Progress as Bar

    with Bar(TextColumn("{task.description}"), BarColumn(), DownloadColumn(binary_units=True),
             TransferSpeedColumn(), TimeRemainingColumn(), console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("", total=None)
        shown = ""

        def report(progress: Progress) -> None:
            nonlocal shown, task
            if progress.phase != shown:
                shown = progress.phase
                bar.remove_task(task)
                task = bar.add_task(shown, total=progress.total)
            bar.update(task, completed=progress.done, total=progress.total)

        yield Watch(report, stop.is_set)
