"""The stations at the left edge, in the order of the work."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, pyqtSignal
from PyQt6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QButtonGroup, QVBoxLayout, QWidget

from mosscrate.desk.shared.drawing import CENTER, draw_focus, draw_text, scaled_font
from mosscrate.desk.theme import color

WIDTH = 76                       # as wide as what stands there until the rail is loaded


class Rail(QWidget):
    """One button for each station. `chosen` carries its number."""

    chosen = pyqtSignal(int)

    def __init__(self, names: tuple[str, ...]) -> None:
        super().__init__()
        self.setFixedWidth(WIDTH)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 18, 0, 12)
        column.setSpacing(8)
        self._group = QButtonGroup(self)
        for number, name in enumerate(names):
            made = _StationButton(name, f"Ctrl+{number + 1}")
            self._group.addButton(made, number)
            column.addWidget(made)
        column.addStretch(1)
        self._group.idClicked.connect(self.chosen)

    def show_chosen(self, number: int) -> None:
        """Mark a station."""
        if found := self._group.button(number):
            found.setChecked(True)

    def number_at(self, point: QPoint) -> int | None:
        """The station whose button lies there."""
        return next((self._group.id(b) for b in self._group.buttons() if b.geometry().contains(point)), None)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: the ground of the rail."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), color("rail"))
        painter.end()


class _StationButton(QAbstractButton):
    def __init__(self, name: str, shortcut: str) -> None:
        super().__init__()
        self.setText(name)
        self.setCheckable(True)
        self.setToolTip(f"{name} ({shortcut})")
        self.setAccessibleName(f"Station {name}")

    def sizeHint(self) -> QSize:
        return QSize(WIDTH, 72)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink = color("accent") if self.isChecked() else color("muted")
        if self.isChecked():
            painter.fillRect(self.rect(), color("panel"))
            painter.fillRect(QRectF(0, 0, 3, self.height()), color("accent"))
        painter.setPen(QPen(ink, 1.8))
        _ICONS[self.text()](painter, QPointF(self.width() / 2, 28))
        words = QRectF(0, self.height() - 27, self.width(), 20)
        draw_text(painter, words, self.text(), scaled_font(self.font(), 0.92, bold=self.isChecked()),
                  color("text") if self.isChecked() else color("muted"), CENTER)
        if self.hasFocus():
            draw_focus(painter, QRectF(self.rect()).adjusted(2, 2, -2, -2))
        painter.end()


def _look(painter: QPainter, at: QPointF) -> None:
    painter.drawRoundedRect(QRectF(at.x() - 8, at.y() - 15, 16, 30), 4, 4)
    for y in (-6, 4):
        painter.drawLine(QPointF(at.x() - 8, at.y() + y), QPointF(at.x() + 8, at.y() + y))


def _keep(painter: QPainter, at: QPointF) -> None:
    for y in (-12, -3, 6):
        painter.drawRoundedRect(QRectF(at.x() - 13, at.y() + y, 26, 7), 2.5, 2.5)


def _move(painter: QPainter, at: QPointF) -> None:
    painter.drawRoundedRect(QRectF(at.x() - 15, at.y() - 13, 9, 20), 3, 3)
    painter.drawRoundedRect(QRectF(at.x() + 6, at.y() - 15, 9, 30), 3, 3)
    path = QPainterPath(QPointF(at.x() - 6, at.y() - 2))
    path.cubicTo(QPointF(at.x(), at.y() - 2), QPointF(at.x(), at.y() + 4), QPointF(at.x() + 6, at.y() + 4))
    painter.drawPath(path)


def _fill(painter: QPainter, at: QPointF) -> None:
    painter.drawRoundedRect(QRectF(at.x() - 13, at.y() - 4, 26, 19), 4, 4)
    for x, y in ((-7, -15), (0, -11), (7, -15)):
        painter.drawLine(QPointF(at.x() + x, at.y() + y), QPointF(at.x() + x * 0.6, at.y() + 6))


def _proof(painter: QPainter, at: QPointF) -> None:
    painter.drawRoundedRect(QRectF(at.x() - 14, at.y() - 15, 9, 30), 3, 3)
    path = QPainterPath(QPointF(at.x() + 4, at.y() - 15))
    for step, x in enumerate((8, 5, 11, 6, 9)):
        path.lineTo(at.x() + x, at.y() - 9 + 6 * step)
    painter.drawPath(path)


_ICONS = {"Look": _look, "Keep": _keep, "Move": _move, "Fill": _fill, "Proof": _proof}
