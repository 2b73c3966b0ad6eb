"""The four characters that a card shows, to be typed before it is written."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QSize, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QWidget

from mosscrate.desk.shared.panel import button, label

SPACE = 10                               # points between the parts


class TagEntry(QWidget):
    """Asks for a card's tag; the button comes alive when it is typed."""

    confirmed = pyqtSignal(str)

    def __init__(self, *words: str) -> None:
        super().__init__()
        self._tag = ""
        self.prompt = label(scale=0.92)
        self.field = QLineEdit()
        self.field.setMaxLength(4)
        self.field.setFixedWidth(78)
        self.field.textChanged.connect(self._enable)
        self.buttons = [button(text, partial(self._confirm, text), style="primary") for text in words]
        self.field.returnPressed.connect(lambda: self._confirm(words[0]))
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self._lay_out()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: where there is no room for all in one row, the prompt stands above."""
        self._lay_out()
        super().resizeEvent(event)

    def sizeHint(self) -> QSize:
        """Qt: all in one row."""
        return QSize(self._wide + SPACE, super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:
        """Qt: the narrower way of standing."""
        shown = [part for part in (self.field, *self.buttons) if not part.isHidden()]
        return QSize(sum(part.sizeHint().width() + SPACE for part in shown), super().minimumSizeHint().height())

    @property
    def _wide(self) -> int:
        """Points that all of it takes in one row."""
        shown = [part for part in (self.prompt, self.field, *self.buttons) if not part.isHidden()]
        return sum(part.sizeHint().width() + SPACE for part in shown)

    def _lay_out(self) -> None:
        is_wide = self._wide <= self.width()
        self.grid.addWidget(self.prompt, 0, 0, 1, 1 if is_wide else len(self.buttons) + 2)
        self.grid.addWidget(self.field, 0 if is_wide else 1, 1 if is_wide else 0)
        stretched = 2 if is_wide else 1
        for column in (1, 2):
            self.grid.setColumnStretch(column, 1 if column == stretched else 0)
        for number, each in enumerate(self.buttons):
            self.grid.addWidget(each, 0 if is_wide else 1, stretched + 1 + number)

    def ask(self, tag: str, *, is_possible: bool = True) -> None:
        """Ask for this tag."""
        self._tag = tag if is_possible else ""
        self.prompt.setText(f"Type {tag} to run" if tag else "")
        self.field.setAccessibleName(f"The tag of the card to be written: {tag}")
        self.field.setEnabled(is_possible and bool(tag))
        self.field.clear()
        self._enable()

    def typed(self) -> str:
        """What was typed."""
        return self.field.text().strip().upper()

    def _enable(self) -> None:
        for each in self.buttons:
            each.setEnabled(bool(self._tag) and self.typed() == self._tag)

    def _confirm(self, word: str) -> None:
        if self._tag and self.typed() == self._tag:
            self.confirmed.emit(word)
