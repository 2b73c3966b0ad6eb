"""The short list of what can be done to a partition or to the card, at the place where a person asks for it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QMenu, QWidget

from mosscrate.desk.move.actions import Action


class ActsMenu(QMenu):
    """Acts by their titles, those that take something away last and apart."""

    def __init__(self, title: str, acts: tuple[Action, ...], take: Callable[[Action], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.setTitle(title)
        self.setAccessibleName(title)
        self.setToolTipsVisible(True)
        if head := self.addAction(title):
            head.setEnabled(False)
            font = head.font()
            font.setBold(True)
            head.setFont(font)
        for act in (*(a for a in acts if not a.does_away), None, *(a for a in acts if a.does_away)):
            if act is None:
                self.addSeparator()
            elif made := self.addAction(act.title):
                made.setToolTip(act.hint)
                made.triggered.connect(partial(_taken, take, act))

    def show_at(self, place: QPoint) -> None:
        """Open at a place of the screen."""
        self.popup(place)


def _taken(take: Callable[[Action], None], act: Action, _is_checked: bool) -> None:
    take(act)
