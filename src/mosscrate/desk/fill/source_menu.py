"""Where things are brought in from: folders and archives of this computer, another card, a backup."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QMenu, QWidget

from mosscrate.core.crate import Backup
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.own_lists import FOLDER, add_list, own_lists, remove_list
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.words import choice

NEWEST = 12                              # backups that are offered


class SourceMenu(QMenu):
    """Tells with `folders` or `card` what was chosen."""

    folders = pyqtSignal(list)
    card = pyqtSignal(object)            # Medium
    lists_changed = pyqtSignal()

    def __init__(self, parent: QWidget, model: BenchModel, filled: Medium | None) -> None:
        super().__init__(parent)
        self._model = model
        self.addAction("A folder…", self._choose_folder)
        self.addAction("Files and archives…", self._choose_files)
        others = [medium for medium in model.media if filled is None or medium.key != filled.key]
        if others:
            self.addSeparator()
        for medium in others:
            self.addAction(choice(medium.name), partial(self.card.emit, medium))
        backups = model.newest_backups(NEWEST)
        if backups and (menu := self.addMenu("A backup")) is not None:
            for name, backup in backups:
                menu.addAction(choice(name), partial(self._take, backup))
        self.addSeparator()
        if (menu := self.addMenu("Lists of checksums")) is not None:
            self._show_lists(menu)

    def _show_lists(self, menu: QMenu) -> None:
        """Games are known by them, whatever they are called."""
        menu.addAction("Add a list…", self._add_list)
        for each in own_lists(self._lists):
            if (own := menu.addMenu(choice(each.name))) is not None:
                if (line := own.addAction(choice(each.sentence))) is not None:
                    line.setEnabled(False)
                own.addAction("Remove it", partial(self._change, partial(remove_list, self._lists, each.name)))

    @property
    def _lists(self) -> Path:
        return self._model.bench.state / FOLDER

    def _add_list(self) -> None:
        file, _ = QFileDialog.getOpenFileName(self.parentWidget(), "A list of checksums")
        if file:
            self._change(lambda: self._model.said.emit(
                f"{Path(file).name} knows {add_list(self._lists, Path(file)).sentence}."))

    def _change(self, change: Callable[[], None]) -> None:
        try:
            change()
        except PlanError as error:
            self._model.failed.emit(str(error))
            return
        self.lists_changed.emit()

    def _choose_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.parentWidget(), "A folder to bring in")
        if folder:
            self.folders.emit([Path(folder)])

    def _choose_files(self) -> None:
        files, _ = QFileDialog.getOpenFileNames(self.parentWidget(), "Files and archives to bring in")
        if files:
            self.folders.emit([Path(file) for file in files])

    def _take(self, backup: Backup) -> None:
        if medium := self._model.backup_at_hand(backup):
            self.card.emit(medium)
