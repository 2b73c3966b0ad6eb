"""What can be done with the files of a partition: a button each, and the same as a menu."""

from __future__ import annotations

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QMenu, QPushButton, QWidget

from mosscrate.core.volumes import Entry, Kind
from mosscrate.desk.shared.button_rows import ButtonRows
from mosscrate.desk.shared.panel import button

ROWS = 2                                 # of buttons at most


class FileActs(ButtonRows):
    """The buttons; whoever has the files connects them."""

    def __init__(self) -> None:
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
        self.more = button("More…", self._show_more, tip="The rest of what can be done with files")
        self._known: list[QWidget] = []
        super().__init__(self.take, self.put, self.replace, self.copy, self.folder, self.rename, self.remove,
                         self.comment, self.protect, self.more)
        for part in self.all:
            part.setProperty("compact", True)
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
        self._known = [part for part in self.all if part is not self.more
                       and (has_comments or part not in (self.comment, self.protect))]
        self.lay_out()

    def lay_out(self) -> None:
        """Two rows at most: on a small window the rest stands in the menu."""
        most = ROWS * len(self._columns(self._known, self.width()))
        fit = len(self._known) if len(self._known) <= most else most - 1
        for part in self.all:
            part.setVisible(part in self._known[:fit] or (part is self.more and fit < len(self._known)))
        super().lay_out()

    def show_menu(self, at: QPoint) -> None:
        """The same at the pointer and under the menu key."""
        self.menu = menu = QMenu(self)
        for part in self._known:
            if isinstance(part, QPushButton) and part.isEnabled() and (act := menu.addAction(part.text())):
                act.triggered.connect(part.click)
        menu.popup(at)

    def _show_more(self) -> None:
        self.show_menu(self.more.mapToGlobal(self.more.rect().bottomLeft()))
