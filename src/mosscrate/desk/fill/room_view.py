"""The volume as a core: what is on it, what comes in, what clusters lose of that, and what is left."""

from __future__ import annotations

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QBrush, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from mosscrate.core.contents import Role
from mosscrate.core.fill.placed import Sorted
from mosscrate.core.sizes import binary
from mosscrate.desk.shared.drawing import draw_text, mixed, scaled_font
from mosscrate.desk.shared.painting import free_brush
from mosscrate.desk.theme import Look, color

WIDE = 74                                # pixels of the column
LABEL = 38.0                             # pixels of a label of two lines
LEAST = 3.0                              # pixels of a part that is there


class RoomView(QWidget):
    """Nothing is drawn while nothing is known."""

    def __init__(self) -> None:
        super().__init__()
        self._size = 0
        self._found: Sorted | None = None
        self.setFixedWidth(WIDE + 128)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Room on the volume")

    def show_room(self, size: int, found: Sorted | None) -> None:
        """Of a volume of so many bytes."""
        self._size, self._found = size, found
        if found is not None:
            self.setAccessibleDescription(", ".join(f"{words} {what}" for _, words, what in self._parts(found)))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._found is not None and self._size:
            self._draw(painter, self._found)
        painter.end()

    def _parts(self, found: Sorted) -> list[tuple[int, str, str]]:
        """(bytes, how many in words, what) from the top."""
        left = found.free - found.need
        first = (max(0, left), binary(abs(left)), "room left after" if left >= 0 else "too much")
        return [first, (found.lost, binary(found.lost), "lost to clusters"),
                (found.need - found.lost, binary(found.need - found.lost), "coming in"),
                (max(0, self._size - found.free), binary(max(0, self._size - found.free)), "on it already")]

    def _draw(self, painter: QPainter, found: Sorted) -> None:
        column = QRectF(1, 24, WIDE, self.height() - 26)
        outline = QPainterPath()
        outline.addRoundedRect(column, 10, 10)
        parts = self._parts(found)
        total = max(1, sum(size for size, _, _ in parts))
        heights = [max(LEAST, column.height() * size / total) if size else 0.0 for size, _, _ in parts]
        scale = column.height() / max(1.0, sum(heights))
        games = Look.now.role(Role.ROMS)
        brushes = [free_brush(), *(QBrush(ink) for ink in (color("warning"), games,
                                                           mixed(games, color("ground"), 0.35)))]
        painter.save()
        painter.setClipPath(outline)
        painter.fillRect(column, color("panel"))
        top = column.top()
        for height, brush in zip(heights, brushes, strict=True):
            painter.fillRect(QRectF(column.left(), top, column.width(), height * scale), brush)
            top += height * scale
        painter.restore()
        painter.setPen(QPen(color("line"), 1.4))
        painter.drawPath(outline)
        shown = [(size, words, what) for size, words, what in parts if size or what == "too much"]
        middles, top = list[float](), column.top()
        for (size, _, what), height in zip(parts, heights, strict=True):
            if size or what == "too much":
                middles.append(top + height * scale / 2)
            top += height * scale
        for (_, words, what), said in zip(shown, apart(middles, column.bottom()), strict=True):
            ink = color("problem") if what == "too much" else color("text")
            beside = QRectF(column.right() + 10, said, self.width() - column.right() - 10, 18)
            draw_text(painter, beside, words, scaled_font(self.font(), 1.0, bold=True), ink)
            draw_text(painter, beside.translated(0, 17), what, scaled_font(self.font(), 0.82), color("muted"))


def apart(middles: list[float], bottom: float) -> list[float]:
    """Where labels begin that belong to places from the top down: beside them, and none over another."""
    found = list[float]()
    for middle in middles:
        found.append(max(middle - LABEL / 2, found[-1] + LABEL if found else 0.0))
    lowest = bottom - LABEL
    for number in range(len(found) - 1, -1, -1):             # what was pushed down pushes up again
        found[number] = min(found[number], lowest)
        lowest = found[number] - LABEL
    return found
