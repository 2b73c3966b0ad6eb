"""Work beside the window: short questions in a pool, and long jobs that report.

Reports of a job are sampled by a timer; the job never waits for the window, nor the window for it.
"""

from __future__ import annotations

import logging
import os
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, TypeAlias

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from mosscrate.core.errors import MossError, Stopped
from mosscrate.core.sizes import duration
from mosscrate.core.watch import Progress, Watch

SAMPLE_MS = 100
WINDOW_SECONDS = 3.0
NICE = 5
CLOSING_S = 5.0                         # that a window waits for its questions
MOST_RATES = 512                        # an even number
log = logging.getLogger(__name__)


class _Answer(QObject):
    ready = pyqtSignal(object)
    failed = pyqtSignal(object)


def give_way() -> None:
    """Let the window's own thread have a processor first; threads that this one starts give way too."""
    with suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), NICE)


class _Question:
    def __init__(self, ask: Callable[[], Any]) -> None:
        self.ask, self.answer = ask, _Answer()

    def run(self) -> None:
        try:
            found = self.ask()
        except MossError as error:
            self._send(self.answer.failed, error)
        except Exception as error:
            log.exception("a question failed")
            self._send(self.answer.failed, error)
        else:
            self._send(self.answer.ready, found)

    def _send(self, signal: Any, value: object) -> None:  # noqa: ANN401 - a bound signal
        try:
            signal.emit(value)
        except RuntimeError:                   # the window was closed meanwhile
            log.debug("nobody waits for the answer any more")


Asked: TypeAlias = _Question


class _Pool:
    """A few threads that answer one question after the other.

    They are no threads of Qt: a pool of those waits in its destructor for what is under way, without letting go of the
    interpreter that this needs. These end with the process, whatever they are at.
    """

    def __init__(self, threads: int) -> None:
        self._most, self._threads, self._busy = threads, 0, 0
        self._waiting, self._changed, self._is_over = deque[_Question](), threading.Condition(), False

    def start(self, asked: _Question) -> None:
        with self._changed:
            self._waiting.append(asked)
            self._changed.notify_all()
            if self._threads < min(self._most, self._busy + len(self._waiting)):
                self._threads += 1
                threading.Thread(target=self._work, name="question", daemon=True).start()

    def hurry(self, asked: _Question) -> None:
        with self._changed:
            if asked in self._waiting:
                self._waiting.remove(asked)
                self._waiting.appendleft(asked)

    def end(self, seconds: float) -> None:
        """Wait a while for what was asked; nothing is taken on any more."""
        with self._changed:
            self._changed.wait_for(lambda: not (self._waiting or self._busy), seconds)
            self._waiting.clear()
            self._is_over = True
            self._changed.notify_all()

    def _work(self) -> None:
        give_way()
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._waiting or self._is_over)
                if not self._waiting:
                    return
                asked = self._waiting.popleft()
                self._busy += 1
            asked.run()
            del asked                          # whoever asked may be gone
            with self._changed:
                self._busy -= 1
                self._changed.notify_all()


class Asker(QObject):
    """Asks questions beside the window; the answers arrive on the window's thread."""

    def __init__(self, parent: QObject | None = None, *, threads: int = 2) -> None:
        super().__init__(parent)
        self._pool = _Pool(threads)
        self._open: set[_Question] = set()

    def ask(self, question: Callable[[], Any], then: Callable[[Any], None],
            failed: Callable[[Exception], None]) -> Asked:
        """Run `question` beside the window, then call one of the two on it."""
        asked = _Question(question)
        self._open.add(asked)
        asked.answer.ready.connect(lambda found: self._close(asked, then, found))
        asked.answer.failed.connect(lambda error: self._close(asked, failed, error))
        self._pool.start(asked)
        return asked

    def hurry(self, asked: Asked) -> None:
        """Let a question that still waits be the next."""
        self._pool.hurry(asked)

    def wait(self) -> None:
        """Until every question is answered, but not for long; for closing."""
        self._pool.end(CLOSING_S)

    @property
    def is_idle(self) -> bool:
        """Whether every answer has arrived."""
        return not self._open

    def _close(self, asked: _Question, then: Callable[[Any], None], value: Any) -> None:  # noqa: ANN401
        self._open.discard(asked)
        then(value)


