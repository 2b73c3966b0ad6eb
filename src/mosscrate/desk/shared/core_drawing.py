"""A core sample as it is drawn: the strata of a layout, the ruler beside them, handle and dots; it takes no events."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPainterPath, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from mosscrate.core.blocks import Extent
from mosscrate.core.contents import Layout
from mosscrate.core.findings import Severity
from mosscrate.core.sizes import binary
from mosscrate.desk.shared.drawing import CENTER, LEFT, RIGHT, draw_focus, draw_text, mixed, scaled_font
from mosscrate.desk.shared.painting import draw_wrapping, free_brush, ragged_fill, role_brush, wrapping_brush
from mosscrate.desk.shared.strata import FLOOR, Stratum, StratumKind, size_of, y_of
from mosscrate.desk.theme import Look, color

TAUGHT = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
TALL, BESIDE = 66, 86                  # pixels: of a stratum with room below its words; of its size
TINY = 0.72                            # of the font: the smallest in which a name can be read
DOTS = 34                              # pixels: the mark that offers acts
RULER = 78
NOTCH = 9                              # pixels: how wide what changed is marked
WRAPPING = 11                          # pixels around a packed disk
_MARKS = {Severity.WARNING: "!", Severity.PROBLEM: "✗", Severity.NOTE: "i"}


class DrawnCore(QWidget):
    """Draws what its fields say. `ruler` is "left", "right" or "" for none."""

    def __init__(self, ruler: str = "left", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.ruler = ruler
        self.selected: int | None = None
        self.handle: int | None = None           # partition whose lower edge can be dragged
        self.reached: int | None = None          # bytes a running job has come to
        self.layout_shown: Layout | None = None
        self.teaching = ""                       # what is said where no card is shown
        self.unwrapped = 1.0                     # how much of a packed disk was read through
        self.changed: tuple[Extent, ...] = ()    # stretches that are marked as other than they were
        self.has_acts = False                    # whether what can be done is offered on the core
        self._placed: tuple[Stratum, ...] = ()
        self._still: QPixmap | None = None       # as it is below a running job, which moves ten times a second
        self._is_welcome = False

    def placed(self) -> tuple[Stratum, ...]:
        """The strata with their places in this widget's pixels."""
        return self._placed

    def column(self) -> QRectF:
        """The column itself, without the ruler and what it is wrapped in."""
        left = RULER if self.ruler == "left" else 0
        right = RULER if self.ruler == "right" else 0
        whole = QRectF(left + 1, 1, self.width() - left - right - 2, self.height() - 2)
        around = WRAPPING if self._is_packed else 0
        return whole.adjusted(around, around, -around, -around)

    @property
    def _is_packed(self) -> bool:
        return self.layout_shown is not None and self.layout_shown.packing is not None

    def stratum_rect(self, stratum: Stratum) -> QRectF:
        """Where a stratum is drawn."""
        column = self.column()
        return QRectF(column.left(), column.top() + stratum.top, column.width(), stratum.height)

    def changeEvent(self, event: QEvent | None) -> None:
        """Qt: other colours or another font."""
        self._still = None
        super().changeEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw what `_place` has laid out."""
        painter = QPainter(self)
        if self.reached is None:
            self._draw_all(painter)
        else:
            if self._still is None:
                self._still = self._picture()
            painter.drawPixmap(0, 0, self._still)
            self._draw_reached(painter)
        if self.hasFocus():
            chosen = self._stratum(self.selected)
            draw_focus(painter, self.stratum_rect(chosen) if chosen else self.column(), 4)
        painter.end()

    def _stratum(self, index: int | None) -> Stratum | None:
        return next((s for s in self._placed if s.index is not None and s.index == index), None)

    def _picture(self) -> QPixmap:
        made = QPixmap(self.size() * self.devicePixelRatioF())
        made.setDevicePixelRatio(self.devicePixelRatioF())
        made.fill(Qt.GlobalColor.transparent)
        painter = QPainter(made)
        self._draw_all(painter)
        painter.end()
        return made

    def _draw_all(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        column = self.column()
        if self._is_packed:
            draw_wrapping(painter, column, WRAPPING, self.unwrapped)
        outline = QPainterPath()
        outline.addRoundedRect(column, 10, 10)
        painter.fillPath(outline, color("panel"))
        painter.save()
        painter.setClipPath(outline)
        for stratum in self._placed:
            self._draw(painter, stratum)
        self._draw_changed(painter)
        painter.restore()
        if self.layout_shown is None and self.teaching:
            painter.setPen(color("muted"))
            painter.setFont(scaled_font(self.font(), 0.95))
            painter.drawText(column.adjusted(18, 18, -18, -18), TAUGHT, self.teaching)
        painter.setPen(QPen(color("accent"), 3) if self._is_welcome else QPen(color("line"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(outline)
        self._draw_ruler(painter)
        self._draw_handle(painter)
        if self.has_acts and (dots := self._dots_rect()) is not None:
            painter.setPen(QPen(color("line"), 1))
            painter.setBrush(color("ground"))
            painter.drawRoundedRect(dots, 6, 6)
            painter.setBrush(color("text"))
            painter.setPen(Qt.PenStyle.NoPen)
            for k in (-8, 0, 8):
                painter.drawEllipse(dots.center() + QPointF(k, 0), 1.8, 1.8)

    def _draw(self, painter: QPainter, stratum: Stratum) -> None:
        rect = self.stratum_rect(stratum)
        if stratum.kind == StratumKind.MAP:
            painter.fillRect(rect, color("raised"))
            font = scaled_font(self.font(), 0.82)
            draw_text(painter, rect.adjusted(12, 0, -8, 0), stratum.name, font, color("muted"))
            return
        if stratum.kind == StratumKind.FREE:
            painter.fillRect(rect, color("ground"))
            painter.fillRect(rect, wrapping_brush() if stratum.is_unread else free_brush())
        else:
            base = Look.now.role(stratum.role)
            painter.fillRect(rect, mixed(base, color("panel"), 0.38))
            if stratum.is_unread:
                painter.fillRect(rect, wrapping_brush())
            if stratum.fill:
                filled = ragged_fill(rect, stratum.fill)
                painter.fillPath(filled, base)
                painter.fillPath(filled, role_brush(stratum.role))
        painter.setPen(QPen(color("ground"), 1))
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        if stratum.index is not None and stratum.index == self.selected:
            painter.fillRect(QRectF(rect.left(), rect.top(), 4, rect.height()), color("text"))
        self._draw_words(painter, stratum, rect)

    def _draw_words(self, painter: QPainter, stratum: Stratum, rect: QRectF) -> None:
        bold, mono = scaled_font(self.font(), 1.0, bold=True), scaled_font(self.font(), 0.92, mono=True)
        small = scaled_font(self.font(), 0.86)
        line_height = QFontMetricsF(bold).height()
        if rect.height() < line_height * 0.9:                      # many partitions on a small window
            bold, mono = scaled_font(self.font(), TINY, bold=True), scaled_font(self.font(), TINY, mono=True)
            line_height = QFontMetricsF(bold).height() * 0.9
        if rect.height() < line_height * 0.8:
            return
        inner = rect.adjusted(14, 0, -12, 0)
        has_second = rect.height() >= line_height * 2.15 and bool(stratum.line)
        block = line_height * (2.0 if has_second else 1.0)
        top = inner.top() + min((inner.height() - block) / 2, 16 if stratum.kind != StratumKind.FREE else 1e9)
        size = binary(stratum.length)
        size_width = QFontMetricsF(mono).horizontalAdvance(size) + 8
        mark = _MARKS.get(stratum.severity) if stratum.severity else None
        mark_width = 22.0 if mark else 0.0
        is_chosen = self.has_acts and stratum.index is not None and stratum.index == self.selected
        dots = self._dots_rect() if is_chosen and rect.height() < TALL else None
        end = inner.right() - size_width if dots is None else min(inner.right() - size_width, dots.left() - 2)
        first = QRectF(inner.left(), top, end - mark_width - inner.left(), line_height)
        ink = color("text") if stratum.kind == StratumKind.PARTITION else color("muted")
        self._draw_plate(painter, first, stratum, bold, small, size, mono, has_second=has_second)
        draw_text(painter, first, stratum.name, bold, ink)
        right = QRectF(inner.right() - size_width, top, size_width, line_height)
        draw_text(painter, right, size, mono, ink, RIGHT)
        if has_second:
            second = QRectF(inner.left(), top + line_height, inner.width(), line_height)
            draw_text(painter, second, stratum.line, small, ink)
        if mark and stratum.severity:
            center = QPointF(end - 12, right.center().y())
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(Look.now.severity(stratum.severity))
            painter.drawEllipse(center, 8.5, 8.5)
            draw_text(painter, QRectF(center.x() - 8, center.y() - 9, 16, 18), mark, small, color("ground"),
                      CENTER)

    def _draw_plate(self, painter: QPainter, first: QRectF, stratum: Stratum, bold: object, small: object,
                    size: str, mono: object, *, has_second: bool) -> None:
        """A quiet plate behind words that stand on a texture."""
        if not stratum.fill and not stratum.is_unread:
            return
        plate = QColor(color("ground"))
        plate.setAlpha(120 if Look.now.name == "dark" else 150)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(plate)
        column = self.column()
        height = first.height() * (2.0 if has_second else 1.0)
        painter.drawRoundedRect(QRectF(column.left() + 8, first.top() - 2, column.width() - 14, height + 4), 5, 5)

    def _draw_changed(self, painter: QPainter) -> None:
        """A notch at the right edge for each stretch that changed."""
        column = self.column()
        for extent in self.changed:
            first, last = (y_of(self._placed, at) for at in (extent.start, extent.end))
            notch = QRectF(column.right() - NOTCH, column.top() + first, NOTCH, max(2.0, last - first))
            painter.fillRect(notch, color("warning"))

    def _draw_reached(self, painter: QPainter) -> None:
        column = self.column()
        y = column.top() + y_of(self._placed, self.reached or 0)
        veil = QColor(color("ground"))
        veil.setAlpha(150)
        painter.fillRect(QRectF(column.left(), y, column.width(), column.bottom() - y), veil)
        painter.setPen(QPen(color("accent"), 2.4))
        painter.drawLine(QPointF(column.left(), y), QPointF(column.right(), y))

    def _draw_ruler(self, painter: QPainter) -> None:
        if not self.ruler or not self._placed:
            return
        column, font = self.column(), scaled_font(self.font(), 0.78, mono=True)
        x = 0.0 if self.ruler == "left" else column.right() + 10
        tick = column.left() - 6 if self.ruler == "left" else column.right() + 3
        ends = [(s.top, binary(s.start)) for s in self._placed if s.kind != StratumKind.MAP]
        ends.append((self._placed[-1].bottom, size_of(self.layout_shown)))
        last = -100.0
        for top, place in ends:
            y = min(max(column.top() + top, 8.0), self.height() - 8.0)
            painter.setPen(QPen(color("line"), 1))
            painter.drawLine(QPointF(tick, y), QPointF(tick + 4, y))
            if y - last < 14:
                continue
            last = y
            side = RIGHT if self.ruler == "left" else LEFT
            draw_text(painter, QRectF(x, y - 8, RULER - 12, 16), place, font, color("muted"), side)

    def _draw_handle(self, painter: QPainter) -> None:
        rect = self._handle_rect()
        if rect is not None:
            painter.setPen(QPen(color("ground"), 1))
            painter.setBrush(color("text"))
            painter.drawRoundedRect(rect, 5, 5)
            painter.setPen(QPen(color("ground"), 1.2))
            for k in (-4, 0, 4):
                x = rect.center().x() + k
                painter.drawLine(QPointF(x, rect.top() + 3), QPointF(x, rect.bottom() - 3))

    def _dots_rect(self) -> QRectF | None:
        """Where the chosen stratum offers what can be done to it."""
        stratum = self._stratum(self.selected)
        if stratum is None:
            return None
        rect = self.stratum_rect(stratum)
        if rect.height() >= TALL:
            return QRectF(rect.right() - DOTS - 8, rect.bottom() - 22, DOTS, 18)
        top = rect.top() + max(1.0, (rect.height() - FLOOR) / 2)           # in its first line, beside the size
        return QRectF(rect.right() - DOTS - 8 - BESIDE, top, DOTS, min(18.0, rect.height() - 2))

    def _handle_rect(self) -> QRectF | None:
        stratum = self._stratum(self.handle)
        if stratum is None:
            return None
        rect = self.stratum_rect(stratum)
        y = min(rect.bottom(), self.column().bottom() - 6)
        return QRectF(rect.center().x() - 24, y - 5, 48, 11)
