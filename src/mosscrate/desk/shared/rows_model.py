"""Any number of rows of plain text for a view; a row is made into words when it comes into sight."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QObject, Qt

from mosscrate.core.shown import shown
from mosscrate.desk.shared.words import tip
from mosscrate.desk.theme import color

Thing = TypeVar("Thing")


@dataclass(frozen=True)
class Column(Generic[Thing]):
    """One column: its head, the words of a thing in it, and their ink."""

    head: str
    words: Callable[[Thing], str]
    ink: Callable[[Thing], str] = lambda _: "text"


class RowsModel(QAbstractTableModel, Generic[Thing]):
    """Things as rows; words that are cut are said whole where the pointer rests."""

    def __init__(self, columns: Sequence[Column[Thing]], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._columns = columns
        self._things: Sequence[Thing] = ()

    def show(self, things: Sequence[Thing]) -> None:
        """Other rows."""
        self.beginResetModel()
        self._things = things
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """Qt."""
        return 0 if parent is not None and parent.isValid() else len(self._things)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Qt."""
        return len(self._columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401
        """Qt."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self._columns[section].head
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401
        """Qt."""
        if not index.isValid():
            return None
        column, thing = self._columns[index.column()], self._things[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            words = column.words(thing)
            return shown(words) if role == Qt.ItemDataRole.DisplayRole else tip(words)
        return color(column.ink(thing)) if role == Qt.ItemDataRole.ForegroundRole else None
