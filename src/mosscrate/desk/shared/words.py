"""Text on its way to the screen: names from cards, archives and devices never steer it, nor are taken for markup."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import QPoint, QSize, Qt
from PyQt6.QtWidgets import QLabel, QListWidgetItem, QToolTip, QWidget

from mosscrate.core.shown import shown, shown_lines

LONGEST_WORD = 120                       # pixels


class Label(QLabel):
    """A label whose text is text."""

    def __init__(self, text: str = "") -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, a0: str | None) -> None:
        """Qt."""
        super().setText(shown_lines(a0 or ""))

    def setToolTip(self, a0: str | None) -> None:
        """Qt."""
        super().setToolTip(tip(a0 or ""))

    def minimumSizeHint(self) -> QSize:
        """Qt: a long word does not push a page apart."""
        hint = super().minimumSizeHint()
        return QSize(min(hint.width(), LONGEST_WORD), hint.height()) if self.wordWrap() else hint


def item_of(text: str, about: str = "") -> QListWidgetItem:
    """A row of a list."""
    made = QListWidgetItem(shown_lines(text))
    made.setToolTip(tip(about))
    return made


def choice(name: str) -> str:
    """An entry of a menu or a box."""
    return shown(name)


def tip(text: str) -> str:
    """A tooltip, of which Qt would take some for markup."""
    text = shown_lines(text)
    return f"<span style='white-space: pre'>{escape(text)}</span>" if "<" in text else text


def show_tip(at: QPoint, text: str, widget: QWidget) -> None:
    """A tooltip at a place."""
    QToolTip.showText(at, tip(text), widget)
