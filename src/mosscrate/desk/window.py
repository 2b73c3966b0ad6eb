"""The window: rail, stations, strip; drops and shortcuts.

It is painted first and furnished then: the core and the stations are loaded beside it, so that the
window is there at once.
"""

from __future__ import annotations

import threading
from typing import TYPE_CHECKING

from PyQt6.QtCore import QSettings, QSize, QTimer, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QPaintEvent, QShortcut
from PyQt6.QtWidgets import (
    QApplication,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

if TYPE_CHECKING:
    from collections.abc import Callable

    from mosscrate.core.sheet.bench import Bench
    from mosscrate.core.slots import Medium

STATIONS = ("Look", "Keep", "Move")
LOOK, KEEP, MOVE = range(3)
RAIL_WIDTH = 76


class MainWindow(QMainWindow):
    """Puts the stations together; each only knows the shared model.

    Args:
        open_bench: gives the bench; called beside the window after its first paint, or by `furnish`.
        settings: where the window remembers its place; None forgets.
    """

    furnished = pyqtSignal()
    _loaded = pyqtSignal(object, object)

    def __init__(self, open_bench: Callable[[], Bench], settings: QSettings | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Moss Crate")
        self.settings = settings
        self.is_furnished = False
        self._open_bench = open_bench
        self._loader: threading.Thread | None = None
        self._loaded.connect(self._take_bench)
        self.stack = QStackedWidget()
        self._shell = _shell_rail()
        self._waiting = QLabel("Laying out the bench…")
        self._waiting.setObjectName("waiting")
        self._waiting.setIndent(24)
        self.stack.addWidget(self._waiting)
        self._right = QVBoxLayout()
        self._right.setContentsMargins(0, 0, 0, 0)
        self._right.setSpacing(0)
        self._right.addWidget(self.stack, 1)
        whole = QWidget()
        line = self._line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        line.addWidget(self._shell)
        line.addLayout(self._right, 1)
        self.setCentralWidget(whole)
        self.setMinimumSize(QSize(880, 560))
        self.resize(1280, 800)
        geometry = settings.value("geometry") if settings else None
        if geometry is not None:
            self.restoreGeometry(geometry)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: the first one starts the furnishing."""
        super().paintEvent(event)
        if not self.is_furnished and self._loader is None:
            self._loader = threading.Thread(target=self._load, name="furnish", daemon=True)
            QTimer.singleShot(0, self._loader.start)

    def furnish(self, bench: Bench | None = None) -> None:
        """Build the stations; what they need is loaded here when it is not yet."""
        from mosscrate.desk import theme
        from mosscrate.desk.bench_model import BenchModel
        from mosscrate.desk.keep.station import KeepStation
        from mosscrate.desk.look.station import LookStation
        from mosscrate.desk.move.station import MoveStation
        from mosscrate.desk.rail import Rail
        from mosscrate.desk.strip import Strip

        if self.is_furnished:
            return
        self.is_furnished = True
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply_palette(app)
        self.rail = Rail(STATIONS)
        self._line.replaceWidget(self._shell, self.rail)
        self._shell.deleteLater()
        self.model = BenchModel(bench or self._open_bench(), self)
        self.look, self.keep, self.move_ = LookStation(self.model), KeepStation(self.model), MoveStation(self.model)
        self.stack.removeWidget(self._waiting)
        for station in (self.look, self.keep, self.move_):
            self.stack.addWidget(station)
        self.strip = Strip(self.model)
        self._right.addWidget(self.strip)
        self._connect()
        self.setAcceptDrops(True)
        self.go_to(LOOK)
        self.look.shelf.setFocus()
        self.model.start()
        self.furnished.emit()

    def go_to(self, number: int) -> None:
        """Show a station."""
        self.stack.setCurrentIndex(number)
        self.rail.show_chosen(number)

    def open_finder(self) -> None:
        """Find any card, backup, partition or station by typing."""
        from mosscrate.desk.finder import Finder

        Finder(self.model, self.go_to, self._look_at, self).open_at(self)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files are welcome everywhere."""
        data = event.mimeData() if event else None
        if event and data and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt: a dropped image is opened where one is; on Move it becomes the source."""
        from pathlib import Path

        data = event.mimeData() if event else None
        paths = [Path(url.toLocalFile()) for url in (data.urls() if data else []) if url.isLocalFile()]
        opened = [medium for medium in map(self.model.open_image, paths) if medium is not None]
        if not opened:
            return                                       # why is said at the bottom; nothing else changes
        if self.stack.currentIndex() == MOVE:
            self.move_.choose_source(opened[-1])
        else:
            self.go_to(LOOK)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Qt: ask where a job is at work, stop what runs, remember the place."""
        if event is not None and self.is_furnished and self.model.jobs and not self.may_stop():
            event.ignore()
            return
        if self.is_furnished:
            self.model.close()
        if self.settings:
            self.settings.setValue("geometry", self.saveGeometry())
        super().closeEvent(event)

    def may_stop(self) -> bool:
        """Ask whether what runs shall be stopped."""
        titles = ", ".join(f"“{job.title}”" for job in self.model.jobs)
        answer = QMessageBox.question(
            self, "Moss Crate", f"{titles} is at work. Stop it and close? A card that is being written stays in the "
            "middle of the change; it can be finished or taken back when the program is opened again.",
            QMessageBox.StandardButton.Close | QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Cancel)
        return answer == QMessageBox.StandardButton.Close

    def _load(self) -> None:
        """Beside the window: load the core and open the bench."""
        try:

            self._loaded.emit(self._open_bench(), None)
        except Exception as error:
            self._loaded.emit(None, error)

    def _take_bench(self, bench: Bench | None, error: Exception | None) -> None:
        if error is not None:
            self._waiting.setText(f"The bench cannot be opened.\n{error}")
        else:
            self.furnish(bench)

    def _connect(self) -> None:
        self.rail.chosen.connect(self.go_to)
        self.look.move_wanted.connect(self._start_move)
        self.look.grow_wanted.connect(self._start_growing)
        self.look.arrange_wanted.connect(self._start_arranging)
        self.keep.put_back_wanted.connect(self._start_move)
        self.keep.look_wanted.connect(self._look_at)
        self.move_.look_wanted.connect(self._look_at)
        for number in range(len(STATIONS)):
            QShortcut(QKeySequence(f"Ctrl+{number + 1}"), self, lambda number=number: self.go_to(number))
        QShortcut(QKeySequence("Ctrl+K"), self, self.open_finder)
        QShortcut(QKeySequence.StandardKey.Open, self, self.look.ask_for_image)

    def _start_move(self, medium: Medium) -> None:
        self.move_.choose_source(medium)
        self.go_to(MOVE)

    def _start_growing(self, medium: Medium) -> None:
        self.move_.choose_in_place(medium)
        self.go_to(MOVE)

    def _start_arranging(self, medium: Medium) -> None:
        self.move_.choose_to_arrange(medium)
        self.go_to(MOVE)

    def _look_at(self, medium: Medium | None) -> None:
        self.model.select(medium)
        self.go_to(LOOK)


def _shell_rail() -> QFrame:
    """What stands at the left edge until the rail is there: the names of the stations."""
    shell = QFrame()
    shell.setObjectName("shell-rail")
    shell.setFixedWidth(RAIL_WIDTH)
    column = QVBoxLayout(shell)
    column.setContentsMargins(20, 64, 0, 0)
    column.setSpacing(62)
    for name in STATIONS:
        column.addWidget(QLabel(name))
    column.addStretch(1)
    return shell
