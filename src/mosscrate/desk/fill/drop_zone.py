"""Where things are dropped while nothing is brought in, with what will become of them."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from mosscrate.desk.shared.panel import button, label
from mosscrate.desk.theme import color

HEAD = "Drop folders and archives here"
TEACHING = "Games, saves, pictures and system files are sorted into the folders that this card wants, and nothing is " \
           "written before you have seen it. Bring in another card or a backup with the button above, or choose a " \
           "plan, to have the games that are on the card already laid out by it."
CLOSED = "No volume of this card takes files yet"
FIRST = "Prepare it for its machine, or lay it out and format a volume; then folders and archives can be dropped here."
WIDEST = 560                             # points of a line of text


class DropZone(QWidget):
    """A dashed frame with words in its middle; dropping is the station's."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.head = label(HEAD, scale=1.25, bold=True)
        self.words = label(TEACHING, style="muted", wraps=True)
        self.words.setFixedWidth(WIDEST)
        self.words.setMinimumHeight(self.words.heightForWidth(WIDEST))
        self.prepare = button("Prepare it…", tip="It has no volume that takes files; Move lays it out for its machine")
        self.prepare.hide()
        column = QVBoxLayout(self)
        column.addStretch(1)
        for part in (self.head, self.words):
            part.setAlignment(Qt.AlignmentFlag.AlignHCenter)
            column.addWidget(part, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addSpacing(14)
        column.addWidget(self.prepare, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addStretch(1)

    def show_whether(self, *, is_open: bool) -> None:
        """Whether things can be dropped, or the card has to be prepared first."""
        self.head.setText(HEAD if is_open else CLOSED)
        self.words.setText(TEACHING if is_open else FIRST)
        self.prepare.setVisible(not is_open)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw the frame."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(color("line"), 2, Qt.PenStyle.DashLine))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(2, 2, -2, -2), 12, 12)
        painter.end()
