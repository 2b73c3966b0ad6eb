"""What can be done with the files of a partition: a button each, and the same as a menu."""

from __future__ import annotations

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QMenu, QPushButton, QWidget

from mosscrate.core.volumes import Entry, Kind
from mosscrate.desk.shared.button_rows import ButtonRows
from mosscrate.desk.shared.panel import button, permit

SOME, ONE, ONE_FILE = "Choose files or folders first.", "Choose one file or folder first.", "Choose one file first."
NO_FILES = "There are no files to be changed."
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

    def allow(self, chosen: list[Entry], *, can_change: bool, has_comments: bool, why_not: str = "") -> None:
        """What can be done to what is chosen; `why_not` is why nothing of it can be changed."""
        one = chosen[0] if len(chosen) == 1 else None
        self.take.setEnabled(bool(chosen))
        one_file = one is not None and one.kind == Kind.FILE
        for part, has_what, wanted in (
                (self.put, True, ""), (self.folder, True, ""), (self.copy, bool(chosen), SOME),
                (self.remove, bool(chosen), SOME), (self.rename, one is not None, ONE),
                (self.comment, one is not None, ONE), (self.protect, one is not None, ONE),
                (self.replace, one_file, ONE_FILE)):
            permit(part, "" if can_change and has_what else why_not or wanted or NO_FILES)
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
