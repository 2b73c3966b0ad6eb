"""Drawing shared by everything that shows a medium: textures, ragged fills, cards, chips."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from mosscrate.core.contents import Role
from mosscrate.desk.theme import Look, color

_STEP = 9.0
_JAGS = (0, 5, 2, 7, 3, 1, 6, 4, 0, 3, 6, 2, 5, 1, 7, 3)       # an edge that looks broken, not random


def ragged_fill(rect: QRectF, fraction: float) -> QPainterPath:
    """The filled part of a stratum: from the left edge to a broken line at `fraction` of its width."""
    path = QPainterPath()
    if fraction <= 0:
        return path
    if fraction >= 0.995:
        path.addRect(rect)
        return path
    x = rect.left() + max(6.0, rect.width() * fraction)
    points = [QPointF(rect.left(), rect.top())]
    y, number = rect.top(), int(rect.top())
    while y < rect.bottom():
        points.append(QPointF(min(rect.right(), x + _JAGS[number % len(_JAGS)] - 3), y))
        y, number = y + _STEP, number + 1
    points += [QPointF(min(rect.right(), x + _JAGS[number % len(_JAGS)] - 3), rect.bottom()),
               QPointF(rect.left(), rect.bottom())]
    path.addPolygon(QPolygonF(points))
    path.closeSubpath()
    return path


def role_brush(role: Role) -> QBrush:
    """The texture of a role, drawn over its colour, so that colour is not the only sign."""
    return QBrush(_texture(role, Look.now.name))


def free_brush() -> QBrush:
    """The hatching of free room."""
    return QBrush(_hatch(Look.now.name))


@lru_cache(maxsize=64)
def _texture(role: Role, theme: str) -> QPixmap:
    size = 12
    pixmap = QPixmap(size, size)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    ink = QColor(0, 0, 0, 62) if theme == "dark" else QColor(0, 0, 0, 46)
    painter.setPen(QPen(ink, 1.2))
    match role:
        case Role.FIRMWARE:
            for k in (-6, 0, 6, 12):
                painter.drawLine(k, size, k + size, 0)
        case Role.ROMS:
            painter.setBrush(ink)
            painter.setPen(Qt.PenStyle.NoPen)
            for x, y in ((2, 2), (8, 2), (5, 8), (11, 8)):
                painter.drawEllipse(QPointF(x, y), 1.1, 1.1)
        case Role.SAVES:
            for k in (-6, 0, 6, 12):
                painter.drawLine(k, size, k + size, 0)
                painter.drawLine(k, 0, k + size, size)
        case Role.SETTINGS:
            painter.drawLine(0, 3, size, 3)
            painter.drawLine(0, 9, size, 9)
        case Role.STORAGE:
            painter.drawLine(3, 0, 3, size)
            painter.drawLine(9, 0, 9, size)
        case Role.UNKNOWN:
            painter.drawLine(2, 6, 6, 6)
    painter.end()
    return pixmap


@lru_cache(maxsize=4)
def _hatch(theme: str) -> QPixmap:
    pixmap = QPixmap(10, 10)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(255, 255, 255, 26) if theme == "dark" else QColor(0, 0, 0, 30), 1))
    for k in (-10, 0, 10):
        painter.drawLine(QPointF(k, 10), QPointF(k + 10, 0))
    painter.end()
    return pixmap


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
              align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft, *,
              elide: Qt.TextElideMode = Qt.TextElideMode.ElideRight) -> None:
    """One line of text, shortened with an ellipsis where there is no room."""
    painter.setFont(font)
    painter.setPen(ink)
    fitted = QFontMetricsF(font).elidedText(text, elide, rect.width())
    painter.drawText(rect, int(align | Qt.AlignmentFlag.AlignVCenter), fitted)


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
    draw_text(painter, rect, text, font, color("text"), Qt.AlignmentFlag.AlignHCenter)
    return rect


def draw_focus(painter: QPainter, rect: QRectF, radius: float = 6) -> None:
    """The ring that shows where the keyboard is."""
    painter.setPen(QPen(color("accent"), 2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(rect.adjusted(1, 1, -1, -1), radius, radius)
