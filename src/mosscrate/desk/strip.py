"""The strip at the bottom: what runs, what was said last."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QHideEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QProgressBar

from mosscrate.core.sizes import rate
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.background import BackgroundJob, Moment
from mosscrate.desk.shared.panel import button, label, restyle


class Strip(QFrame):
    """Follows the newest running job; a sentence stays until the next one."""

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.words = label(style="muted", scale=0.92, elides=True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedSize(170, 8)
        self.bar.setRange(0, 1000)
        self.stop_button = button("Stop", self._stop, style="quiet")
        line = QHBoxLayout(self)
        line.setContentsMargins(20, 4, 20, 6)
        line.addWidget(self.words, 1)
        line.addWidget(self.bar)
        line.addWidget(self.stop_button)
        self._job: BackgroundJob | None = None
        self._shows_progress = False                 # rather than a sentence
        self._quiet = QTimer(self)
        self._quiet.setSingleShot(True)
        self._quiet.timeout.connect(self._say_nothing_runs)
        model.jobs_changed.connect(self._follow)
        model.reading_changed.connect(self._follow)
        model.said.connect(self._say_good)
        model.failed.connect(self._say_problem)
        model.begun_anew.connect(self._say_no_more)
        self._follow()
        self._say_nothing_runs()

    def hideEvent(self, event: QHideEvent | None) -> None:
        """Qt: a window that is closed has nothing more to say, and no timer that outlives it."""
        self._quiet.stop()
        super().hideEvent(event)

    def _follow(self) -> None:
        job = next(reversed((*self.model.reading.values(), *self.model.jobs)), None)
        self.bar.setVisible(job is not None)
        self.stop_button.setVisible(job is not None)
        if job is not None and job is not self._job:
            self._quiet.stop()
            job.sampled.connect(lambda moment: self._show(job, moment))
        self._job = job
        if job is None and self._shows_progress:
            self._say_nothing_runs()

    def _show(self, job: BackgroundJob, moment: Moment) -> None:
        p = moment.progress
        if p is None or job is not self._job:
            return
        self._shows_progress = True
        speed = f", {rate(moment.rate)}" if moment.rate else ""
        restyle(self.words, "")
        self.words.setText(f"{job.title}. {p.phase}{speed}{moment.left}")
        self.bar.setValue(round(1000 * p.done / p.total) if p.total else 0)

    def _say_nothing_runs(self) -> None:
        self._say("Nothing is running.", "muted")

    def _say_no_more(self) -> None:
        """What was said of something else is over; a job that is shown goes on."""
        if not self._shows_progress:
            self._say_nothing_runs()

    def _say_good(self, text: str) -> None:
        self._say(text, "good")

    def _say_problem(self, text: str) -> None:
        self._say(text, "problem")

    def _say(self, text: str, style: str) -> None:
        self._shows_progress = False
        restyle(self.words, style)
        self.words.setText(text)
        self.words.setToolTip(text)
        if self.isVisible():
            self._quiet.start(20_000)

    def _stop(self) -> None:
        if self._job:
            self._job.stop()
