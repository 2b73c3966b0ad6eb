"""Small building blocks: panels, labels, buttons, rows of facts."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from mosscrate.core.findings import Finding, Severity
from mosscrate.desk.shared.drawing import scaled_font
from mosscrate.desk.shared.words import Label

USUAL_TIP = "usual tip"                  # property of a part that says at times why it cannot be used
LEAST_ROWS = 36                          # points of a column that scrolls
_MARKS = {Severity.GOOD: "✓", Severity.NOTE: "i", Severity.WARNING: "!", Severity.PROBLEM: "✗"}
_STYLES = {Severity.GOOD: "good", Severity.NOTE: "muted", Severity.WARNING: "warning", Severity.PROBLEM: "problem"}


class Line(Label):
    """One line of text that ends in an ellipsis where there is no room; all of it is in the tooltip."""

    def __init__(self, text: str = "") -> None:
        super().__init__(text)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        fitted = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        if fitted != self.text() and not self.toolTip():
            self.setToolTip(self.text())
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), int(self.alignment() | Qt.AlignmentFlag.AlignVCenter), fitted)
        painter.end()


class Panel(QFrame):
    """A raised area with a column of contents."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("panel", True)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(14, 12, 14, 12)
        self.column.setSpacing(6)


def label(text: str = "", *, style: str = "", scale: float = 1.0, bold: bool = False, mono: bool = False,
          wraps: bool = False, elides: bool = False) -> QLabel:
    """A label; `style` is "", "muted", "warning", "problem" or "good"."""
    made = Line(text) if elides else Label(text)
    made.setFont(scaled_font(made.font(), scale, bold=bold, mono=mono))
    if style:
        made.setProperty(style, True)
    if wraps:
        made.setWordWrap(True)
        made.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
    return made


def restyle(widget: QWidget, style: str) -> None:
    """Give a label another style, or none."""
    wanted = {name: name == style for name in ("muted", "warning", "problem", "good")}
    if all(bool(widget.property(name)) == value for name, value in wanted.items()):
        return                                                # polishing is dear, and jobs speak ten times a second
    for name, value in wanted.items():
        widget.setProperty(name, value)
    if shape := widget.style():
        shape.unpolish(widget)
        shape.polish(widget)


def button(text: str, act: Callable[[], object] | None = None, *, style: str = "", tip: str = "") -> QPushButton:
    """A button; `style` is "", "primary" or "quiet"."""
    made = QPushButton(text)
    if style:
        made.setProperty(style, True)
    if tip:
        made.setToolTip(tip)
    made.setAutoDefault(False)
    if act is not None:
        made.clicked.connect(lambda _checked: act())
    return made


def permit(part: QWidget, why_not: str) -> None:
    """Let it be used, or say under the pointer and to who hears the screen why it cannot be."""
    usual = part.property(USUAL_TIP)
    if usual is None:
        usual = part.toolTip()
        part.setProperty(USUAL_TIP, usual)
    part.setEnabled(not why_not)
    part.setToolTip(why_not or usual)
    part.setAccessibleDescription(why_not)


def row(*parts: QWidget | int | None, spacing: int = 8) -> QHBoxLayout:
    """Widgets beside each other; a number is a fixed gap, None takes the room that is left."""
    made = QHBoxLayout()
    made.setSpacing(spacing)
    for part in parts:
        if part is None:
            made.addStretch(1)
        elif isinstance(part, int):
            made.addSpacing(part)
        else:
            made.addWidget(part)
    return made


def clear(layout: QLayout) -> None:
    """Remove everything from a layout."""
    while layout.count():
        item = layout.takeAt(0)
        if item is None:
            continue
        if widget := item.widget():
            widget.hide()
            widget.setParent(None)
            widget.deleteLater()
        elif inner := item.layout():
            clear(inner)


class Facts(QWidget):
    """Names on the left, values on the right."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(5)
        self._grid.setColumnStretch(1, 1)

    def show_facts(self, facts: Iterable[tuple[str, str]]) -> None:
        """Exchange all rows."""
        clear(self._grid)
        for number, (name, value) in enumerate(facts):
            self._grid.addWidget(label(name, style="muted", scale=0.9), number, 0)
            shown = label(value, scale=0.9, elides=True)
            shown.setAlignment(Qt.AlignmentFlag.AlignRight)
            shown.setToolTip(value)
            shown.setAccessibleName(f"{name}: {value}")
            self._grid.addWidget(shown, number, 1)


class Rows(QScrollArea):
    """A column of widgets that scrolls; what is added goes into `column`. `name` is told to who hears the screen."""

    def __init__(self, name: str, *, spacing: int = 2) -> None:
        super().__init__()
        self.setAccessibleName(name)
        inner = QWidget()
        self.column = QVBoxLayout(inner)
        self.column.setContentsMargins(0, 0, 8, 0)
        self.column.setSpacing(spacing)
        self.setWidgetResizable(True)
        self.setMinimumHeight(LEAST_ROWS)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(inner)
        inner.setAutoFillBackground(False)
        if viewport := self.viewport():
            viewport.setAutoFillBackground(False)


class FindingRow(QWidget):
    """One finding: a mark, the sentence, what can be done."""

    def __init__(self, finding: Finding) -> None:
        super().__init__()
        column = QVBoxLayout()
        column.setSpacing(1)
        sentence = label(finding.placed, scale=0.94, wraps=True)
        sentence.setAccessibleName(f"{finding.severity}: {finding.placed}")
        column.addWidget(sentence)
        if finding.remedy:
            column.addWidget(label(finding.remedy, style="muted", scale=0.86, wraps=True))
        mark = label(_MARKS[finding.severity], style=_STYLES[finding.severity], bold=True)
        mark.setFixedWidth(14)
        mark.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignHCenter)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 2, 0, 2)
        line.addWidget(mark, 0, Qt.AlignmentFlag.AlignTop)
        line.addLayout(column, 1)
        self.setAccessibleName(f"{finding.severity}: {finding.placed}")
