"""Draws what flows from what is brought in into the folders of the card; a group or a folder can be chosen."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QLinearGradient, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from mosscrate.core.contents import Role
from mosscrate.core.fill.placed import Act, Flow
from mosscrate.core.sizes import binary, counted
from mosscrate.desk.fill.streams import BOX, TIGHTEST, Box, Stream, Streams, lay_out
from mosscrate.desk.shared.drawing import RIGHT, draw_text, scaled_font
from mosscrate.desk.shared.hearing import Heard, Part, Spot
from mosscrate.desk.theme import Look, color

SIDE = 0.36                              # share of the width that boxes take on each side
HEAD = 24.0
NARROW = 230                             # pixels of a box below which only its size is told


class FlowView(QWidget):
    """Tells with `chosen` which group or folder was pressed; "" for none."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._flows: tuple[Flow, ...] = ()
        self._streams = Streams((), (), (), 0.0)
        self.selected = ""
        self._heads = ("", "")
        self._heard = Heard(self, Spot)
        self.setMinimumHeight(120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("What goes where")

    def show_flows(self, flows: Sequence[Flow], heads: tuple[str, str] = ("Brought in", "On the card")) -> None:
        """Draw these, with what stands above both sides."""
        self._flows, self.selected, self._heads = tuple(flows), "", heads
        self._place()

    def sizeHint(self) -> QSize:
        """Qt."""
        return QSize(640, int(HEAD + self._streams.height))

    def resizeEvent(self, event: object) -> None:
        """Qt."""
        self._place()

    def streams(self) -> Streams:
        """With their places, for tests."""
        return self._streams

    def box_rect(self, box: Box) -> QRectF:
        """Where a box is drawn."""
        wide = self.width() * SIDE
        left = self.width() - wide if box.is_on_card else 0.0
        return QRectF(left, HEAD + box.top, wide - 1, min(BOX, self._step() - 3))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Qt: choose a box; beside them, none."""
        if event is None:
            return
        boxes = (*self._streams.groups, *self._streams.folders)
        hit = next((box.name for box in boxes if self.box_rect(box).contains(event.position())), "")
        self.selected = "" if hit == self.selected else hit
        self.update()
        self.chosen.emit(self.selected)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._streams.groups:
            wide = self.width() * SIDE
            bold = scaled_font(self.font(), 0.95, bold=True)
            for left, words in ((0.0, self._heads[0]), (self.width() - wide, self._heads[1])):
                draw_text(painter, QRectF(left, 0, wide, HEAD - 6), words, bold, color("text"))
        for stream in self._streams.streams:
            self._draw_stream(painter, stream)
        for box in (*self._streams.groups, *self._streams.folders):
            self._draw_box(painter, box)
        painter.end()

    def _place(self) -> None:
        self._streams = lay_out(self._flows, max(60.0, self.height() - HEAD))
        many = max(len(self._streams.groups), len(self._streams.folders))
        self.setMinimumHeight(max(120, int(HEAD + many * (BOX * TIGHTEST) + 2)))
        self._heard.show([Part(self.box_rect(box), box.name, f"{counted(box.files, 'file')}, {binary(box.size)}",
                               box.name == self.selected, lambda box=box: self.chosen.emit(box.name))  # type: ignore[misc]
                          for box in (*self._streams.groups, *self._streams.folders)])
        self.update()

    def _step(self) -> float:
        many = max(len(self._streams.groups), len(self._streams.folders), 1)
        return self._streams.height / many

    def _draw_box(self, painter: QPainter, box: Box) -> None:
        rect, is_chosen = self.box_rect(box), box.name == self.selected
        painter.setPen(QPen(color("accent") if is_chosen else color("line"), 2 if is_chosen else 1))
        painter.setBrush(color("panel"))
        painter.drawRoundedRect(rect, 6, 6)
        edge = QRectF(rect.right() - 4 if box.is_on_card else rect.left(), rect.top() + 4, 4, rect.height() - 8)
        painter.fillRect(edge, color("muted") if box.is_out else Look.now.role(Role.ROMS))
        inner = rect.adjusted(14, 0, -14, 0)
        told = f"{counted(box.files, 'file')}   {binary(box.size)}" if inner.width() > NARROW else binary(box.size)
        draw_text(painter, QRectF(inner.left(), inner.top(), inner.width() * 0.58, inner.height()), box.name,
                  scaled_font(self.font(), 0.95, bold=True), color("muted" if box.is_out else "text"))
        draw_text(painter, QRectF(inner.left() + inner.width() * 0.6, inner.top(), inner.width() * 0.4, inner.height()),
                  told, scaled_font(self.font(), 0.82), color("muted"), RIGHT)

    def _draw_stream(self, painter: QPainter, stream: Stream) -> None:
        wide = self.width() * SIDE
        a, b, half = wide - 1, self.width() - wide, self.width() / 2
        (t, u), (v, w) = ((HEAD + top, HEAD + bottom) for top, bottom in (stream.left, stream.right))
        path = QPainterPath(QPointF(a, t))
        path.cubicTo(QPointF(half, t), QPointF(half, v), QPointF(b, v))
        path.lineTo(QPointF(b, w))
        path.cubicTo(QPointF(half, w), QPointF(half, u), QPointF(a, u))
        path.closeSubpath()
        base = {Act.COPY: Look.now.role(Role.ROMS), Act.KEEP_BOTH: color("warning"), Act.RENAME: color("accent"),
                Act.SKIP: color("muted"), Act.SEEMS: color("muted"), Act.LEAVE: color("line")}[stream.act]
        is_meant = self.selected in ("", stream.group, stream.folder)
        gradient, strong, weak = QLinearGradient(a, 0, b, 0), QColor(base), QColor(base)
        strong.setAlpha(140 if is_meant else 40)
        weak.setAlpha(60 if is_meant else 15)
        for share, ink in ((0, strong), (0.5, weak), (1, strong)):
            gradient.setColorAt(share, ink)
        painter.fillPath(path, QBrush(gradient))
        style = Qt.PenStyle.DotLine if stream.act == Act.LEAVE else Qt.PenStyle.SolidLine
        painter.strokePath(path, QPen(base, 1, style))
