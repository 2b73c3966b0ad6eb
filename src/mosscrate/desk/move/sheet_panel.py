"""The job sheet in plain sentences: what is left out, what is done, what is at work."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from mosscrate.core.sheet.planning.forecasting import StepLine
from mosscrate.core.sizes import binary, counted, duration
from mosscrate.desk.move.plan import Plan
from mosscrate.desk.shared.drawing import CENTER, draw_text, scaled_font
from mosscrate.desk.shared.panel import FindingRow, Panel, Rows, button, clear, label, row
from mosscrate.desk.theme import color

BEGIN = "Choose a source and a target to move a card onto another one, or only a target to lay it out anew. The " \
        "whole sheet is proposed at once; nothing is written until you run it."
SHORT = 34                             # characters of a note that stands beside its sentence


class SheetPanel(Panel):
    """Shows one plan; optional steps can be left out."""

    left_out = pyqtSignal(int, bool)            # proposed step, whether it is out

    def __init__(self) -> None:
        super().__init__()
        self.total = label(style="muted", scale=0.9, elides=True)
        self.back_button = button("Put back…", tip="Saves, settings and system files of an earlier card or a backup, "
                                                   "to where the new firmware wants them")
        self.back_button.setProperty("compact", True)
        self.back_button.hide()
        head = row(label("Job sheet", bold=True, scale=1.1))
        head.addWidget(self.total, 1)
        head.addWidget(self.back_button)
        self.column.addLayout(head)
        area = Rows("Steps of the sheet", spacing=2)
        self.rows = area.column
        self.column.addWidget(area, 1)
        self._steps: list[_StepRow] = []
        self._in_sheet: list[_StepRow] = []

    def show_plan(self, plan: Plan | None, *, is_locked: bool = False, why: str = "") -> None:
        """Put a plan into words; locked while it runs. `why` is why there is none."""
        clear(self.rows)
        self._steps, self._in_sheet = [], []
        self.back_button.setVisible(plan is not None and plan.writes_all and not is_locked)
        if plan is None:
            self.total.setText("")
            self.rows.addWidget(label(why or BEGIN, style="muted", wraps=True))
            self.rows.addStretch(1)
            return
        seen = plan.forecast
        reads, writes = sum(line.reads for line in seen.lines), sum(line.writes for line in seen.lines)
        self.total.setText(f"   {counted(len(seen.lines), 'step')}  ·  reads {binary(reads)}  ·  writes up to "
                           f"{binary(writes)}  ·  perhaps up to {duration(seen.seconds)}")
        for finding in plan.because:
            self.rows.addWidget(FindingRow(finding))
        self._add_rows(plan.all_lines.lines, plan.left_out, is_locked=is_locked)
        for finding in (*seen.problems, *plan.suits):
            self.rows.addWidget(FindingRow(finding))
        self.rows.addStretch(1)

    def show_step(self, current: int | None, done: Sequence[str] = ()) -> None:
        """Mark steps of the running sheet: those before `current` are done, in their own words."""
        for number, step in enumerate(self._in_sheet):
            is_done = number < len(done) or (current is not None and number < current)
            step.show_state("done" if is_done else "now" if number == current else "")
            if number < len(done):
                step.sentence.setText(done[number])

    def _add_rows(self, lines: Sequence[StepLine], out: frozenset[int], *, is_locked: bool) -> None:
        number = 0
        for k, line in enumerate(lines):
            is_out = k in out
            number += not is_out
            made = _StepRow(line, "–" if is_out else str(number), is_out=is_out,
                            can_skip=line.step.can_be_left_out and not is_locked)
            made.box.toggled.connect(lambda is_in, k=k: self.left_out.emit(k, not is_in))
            self._steps.append(made)
            if not is_out:
                self._in_sheet.append(made)
            self.rows.addWidget(made)


class _StepRow(QWidget):
    def __init__(self, line: StepLine, number: str, *, is_out: bool, can_skip: bool) -> None:
        super().__init__()
        self.badge = _Badge(number)
        self.sentence = label(line.sentence, style="muted" if is_out else "", wraps=True)
        self.sentence.setToolTip(line.sentence)
        note = label(line.note, style="muted", scale=0.86, wraps=len(line.note) > SHORT)
        note.setToolTip(line.note)
        words = QVBoxLayout()
        words.setSpacing(0)
        words.addWidget(self.sentence)
        is_below = len(line.note) > SHORT
        if is_below:
            words.addWidget(note)
        self.box = QCheckBox("include")
        self.box.setChecked(not is_out)
        self.box.setAccessibleName(f"Include: {line.sentence}")
        made = QHBoxLayout(self)
        made.setContentsMargins(0, 0, 0, 0)
        made.addWidget(self.badge, 0, Qt.AlignmentFlag.AlignTop)
        made.addLayout(words, 1)
        if not is_below:
            made.addWidget(note)
        made.addWidget(self.box)
        self.box.setVisible(can_skip)                  # not before: without a parent it would be a window of its own

    def show_state(self, state: str) -> None:
        if state != self.badge.state:
            self.badge.state = state
            self.badge.update()


class _Badge(QWidget):
    """The number of a step; a tick once it is done, a ring while it is at work."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.text, self.state = text, ""
        self.setFixedSize(26, 26)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        rect = QRectF(3, 3, 20, 20)
        edge = {"now": "accent", "done": "good"}.get(self.state, "line")
        painter.setPen(QPen(color(edge), 1.6))
        painter.setBrush(color("ground"))
        painter.drawRoundedRect(rect, 5, 5)
        if self.state == "done":
            painter.setPen(QPen(color("good"), 2))
            painter.drawPolyline(QPolygonF([QPointF(8, 13), QPointF(12, 17), QPointF(18, 8)]))
        else:
            draw_text(painter, rect, self.text, scaled_font(self.font(), 0.85, bold=True), color("text"),
                      CENTER)
        painter.end()
