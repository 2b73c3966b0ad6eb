"""The textures of roles and of free room, and the ragged edge of what is filled."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from mosscrate.core.contents import Role
from mosscrate.desk.shared.drawing import mixed
from mosscrate.desk.theme import Look, color

THINNED = 0.28                         # of a wrapping, where it was read through
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


def draw_wrapping(painter: QPainter, inside: QRectF, thickness: float, unwrapped: float) -> None:
    """A wrapping around a core: thick where it is still packed, thin down to where it was read through."""
    thin = thickness * THINNED
    edge = inside.top() + inside.height() * min(1.0, max(0.0, unwrapped))
    wrapped = QPainterPath()
    wrapped.setFillRule(Qt.FillRule.WindingFill)
    radius = min(10.0, inside.width() / 4)
    wrapped.addRoundedRect(inside.adjusted(-thin, -thin, thin, thin), radius, radius)
    if unwrapped < 1:
        top = inside.top() - thickness if unwrapped <= 0 else edge
        below = QRectF(inside.left() - thickness, top, inside.width() + 2 * thickness,
                       inside.bottom() + thickness - top)
        wrapped.addRoundedRect(below, min(8.0, thickness), min(8.0, thickness))
    wrapped = wrapped.simplified()
    painter.fillPath(wrapped, mixed(color("raised"), color("muted"), 0.72))
    painter.fillPath(wrapped, wrapping_brush())
    painter.setPen(QPen(color("muted"), 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(wrapped)


def wrapping_brush() -> QBrush:
    """The weave of what a core is wrapped in."""
    return QBrush(_weave(Look.now.name))


@lru_cache(maxsize=4)
def _weave(theme: str) -> QPixmap:
    pixmap = QPixmap(8, 8)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setPen(QPen(QColor(255, 255, 255, 46) if theme == "dark" else QColor(0, 0, 0, 46), 1))
    for x, y in ((0, 1), (4, 5)):
        painter.drawLine(x, y, x + 3, y)
        painter.drawLine(x + 5 & 7, y - 1 & 7, x + 5 & 7, y + 2 & 7)
    painter.end()
    return pixmap


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