@dataclass(frozen=True)
class Moment:
    """A running job at one moment; `remaining` in seconds for the phase, None while it cannot be told."""

    progress: Progress | None
    seconds: float
    rate: float
    remaining: float | None
    rates: tuple[float, ...] = ()

    @property
    def left(self) -> str:
        """How long the phase still takes, to stand behind other words; "" while it cannot be told."""
        if self.remaining is None:
            return ""
        about = "about " if self.remaining >= 1 else ""
        return f", {about}{duration(self.remaining)} left in this phase"


@dataclass
class _Meter:
    """Smooths the rate over the last seconds of one phase."""

    samples: deque[tuple[float, int]] = field(default_factory=deque)
    phase: str = ""
    rates: list[float] = field(default_factory=list)       # of stretches of equal length, `stride` samples each
    stride: int = 1
    held: list[float] = field(default_factory=list)

    def moment(self, progress: Progress | None, begun: float) -> Moment:
        now = time.monotonic()
        if progress is None:
            return Moment(None, now - begun, 0.0, None, tuple(self.rates))
        if progress.phase != self.phase or (self.samples and progress.done < self.samples[-1][1]):
            self.phase = progress.phase
            self.samples.clear()
        self.samples.append((now, progress.done))
        while self.samples[-1][0] - self.samples[0][0] > WINDOW_SECONDS:
            self.samples.popleft()
        span, moved = now - self.samples[0][0], progress.done - self.samples[0][1]
        rate = moved / span if span > 0 else 0.0
        if len(self.samples) > 1:
            self._note(rate)
        left = (progress.total - progress.done) / rate if progress.total and rate else None
        return Moment(progress, now - begun, rate, left, tuple(self.rates))


    def _note(self, rate: float) -> None:
        """One more; where they become many, neighbours are drawn together."""
        self.held.append(rate)
        if len(self.held) < self.stride:
            return
        self.rates.append(sum(self.held) / len(self.held))
        self.held.clear()
        if len(self.rates) >= MOST_RATES:
            pairs = zip(self.rates[::2], self.rates[1::2], strict=True)
            self.rates, self.stride = [(a + b) / 2 for a, b in pairs], self.stride * 2


class BackgroundJob(QObject):
    """One long job on a thread of its own."""

    sampled = pyqtSignal(object)          # Moment
    done = pyqtSignal(object)             # what the function returned
    failed = pyqtSignal(object)           # the exception, Stopped included
    ended = pyqtSignal()
    _finished = pyqtSignal(object, object)

    def __init__(self, title: str, work: Callable[[Watch], Any], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.title = title
        self._work, self._stop = work, threading.Event()
        self._latest: Progress | None = None
        self._meter, self._begun = _Meter(), time.monotonic()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._sample)
        self._finished.connect(self._end)
        self._thread = threading.Thread(target=self._run, name=title, daemon=True)

    @property
    def latest(self) -> Progress | None:
        """What it has said last."""
        return self._latest

    @property
    def seconds(self) -> float:
        """Since it was made."""
        return time.monotonic() - self._begun

    def start(self) -> None:
        """Begin; signals arrive on the window's thread."""
        self._timer.start(SAMPLE_MS)
        self._thread.start()

    def stop(self) -> None:
        """Ask it to stop between two blocks."""
        self._stop.set()

    def wait(self) -> None:
        """Until the thread has ended; for closing."""
        self._thread.join(30)

    def _run(self) -> None:
        give_way()
        watch = Watch(self._note, self._stop.is_set)
        try:
            result = self._work(watch)
        except (MossError, Stopped) as error:
            self._finished.emit(None, error)
        except Exception as error:
            log.exception("the job “%s” failed", self.title)
            self._finished.emit(None, error)
        else:
            self._finished.emit(result, None)

    def _note(self, progress: Progress) -> None:
        self._latest = progress

    def _sample(self) -> None:
        self.sampled.emit(self._meter.moment(self._latest, self._begun))

    def _end(self, result: object, error: Exception | None) -> None:
        self._timer.stop()
        self._sample()
        if error is None:
            self.done.emit(result)
        else:
            self.failed.emit(error)
        self.ended.emit()
