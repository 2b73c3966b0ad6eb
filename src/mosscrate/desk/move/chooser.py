"""Choosing the medium at one end of a move: its picture, its name, its tag."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from mosscrate.core.slots import Medium, Source
from mosscrate.desk.shared.drawing import draw_card
from mosscrate.desk.shared.panel import Panel, label
from mosscrate.desk.shared.words import choice, tip
from mosscrate.desk.theme import color


class CardPicture(QWidget):
    """A card or a drive as a small drawing."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(34, 42)
        self._is_drive = False

    def show_medium(self, medium: Medium | None) -> None:
        """Draw another one."""
        self._is_drive = medium is not None and medium.source in (Source.IMAGE, Source.BACKUP)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_card(painter, QRectF(3, 2, 28, 37), is_drive=self._is_drive, ink=color("muted"))
        painter.end()


class MediumChooser(Panel):
    """A card to choose from those at hand. `chosen` carries the Medium, or None."""

    chosen = pyqtSignal(object)

    def __init__(self, title: str, prompt: str) -> None:
        super().__init__()
        self._prompt = prompt
        self._media: list[Medium] = []
        self.picture = CardPicture()
        self.box = QComboBox()
        self.box.setAccessibleName(title)
        self.box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.box.activated.connect(self._pick)
        self.about = label(style="muted", scale=0.88, wraps=True)
        words = QVBoxLayout()
        words.setSpacing(3)
        words.addWidget(self.box)
        words.addWidget(self.about)
        line = QHBoxLayout()
        line.addWidget(self.picture)
        line.addLayout(words, 1)
        self.column.addLayout(line)
        self.column.setContentsMargins(10, 8, 10, 8)
        self.show_media((), None)

    def show_media(self, media: Iterable[Medium], current: Medium | None, *, note: str = "") -> None:
        """Offer these; `note` follows the size of the chosen one."""
        self._media = list(media)
        if current is not None and all(m.key != current.key for m in self._media):
            self._media.append(current)
        self.box.blockSignals(True)
        self.box.clear()
        self.box.addItem(self._prompt)
        for medium in self._media:
            self.box.addItem(choice(medium.name))
        keys = [m.key for m in self._media]
        self.box.setCurrentIndex(keys.index(current.key) + 1 if current else 0)
        self.box.blockSignals(False)
        self.box.setToolTip(tip(f"{current.name}\n{current.path}") if current else "")
        self.picture.show_medium(current)
        parts = [current.subtitle, f"tag {current.tag}", note.replace(" ", "\N{NO-BREAK SPACE}")] if current else [""]
        self.about.setText("  ·  ".join(filter(None, parts)))
        self.about.setToolTip(self.about.text())

    def _pick(self, number: int) -> None:
        self.chosen.emit(self._media[number - 1] if number > 0 else None)
