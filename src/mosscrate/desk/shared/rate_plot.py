"""The rate of a running job over time."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from mosscrate.core.sizes import rate
from mosscrate.desk.shared.drawing import RIGHT, draw_text, scaled_font
from mosscrate.desk.shared.hearing import Heard, Part, Words
from mosscrate.desk.theme import color

COLUMNS = 240


class RatePlot(QWidget):
    """An area from the first second on; the highest rate is written beside its line."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(180, 54)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Rate over time")
        self._rates: tuple[float, ...] = ()
        self._heard = Heard(self, Words)

    def show_rates(self, rates: tuple[float, ...]) -> None:
        """Draw these, oldest first, in bytes a second."""
        self._rates = _thinned(rates)
        now = f"now {rate(rates[-1])}" if rates else "nothing yet"
        self.setAccessibleDescription(now)
        self._heard.show([Part(QRectF(self.rect()), f"Rate: {now}")])
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1, 14, -1, -2)
        painter.setPen(QPen(color("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        highest = max(self._rates, default=0.0)
        if highest > 0:
            step = area.width() / max(1, len(self._rates) - 1)
            points = [QPointF(area.left() + k * step, area.bottom() - area.height() * r / highest)
                      for k, r in enumerate(self._rates)]
            tint = QColor(color("accent"))
            tint.setAlpha(60)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(tint)
            painter.drawPolygon(QPolygonF([*points, area.bottomRight(), area.bottomLeft()]))
            painter.setPen(QPen(color("accent"), 1.6))
            painter.drawPolyline(QPolygonF(points))
            draw_text(painter, QRectF(0, 0, self.width(), 13), f"highest {rate(highest)}",
                      scaled_font(self.font(), 0.78), color("muted"), RIGHT)
        painter.end()


def _thinned(rates: tuple[float, ...]) -> tuple[float, ...]:
    """At most COLUMNS values, each the mean of its stretch."""
    width = -(-len(rates) // COLUMNS) if rates else 1
    return tuple(sum(rates[k:k + width]) / len(rates[k:k + width]) for k in range(0, len(rates), width))
