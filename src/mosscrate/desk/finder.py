"""Ctrl+K: any card, backup, partition, station or act, found by typing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from mosscrate.core.crate import Backup
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.words import item_of
from mosscrate.desk.stations import STATIONS

IN_BACKUPS = -1                          # instead of the number of a place


@dataclass(frozen=True)
class Place:
    """Something to go to."""

    text: str
    go: Callable[[], object]


class Finder(QDialog):
    """A field and the places that match it."""

    def __init__(self, model: BenchModel, go_to: Callable[[int], None], look_at: Callable[[Medium | None], None],
                 acts: Iterable[tuple[str, Callable[[], object]]], in_backups: Callable[[str], object],
                 parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find")
        self._in_backups = in_backups
        self._places = [*_places(model, go_to, look_at), *(Place(text, act) for text, act in acts)]
        self.field = QLineEdit()
        self.field.setPlaceholderText("a card, a backup, a partition, a station, something to do…")
        self.field.setAccessibleName("Find")
        self.found = QListWidget()
        self.found.setAccessibleName("What was found")
        column = QVBoxLayout(self)
        column.addWidget(self.field)
        column.addWidget(self.found)
        self.field.textChanged.connect(self._filter)
        self.field.returnPressed.connect(self._go)
        self.found.itemActivated.connect(lambda _item: self._go())
        self.field.installEventFilter(self)
        self._filter("")

    def open_at(self, window: QWidget) -> None:
        """Show it over the upper part of a window."""
        self.resize(min(560, window.width() - 80), 340)
        self.open()
        self.field.setFocus()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Qt: up and down in the field choose in the list."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress \
                and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            self.found.setCurrentRow(max(0, min(self.found.currentRow() + step, self.found.count() - 1)))
            return True
        return super().eventFilter(watched, event)

    def _filter(self, text: str) -> None:
        words = text.casefold().split()
        self.found.clear()
        for place in self._places:
            if all(word in place.text.casefold() for word in words):
                item = item_of(place.text)
                item.setData(Qt.ItemDataRole.UserRole, self._places.index(place))
                self.found.addItem(item)
        if words:
            item = QListWidgetItem(f"Find “{text.strip()}” in all backups")
            item.setData(Qt.ItemDataRole.UserRole, IN_BACKUPS)
            self.found.addItem(item)
        if not self.found.count():
            nothing = QListWidgetItem(f"Nothing here is called “{text.strip()}”.")
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.found.addItem(nothing)
        self.found.setCurrentRow(0)

    def _go(self) -> None:
        item = self.found.currentItem()
        if item is not None and item.flags() & Qt.ItemFlag.ItemIsEnabled:
            self.accept()
            number = item.data(Qt.ItemDataRole.UserRole)
            if number == IN_BACKUPS:
                self._in_backups(self.field.text().strip())
            else:
                self._places[number].go()


def _places(model: BenchModel, go_to: Callable[[int], None],
            look_at: Callable[[Medium | None], None]) -> Iterator[Place]:
    for number, station in enumerate(STATIONS):
        yield Place(f"{station.name}: the station", lambda number=number: go_to(number))  # type: ignore[misc]
    for medium in model.media:
        yield Place(f"{medium.name}, tag {medium.tag}", lambda medium=medium: look_at(medium))  # type: ignore[misc]
        layout = model.layout_of(medium)
        for look in layout.partitions if layout else ():
            yield Place(f"{medium.name}: {look.name}, {look.role}",
                        lambda medium=medium: look_at(medium))  # type: ignore[misc]
    for lane in model.lanes:
        for backup in reversed(lane.backups):
            yield Place(f"{lane.card.name}, backup of {backup.kept_at:%d %B %Y}",
                        partial(_look_at_backup, model, backup, look_at))


def _look_at_backup(model: BenchModel, backup: Backup, look_at: Callable[[Medium | None], None]) -> None:
    if medium := model.backup_at_hand(backup):
        look_at(medium)
