"""The foot of Proof for a card that is failing: how much of each kind is rescued, and how it goes on."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from mosscrate.core.rescue import Ending, Standing, Wishes
from mosscrate.core.sizes import binary
from mosscrate.desk.shared.drawing import LEFT, draw_text, scaled_font
from mosscrate.desk.shared.hearing import Heard, Part, Words
from mosscrate.desk.shared.panel import Panel, button, label, row
from mosscrate.desk.theme import color

BEFORE = ("What is worth most for the time is read first: saves, tables, settings, files. The card is never written. "
          "You can stop and continue days later.")
BEGIN, GO_ON, TO_THE_END, AGAIN = "Rescue it", "Go on", "Go on to the end", "Try bad places again"
GAP = 14


class RescuePanel(Panel):
    """Asks for sittings of a rescue and for its end; the station runs them."""

    def __init__(self, begin: Callable[[Wishes], None], keep: Callable[[], None]) -> None:
        super().__init__()
        self._begin = begin
        self.standing: Standing | None = None
        self.shares = Shares()
        self.words = label(BEFORE, style="muted", scale=0.9, wraps=True)
        self.go_button = button(BEGIN, self._go, style="primary")
        self.keep_button = button("Keep what there is", keep, tip="Make a backup of it; files with holes are named")
        for each in (self.go_button, self.keep_button):
            each.setProperty("compact", True)
        self.column.setSpacing(4)
        self.column.addWidget(self.shares)
        self.column.addWidget(self.words)
        self.column.addLayout(row(None, self.keep_button, self.go_button))

    def show_standing(self, standing: Standing | None, *, is_begun: bool, is_free: bool) -> None:
        """How far it is; None where that is not known."""
        self.standing = standing
        self.shares.show_shares(standing.told if standing else {})
        self.shares.setVisible(standing is not None)
        self.keep_button.setVisible(is_begun)
        self.go_button.setText(_next(standing, is_begun=is_begun))
        self.words.setText(standing.further if standing else BEFORE)
        self.words.setToolTip(self.words.text())
        for each in (self.go_button, self.keep_button):
            each.setEnabled(is_free)

    def _go(self) -> None:
        wanted = self.go_button.text()
        self._begin(Wishes(to_the_end=wanted in (TO_THE_END, AGAIN), again=wanted == AGAIN))


class Shares(QWidget):
    """For each kind a line that fills, its name and what is missing."""

    def __init__(self) -> None:
        super().__init__()
        self.told: dict[str, tuple[int, int]] = {}
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("What is rescued")
        self._heard = Heard(self, Words)

    def sizeHint(self) -> QSize:
        """Qt: two lines of text and the line between."""
        return QSize(320, 2 * self.fontMetrics().height() + 6)

    def show_shares(self, told: dict[str, tuple[int, int]]) -> None:
        """By name, bytes that are had and all of them."""
        self.told = told
        said = ", ".join(f"{name}: {_percent(*share)}" for name, share in told.items())
        self._heard.show([Part(QRectF(self.rect()), said)])
        self.setToolTip(said)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: side by side."""
        if not self.told:
            return
        painter = QPainter(self)
        width = (self.width() - GAP * (len(self.told) - 1)) / len(self.told)
        line, small = self.fontMetrics().height(), scaled_font(self.font(), 0.85)
        for number, (name, (have, all_)) in enumerate(self.told.items()):
            x, share = number * (width + GAP), have / all_ if all_ else 1.0
            is_all = have == all_
            draw_text(painter, QRectF(x, 0, width, line), name, small, color("text"), LEFT)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color("line"))
            painter.drawRect(QRectF(x, line + 1, width, 3))
            painter.setBrush(color("good" if is_all else "warning"))
            painter.drawRect(QRectF(x, line + 1, width * share, 3))
            missing = "all" if is_all else f"{binary(all_ - have)} missing"
            draw_text(painter, QRectF(x, line + 5, width, line), missing, small, color("muted"), LEFT)
        painter.end()


def _percent(have: int, all_: int) -> str:
    return "100 %" if have == all_ else f"{min(99.9, int(1000 * have / all_) / 10):.1f} %"


def _next(standing: Standing | None, *, is_begun: bool) -> str:
    """What the first button does."""
    if standing is not None and standing.ending == Ending.NOT_WORTH_IT:
        return TO_THE_END
    if standing is not None and standing.ending == Ending.TRIED:
        return AGAIN
    return GO_ON if is_begun else BEGIN
