"""A stratum that is dragged from the source's core across to the target's: shown while it goes, told where it lands."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QPoint, pyqtSignal
from PyQt6.QtWidgets import QToolTip

from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.words import show_tip


class Carrying(QObject):
    """Watches two cores; `brought` names the partition of the first that was let go over the second."""

    brought = pyqtSignal(int)

    def __init__(self, source: CoreView, target: CoreView) -> None:
        super().__init__(target)
        self.source, self.target = source, target
        source.carried.connect(self._show)
        source.let_go.connect(self._land)

    def _is_over(self, at: QPoint) -> bool:
        return self.target.rect().contains(self.target.mapFromGlobal(at))

    def _show(self, index: int, at: QPoint) -> None:
        layout = self.source.layout_shown
        is_over = self._is_over(at)
        self.target.show_welcome(is_welcome=is_over)
        if layout is not None:
            verb = "Bring" if is_over else "Carry"
            to = "over" if is_over else "across to bring it over"
            show_tip(at, f"{verb} {layout.partition(index).name} {to}", self.source)

    def _land(self, index: int, at: QPoint) -> None:
        self.target.show_welcome(is_welcome=False)
        QToolTip.hideText()
        if self._is_over(at):
            self.brought.emit(index)
