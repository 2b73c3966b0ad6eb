"""A run while it goes on and when it has ended: phase, rate, remaining time, stop, result."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QWidget

from mosscrate.core.sizes import binary, duration, rate
from mosscrate.desk.shared.background import Moment
from mosscrate.desk.shared.button_rows import ButtonRows
from mosscrate.desk.shared.panel import Panel, Rows, button, clear, label, restyle
from mosscrate.desk.shared.rate_plot import RatePlot
from mosscrate.desk.shared.tag_entry import TagEntry

Act = tuple[str, Callable[[], object]]       # words on a button, and what it does
LEAST_PLOT = 34                              # points
KEEP_FIRST = "Keep all of it, then undo"


class RunPanel(Panel):
    """Follows one job, then offers what can be done next."""

    stop_wanted = pyqtSignal()
    close_wanted = pyqtSignal()
    look_wanted = pyqtSignal()
    back_wanted = pyqtSignal(str)             # typed tag
    keep_wanted = pyqtSignal(str)
    finish_wanted = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, wraps=True)
        self.words = label(style="muted", scale=0.92, wraps=True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(8)
        self.bar.setRange(0, 1000)
        self.plot = RatePlot()
        self.stop_button = button("Stop", self.stop_wanted.emit)
        self.look_button = button("Show the card", self.look_wanted.emit, style="primary")
        self.close_button = button("Back to the plan", self.close_wanted.emit)
        self.entry = TagEntry("Take it back", "Finish it", KEEP_FIRST)
        self.entry.confirmed.connect(self._confirmed)
        self.next = QHBoxLayout()                         # what usually follows, or what helps
        self.next.setContentsMargins(0, 0, 0, 0)
        told = Rows("How the job goes", spacing=6)                            # scrolls where the window is low
        for part in (self.head, self.words):
            told.column.addWidget(part)
        told.column.addLayout(self.next)
        below: tuple[QWidget, ...] = (self.bar, self.plot, self.entry)
        for each in below:
            told.column.addWidget(each, 1 if each is self.plot else 0)
        self.plot.setMinimumHeight(LEAST_PLOT)
        self.column.addWidget(told, 1)
        self.column.addWidget(ButtonRows(self.stop_button, self.close_button, self.look_button, spacing=8))

    def begin(self, title: str) -> None:
        """A job has begun."""
        self.head.setText(title)
        restyle(self.head, "")
        self.words.setText("Beginning…")
        self.bar.setValue(0)
        self.plot.show_rates(())
        self._show(is_running=True)

    def show_moment(self, moment: Moment) -> None:
        """A running job at one moment."""
        p = moment.progress
        if p is None:
            return
        speed = f", {rate(moment.rate)}" if moment.rate else ""
        total = f" of {binary(p.total)}" if p.total else ""
        self.words.setText(f"{p.phase}: {binary(p.done)}{total}{speed}{moment.left}. "
                           f"Running for {duration(moment.seconds)}.")
        self.bar.setValue(round(1000 * p.done / p.total) if p.total else 0)
        self.plot.show_rates(moment.rates)

    def show_stopping(self) -> None:
        """It was asked to stop."""
        self.stop_button.setEnabled(False)
        self.words.setText("Stopping at the next safe place…")

    def end(self, title: str, sentence: str, *, style: str = "good", undo_tag: str = "", can_finish: bool = False,
            can_look: bool = False, keeps_first: bool = False, acts: Sequence[Act] = ()) -> None:
        """The job has ended; with a tag it can be taken back, or kept as it is now and then taken back.

        `acts` are what usually follows, or what helps.
        """
        had_focus = self.stop_button.hasFocus()
        self.head.setText(title)
        restyle(self.head, style)
        self.words.setText(sentence)
        self._show(is_running=False)
        self.look_button.setVisible(can_look)
        made = [button(word, act) for word, act in acts]
        for each in made:
            each.setProperty("compact", True)
        if made:
            self.next.addWidget(ButtonRows(*made, spacing=6))
        if had_focus:
            (self.look_button if can_look else self.close_button).setFocus()
        self.entry.setVisible(bool(undo_tag))
        self.entry.ask(undo_tag)
        self.entry.prompt.setText(f"Type {undo_tag} to {'finish it or ' if can_finish else ''}take it back")
        for each, is_shown in zip(self.entry.buttons, (not keeps_first, can_finish, keeps_first), strict=True):
            each.setVisible(is_shown)

    def _show(self, *, is_running: bool) -> None:
        clear(self.next)
        self.stop_button.setVisible(is_running)
        self.stop_button.setEnabled(True)
        self.bar.setVisible(is_running)
        self.look_button.setVisible(False)
        self.close_button.setVisible(not is_running)
        self.entry.setVisible(False)

    def _confirmed(self, word: str) -> None:
        wanted = {"Take it back": self.back_wanted, "Finish it": self.finish_wanted, KEEP_FIRST: self.keep_wanted}
        wanted[word].emit(self.entry.typed())
