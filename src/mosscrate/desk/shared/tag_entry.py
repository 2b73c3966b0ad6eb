"""The four characters that a card shows, to be typed before it is written."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QWidget

from mosscrate.desk.shared.panel import button, label, row


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
        line = row(self.prompt, self.field, None, *self.buttons)
        line.setContentsMargins(0, 0, 0, 0)
        self.setLayout(line)

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
