"""The window: rail, stations, strip; drops and shortcuts."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSettings, QSize
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.finder import Finder
from mosscrate.desk.keep.station import KeepStation
from mosscrate.desk.look.station import LookStation
from mosscrate.desk.move.station import MoveStation
from mosscrate.desk.rail import Rail
from mosscrate.desk.strip import Strip

STATIONS = ("Look", "Keep", "Move")
LOOK, KEEP, MOVE = range(3)


class MainWindow(QMainWindow):
    """Puts the stations together; each only knows the shared model."""

    def __init__(self, bench: Bench, settings: QSettings | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Moss Crate")
        self.setAcceptDrops(True)
        self.settings = settings
        self.model = BenchModel(bench, self)
        self.look, self.keep, self.move_ = LookStation(self.model), KeepStation(self.model), MoveStation(self.model)
        self.stack = QStackedWidget()
        for station in (self.look, self.keep, self.move_):
            self.stack.addWidget(station)
        self.rail = Rail(STATIONS)
        self.rail.chosen.connect(self.go_to)
        self.strip = Strip(self.model)
        right = QVBoxLayout()
        right.setContentsMargins(0, 0, 0, 0)
        right.setSpacing(0)
        right.addWidget(self.stack, 1)
        right.addWidget(self.strip)
        whole = QWidget()
        line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        line.addWidget(self.rail)
        line.addLayout(right, 1)
        self.setCentralWidget(whole)
        self.setMinimumSize(QSize(880, 560))
        self.look.move_wanted.connect(self._start_move)
        self.look.grow_wanted.connect(self._start_growing)
        self.keep.put_back_wanted.connect(self._start_move)
        self.keep.look_wanted.connect(self._look_at)
        self.move_.look_wanted.connect(self._look_at)
        self._add_shortcuts()
        self._restore()
        self.go_to(LOOK)
        self.look.shelf.setFocus()
        self.model.start()

    def go_to(self, number: int) -> None:
        """Show a station."""
        self.stack.setCurrentIndex(number)
        self.rail.show_chosen(number)

    def open_finder(self) -> None:
        """Find any card, backup, partition or station by typing."""
        Finder(self.model, self.go_to, self._look_at, self).open_at(self)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files are welcome everywhere."""
        data = event.mimeData() if event else None
        if event and data and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt: a dropped image is opened where one is; on Move it becomes the source."""
        data = event.mimeData() if event else None
        for url in data.urls() if data else []:
            if url.isLocalFile():
                self.model.open_image(Path(url.toLocalFile()))
        if self.stack.currentIndex() == MOVE and self.model.selected:
            self.move_.choose_source(self.model.selected)
        else:
            self.go_to(LOOK)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Qt: stop what runs, remember the place."""
        self.model.close()
        if self.settings:
            self.settings.setValue("geometry", self.saveGeometry())
            self.settings.setValue("station", self.stack.currentIndex())
        super().closeEvent(event)

    def _add_shortcuts(self) -> None:
        for number in range(len(STATIONS)):
            QShortcut(QKeySequence(f"Ctrl+{number + 1}"), self, lambda number=number: self.go_to(number))
        QShortcut(QKeySequence("Ctrl+K"), self, self.open_finder)
        QShortcut(QKeySequence.StandardKey.Open, self, self.look._ask_for_image)

    def _restore(self) -> None:
        self.resize(1280, 800)
        geometry = self.settings.value("geometry") if self.settings else None
        if geometry is not None:
            self.restoreGeometry(geometry)

    def _start_move(self, medium: Medium) -> None:
        self.move_.choose_source(medium)
        self.go_to(MOVE)

    def _start_growing(self, medium: Medium) -> None:
        self.move_.choose_in_place(medium)
        self.go_to(MOVE)

    def _look_at(self, medium: Medium | None) -> None:
        self.model.select(medium)
        self.go_to(LOOK)
