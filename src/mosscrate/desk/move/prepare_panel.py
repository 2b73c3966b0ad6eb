"""Laying a card out anew: for what, with which file system and label, and the files to put on it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QWidget

from mosscrate.core.sheet.planning.preparing import LAYOUTS, Wish, kinds_for
from mosscrate.core.sheet.steps import AnyStep
from mosscrate.core.sizes import counted, some_of
from mosscrate.core.volumes import kind_name
from mosscrate.desk.shared.button_rows import ButtonRows
from mosscrate.desk.shared.panel import Panel, Rows, button, label

NAMES_SHOWN = 4
SHORTEST = 8                             # letters of a plan's name that are seen at least


class PreparePanel(Panel):
    """Asks for a wish; `wished` tells each time that something of it changes."""

    wished = pyqtSignal()
    sorting_wanted = pyqtSignal()        # the volume for the games, or their plan, is another one
    cleared = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label("Prepare it", bold=True, scale=1.1, elides=True)
        self.layouts = QComboBox()
        self.layouts.setAccessibleName("Layout")
        self.layouts.addItems([each.name for each in LAYOUTS])
        self.about = label(style="muted", scale=0.88, wraps=True)
        self.kinds = QComboBox()
        self.kinds.setAccessibleName("File system")
        self.name = QLineEdit()
        self.name.setAccessibleName("Label")
        self.name.setPlaceholderText("label, such as GAMES")
        self.files_button = button("Files…", self._choose_files, tip="Files of this computer, put on the card "
                                                                             "as they are")
        self.folder_button = button("Folder…", self._choose_folder, tip="A whole folder of this computer, put on "
                                                                              "the card as it is")
        self.games_button = button("Games…", tip="A folder or an archive of games, saves and pictures, put to "
                                                 "where the plan wants them")
        for each in (self.files_button, self.folder_button, self.games_button):
            each.setProperty("compact", True)
        self.plans = QComboBox()
        self.plans.setAccessibleName("Folder plan")
        self.plans.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.plans.setMinimumContentsLength(SHORTEST)
        self.plans.activated.connect(lambda _number: self.sorting_wanted.emit())
        self.sorted = label(style="muted", scale=0.88, wraps=True)
        self.listed = label(style="muted", scale=0.88, wraps=True)
        self.clear_button = button("None of them", self._clear, style="quiet")
        self.error = label(style="problem", scale=0.88, wraps=True)
        asked: tuple[QWidget, ...] = (self.head, self.layouts, self.kinds, self.name, ButtonRows(
            self.files_button, self.folder_button, self.games_button, spacing=6), self.plans)
        told = Rows("What the card is to be", spacing=6)                            # scrolls where the window is low
        for part in asked:
            told.column.addWidget(part)
        said: tuple[QWidget, ...] = (self.error, self.sorted, self.about, self.listed, self.clear_button)
        for part in said:
            told.column.addWidget(part)
        told.column.addStretch(1)
        self.column.addWidget(told, 1)
        self.setMinimumWidth(200)
        self.setMaximumWidth(280)
        self.setAcceptDrops(True)
        self._files: tuple[str, ...] = ()
        self._kinds: tuple[str, ...] = ()
        self._games: tuple[AnyStep, ...] = ()
        self.layouts.activated.connect(lambda _number: self._take_layout())
        self.kinds.activated.connect(lambda _number: self._take_kind())
        self.name.textEdited.connect(lambda _text: self._say())
        self.begin()

    def begin(self) -> None:
        """With nothing wished yet."""
        self.layouts.setCurrentIndex(0)
        self.name.clear()
        self._files, self._games = (), ()
        self.sorted.setText("")
        self._show_layout()
        self._show_files()
        self.complain("")

    def wish(self) -> Wish:
        """As it is filled in."""
        kind = self._kinds[self.kinds.currentIndex()] if self._kinds and self.kinds.currentIndex() > 0 else ""
        return Wish(LAYOUTS[self.layouts.currentIndex()].key, kind, self.name.text().strip(), self._files, self._games)

    def add_files(self, paths: list[Path]) -> None:
        """Put these on the card too."""
        self._files = tuple(dict.fromkeys((*self._files, *map(str, paths))))
        self._show_files()
        self._say()

    def show_plans(self, plans: list[tuple[str, str]]) -> None:
        """Names and ids of the folder plans; the chosen one stays."""
        current = self.plans.currentData()
        self.plans.clear()
        for name, id_ in plans:
            self.plans.addItem(name, id_)
        self.plans.setCurrentIndex(max(0, self.plans.findData(current)))

    @property
    def plan_id(self) -> str:
        """Of the plan by which games are sorted."""
        return str(self.plans.currentData() or "")

    def take_games(self, steps: tuple[AnyStep, ...], told: str) -> None:
        """The steps that put games onto the fresh volume, and what is said of them; "" where none are brought in."""
        is_other = steps != self._games
        self._games = steps
        self.sorted.setText(told)
        self._show_files()
        if is_other:
            self._say()

    def complain(self, sentence: str) -> None:
        """What stands against the wish; "" for nothing."""
        self.error.setText(sentence)
        self.error.setVisible(bool(sentence))

    def set_locked(self, *, is_locked: bool) -> None:
        """While a job runs nothing can be wished."""
        for part in (self.layouts, self.kinds, self.name, self.files_button, self.folder_button, self.games_button,
                     self.plans, self.clear_button):
            part.setEnabled(not is_locked)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files of this computer are welcome."""
        if event is not None and _paths(event):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt: as if they had been chosen."""
        if event is not None and (paths := _paths(event)):
            self.add_files(paths)
            event.acceptProposedAction()

    def _take_layout(self) -> None:
        self._show_layout()
        self._take_kind()

    def _take_kind(self) -> None:
        self._say()
        self.sorting_wanted.emit()

    def _show_layout(self) -> None:
        fresh = LAYOUTS[self.layouts.currentIndex()]
        self.about.setText(fresh.about)
        self._kinds = kinds_for(fresh.key)
        self.kinds.clear()
        self.kinds.addItems([f"{kind_name(kind)}, the usual one" if k == 0 else kind_name(kind)
                             for k, kind in enumerate(self._kinds)])
        self.kinds.setVisible(len(self._kinds) > 1)

    def _show_files(self) -> None:
        names = [Path(path).name for path in self._files]
        self.listed.setText(f"{counted(len(names), 'file or folder', 'files or folders')}: "
                            f"{some_of(names, NAMES_SHOWN)}" if names else "" if self.sorted.text() else
                            "No files are put on it yet.")
        self.clear_button.setVisible(bool(names or self.sorted.text()))
        for part in (self.sorted, self.plans):
            part.setVisible(bool(self.sorted.text()))

    def _choose_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Files to put on the card", str(Path.home()))
        if names:
            self.add_files([Path(name) for name in names])

    def _choose_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder to put on the card", str(Path.home()))
        if name:
            self.add_files([Path(name)])

    def _clear(self) -> None:
        self._files = ()
        self._show_files()
        self.cleared.emit()
        self._say()

    def _say(self) -> None:
        self.wished.emit()


def _paths(event: QDropEvent) -> list[Path]:
    data = event.mimeData()
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()] if data else []

