"""What can be done with the files of a partition: a button each, in as many rows as the width asks for."""

from __future__ import annotations

from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QMenu, QWidget

from mosscrate.core.volumes import Entry, Kind
from mosscrate.desk.shared.panel import button

SPACE = 3


class FileActs(QWidget):
    """The buttons; whoever has the files connects them."""

    def __init__(self) -> None:
        super().__init__()
        self.take = button("To computer…", tip="Copy what is chosen to this computer")
        self.put = button("Put…", tip="Put files into the chosen folder; or drop them here")
        self.replace = button("Replace…", tip="Put a file of this computer in its place, under its name")
        self.copy = button("Copy…", tip="Copy it to another folder or name on this card, or in the place of another "
                                        "file: choose that one then")
        self.folder = button("Folder…", tip="Make a new folder in the chosen one")
        self.rename = button("Rename…", tip="A name with slashes moves it")
        self.remove = button("Remove")
        self.comment = button("Comment…", tip="Up to 79 characters that go with the file")
        self.protect = button("Protection…", tip="Letters of hsparwed that are set: r, w, e, d allow reading, "
                                                 "writing, starting and removing")
        self.all = (self.take, self.put, self.replace, self.copy, self.folder, self.rename, self.remove, self.comment,
                    self.protect)
        for part in self.all:
            part.setParent(self)                                      # else it would be a window when it is shown
            part.setProperty("compact", True)
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setSpacing(SPACE)
        self.menu: QMenu | None = None
        self.allow([], can_change=False, has_comments=False)

    def allow(self, chosen: list[Entry], *, can_change: bool, has_comments: bool) -> None:
        """What can be done to what is chosen."""
        one = chosen[0] if len(chosen) == 1 else None
        self.take.setEnabled(bool(chosen))
        for part in (self.put, self.folder):
            part.setEnabled(can_change)
        for part in (self.copy, self.remove):
            part.setEnabled(can_change and bool(chosen))
        for part in (self.rename, self.comment, self.protect):
            part.setEnabled(can_change and one is not None)
        self.replace.setEnabled(can_change and one is not None and one.kind == Kind.FILE)
        for part in (self.comment, self.protect):
            part.setVisible(has_comments)
        self._lay_out()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: on a small window what can be done takes more rows."""
        self._lay_out()
        super().resizeEvent(event)

    def show_menu(self, at: QPoint) -> None:
        """The same at the pointer and under the menu key."""
        self.menu = menu = QMenu(self)
        for part in self.all:
            if part.isEnabled() and not part.isHidden() and (act := menu.addAction(part.text())):
                act.triggered.connect(part.click)
        menu.popup(at)

    def _lay_out(self) -> None:
        """As many beside one another as there is room for; those that this volume does not know leave no gap."""
        parts = [part for part in self.all if not part.isHidden()]
        widths = [part.sizeHint().width() + SPACE for part in parts]
        columns = next((n for n in range(len(parts), 2, -1) if
                        sum(max(widths[k::n]) for k in range(n)) <= self.width() + SPACE), 2)
        for number, part in enumerate(parts):
            self.grid.addWidget(part, number // columns, number % columns)
        self.grid.setColumnStretch(columns, 1)
