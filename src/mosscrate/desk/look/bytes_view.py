"""The bytes of a structure as they stand on the medium, with those of one field marked."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from mosscrate.desk.shared.drawing import CENTER, LEFT, draw_text, scaled_font
from mosscrate.desk.theme import color

ROWS = 6
ABOVE = 1                              # rows shown before the field's first
WIDE, NARROW = 16, 8                   # bytes in a row


class BytesView(QWidget):
    """A few rows of hexadecimal and text around a field."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._data = b""
        self._first, self._last = 0, 0
        self._font = scaled_font(self.font(), 0.86, mono=True)
        self._line = QFontMetricsF(self._font).height() + 3
        self.setFixedHeight(round(self._line * ROWS) + 6)
        self.setAccessibleName("Bytes of the structure")

    def show_field(self, data: bytes, first: int, last: int) -> None:
        """Show the bytes of a structure and mark those from `first` to before `last`."""
        self._data, self._first, self._last = data, first, last
        self.setAccessibleDescription(data[first:last][:64].hex(" "))
        self.update()

    def sizeHint(self) -> QSize:
        """Qt."""
        return QSize(300, self.height())

    def per_row(self) -> int:
        """Bytes in a row: as many as the width has room for."""
        advance = QFontMetricsF(self._font).horizontalAdvance("0")
        return WIDE if self.width() >= advance * (7 + 4 * WIDE) else NARROW

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: offsets, bytes, and what they are as text."""
        painter = QPainter(self)
        count = self.per_row()
        start = max(0, self._first // count - ABOVE)
        rows = -(-len(self._data) // count)
        start = max(0, min(start, rows - ROWS))
        for number in range(min(ROWS, rows - start)):
            self._draw_row(painter, (start + number) * count, number * self._line + 3, count)
        painter.end()

    def _draw_row(self, painter: QPainter, at: int, top: float, count: int) -> None:
        advance = QFontMetricsF(self._font).horizontalAdvance("0")
        draw_text(painter, QRectF(0, top, advance * 6, self._line), f"{at:04x}", self._font, color("muted"), LEFT)
        text = advance * (7 + 3 * count)
        for k, value in enumerate(self._data[at:at + count]):
            is_marked = self._first <= at + k < self._last
            shown = chr(value) if 32 <= value < 127 else "·"
            for word, rect in ((f"{value:02x}", QRectF(advance * (6 + 3 * k), top, advance * 3, self._line)),
                               (shown, QRectF(text + advance * k, top, advance, self._line))):
                if is_marked:
                    painter.fillRect(rect, color("accent"))
                draw_text(painter, rect, word, self._font, color("on_accent" if is_marked else "text"), CENTER)
