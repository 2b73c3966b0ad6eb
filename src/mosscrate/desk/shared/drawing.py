"""Plain drawing: text, chips, cards, focus rings. Knows nothing of media, so that the first window is quick."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen, QPolygonF

from mosscrate.core.shown import shown
from mosscrate.desk.theme import color

# Qt's alignment flags as numbers: the first touch of the Qt namespace builds all of its enumerations
# (40 ms, a third of the time to the first window).
LEFT, RIGHT, CENTER, VERTICAL_CENTER = 0x1, 0x2, 0x4, 0x80


def mixed(a: QColor, b: QColor, share: float) -> QColor:
    """`share` of a, the rest of b."""
    parts = [round(x * share + y * (1 - share)) for x, y in
             ((a.red(), b.red()), (a.green(), b.green()), (a.blue(), b.blue()))]
    return QColor(*parts)


def scaled_font(base: QFont, factor: float, *, bold: bool = False, mono: bool = False) -> QFont:
    """A font relative to the one the person has chosen."""
    font = QFont("DejaVu Sans Mono") if mono else QFont(base)
    if mono:
        font.setStyleHint(QFont.StyleHint.Monospace)
    font.setPointSizeF(base.pointSizeF() * factor)
    font.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    return font


def draw_text(painter: QPainter, rect: QRectF, text: str, font: QFont, ink: QColor,
              align: int = LEFT) -> None:
    """One line of text, shortened with an ellipsis where there is no room."""
    text = shown(text)
    painter.setFont(font)
    painter.setPen(ink)
    metrics = QFontMetricsF(font)
    if metrics.horizontalAdvance(text) > rect.width():
        text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, rect.width())
    painter.drawText(rect, align | VERTICAL_CENTER, text)


def draw_card(painter: QPainter, rect: QRectF, *, is_drive: bool = False, ink: QColor | None = None) -> None:
    """A card as it lies in the hand: a cut corner and contacts; a drive has none."""
    line = ink or color("muted")
    cut = rect.width() * 0.26
    path = QPainterPath()
    if is_drive:
        path.addRoundedRect(rect, 3, 3)
    else:
        path.addPolygon(QPolygonF([rect.topLeft(), QPointF(rect.right() - cut, rect.top()),
                                   QPointF(rect.right(), rect.top() + cut), rect.bottomRight(),
                                   rect.bottomLeft(), rect.topLeft()]))
    painter.setPen(QPen(line, 1.3))
    painter.setBrush(color("raised"))
    painter.drawPath(path)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color("warning"))
    if is_drive:
        painter.drawEllipse(QPointF(rect.right() - 6, rect.bottom() - 6), 2, 2)
        return
    width = rect.width() / 9
    for k in range(4):
        painter.drawRect(QRectF(rect.left() + width * (0.9 + k * 1.6), rect.top() + 3, width * 0.9, rect.height() / 6))


def draw_chip(painter: QPainter, center: QPointF, text: str, font: QFont, edge: QColor) -> QRectF:
    """A small pill with a word in it; returns where it was drawn."""
    width = QFontMetricsF(font).horizontalAdvance(text) + 22
    rect = QRectF(center.x() - width / 2, center.y() - 12, width, 24)
    painter.setPen(QPen(edge, 1.2))
    painter.setBrush(color("ground"))
    painter.drawRoundedRect(rect, 12, 12)
    draw_text(painter, rect, text, font, color("text"), CENTER)
    return rect


def draw_focus(painter: QPainter, rect: QRectF, radius: float = 6) -> None:
    """The ring that shows where the keyboard is."""
    painter.setPen(QPen(color("accent"), 2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(rect.adjusted(1, 1, -1, -1), radius, radius)
