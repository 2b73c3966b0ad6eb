"""The window: rail, stations, strip; drops and shortcuts.

It is painted first and furnished then: the core and the stations are loaded beside it, so that the
window is there at once.
"""

from __future__ import annotations

import threading
from typing import TYPE_CHECKING, cast

from PyQt6.QtCore import QSettings, QSize, Qt, QTimer, pyqtSignal
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

from mosscrate.desk.stations import STATIONS

if TYPE_CHECKING:
    from collections.abc import Callable

    from mosscrate.core.sheet.bench import Bench
    from mosscrate.core.slots import Medium
    from mosscrate.desk.fill.station import FillStation
    from mosscrate.desk.keep.station import KeepStation
    from mosscrate.desk.look.station import LookStation
    from mosscrate.desk.move.station import MoveStation
    from mosscrate.desk.proof.station import ProofStation
    from mosscrate.desk.stations import StationWidget

LOOK, KEEP, MOVE, FILL, PROOF = range(5)
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
        self.is_furnished = self._is_ending = False
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
        from mosscrate.desk.rail import Rail
        from mosscrate.desk.shared.notices import Notices
        from mosscrate.desk.strip import Strip

        if self.is_furnished:
            return
        self.is_furnished = True
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply_palette(app)
        self.rail = Rail(tuple(station.name for station in STATIONS))
        self._line.replaceWidget(self._shell, self.rail)
        self._shell.deleteLater()
        self.model = BenchModel(bench or self._open_bench(), self)
        built = [station.build(self.model) for station in STATIONS]
        self.look, self.keep, self.move_ = (cast("LookStation", built[LOOK]), cast("KeepStation", built[KEEP]),
                                            cast("MoveStation", built[MOVE]))
        self.fill = cast("FillStation", built[FILL])
        self.proof = cast("ProofStation", built[PROOF])
        self.stack.removeWidget(self._waiting)
        for widget in built:
            self.stack.addWidget(widget)
        self.strip = Strip(self.model)
        self._right.addWidget(self.strip)
        self.notices = Notices(self.model, self)
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
        """Find any card, backup, partition, station or act by typing."""
        from mosscrate.desk.finder import Finder

        Finder(self.model, self.go_to, self._look_at, self.look.acts(), self._find_in_backups, self).open_at(self)

    def _find_in_backups(self, text: str) -> None:
        self.go_to(KEEP)
        self.keep.field.setText(text)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files are welcome everywhere."""
        data = event.mimeData() if event else None
        if event and data and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt: a dropped image is opened where one is, or at the station on whose button it falls; on Move it becomes
        the source.
        """
        from pathlib import Path

        data = event.mimeData() if event else None
        paths = [Path(url.toLocalFile()) for url in (data.urls() if data else []) if url.isLocalFile()]
        opened = self.model.open_images(self.model.take_lists(paths))
        if not opened:
            return                                       # why is said at the bottom; nothing else changes
        at = self.rail.number_at(self.rail.mapFrom(self, event.position().toPoint())) if event else None
        station = self.stack.currentIndex() if at is None else at
        self._go("move" if station == MOVE else "look", opened[-1])

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Qt: ask where a job is at work, stop what runs, remember the place."""
        is_at_work = self.is_furnished and self.model.jobs and not self._is_ending
        if event is not None and is_at_work and not self.may_stop():
            event.ignore()
            return
        if self.is_furnished:
            self.model.close()
            self.fill.let_go()
        if self.settings:
            self.settings.setValue("geometry", self.saveGeometry())
        super().closeEvent(event)

    def end(self) -> None:
        """Close without a question: the session ends, and what is at work is stopped."""
        self._is_ending = True
        self.close()

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
        self.rail.chosen.connect(self._turn_to)
        for number in range(len(STATIONS)):
            self._station(number).elsewhere.connect(self._go)
        for number in range(len(STATIONS)):
            QShortcut(QKeySequence(f"Ctrl+{number + 1}"), self, lambda number=number: self._go_by_key(number))
        QShortcut(QKeySequence("Ctrl+K"), self, self.open_finder)
        QShortcut(QKeySequence("F6"), self, lambda: self._go_on_by_section(1))
        QShortcut(QKeySequence("Shift+F6"), self, lambda: self._go_on_by_section(-1))
        QShortcut(QKeySequence.StandardKey.Open, self, self.look.ask_for_image)

    def _turn_to(self, number: int) -> None:
        """To a station by hand: Move takes the card in hand, where nothing is planned there."""
        if number == MOVE:
            self.move_.take_if_free(self.model.selected)
        self.go_to(number)

    def _go_by_key(self, number: int) -> None:
        """To a station with the keyboard: what comes next has the focus."""
        self._turn_to(number)
        (self.look.shelf if number == LOOK else self.stack.currentWidget() or self.stack).setFocus()

    def _go_on_by_section(self, step: int) -> None:
        """From one part of the station to the next, so that what matters is a few keys away."""
        parts = [first for part in self._station(self.stack.currentIndex()).sections
                 if (first := _first_in(part)) is not None]
        has_focus = self.focusWidget()
        now = next((k for k, part in enumerate(parts) if has_focus is not None
                    and (part is has_focus or part.isAncestorOf(has_focus))), -1 if step > 0 else 0)
        if parts:
            parts[(now + step) % len(parts)].setFocus(Qt.FocusReason.TabFocusReason)

    def _station(self, number: int) -> StationWidget:
        return cast("StationWidget", self.stack.widget(number))

    def _go(self, where: str, medium: Medium | None) -> None:
        """To another station, with a medium and what is wanted of it; see `StationWidget`."""
        key, _, errand = where.partition(".")
        number = next(k for k, station in enumerate(STATIONS) if station.key == key)
        self._station(number).take(medium, errand)
        self.go_to(number)

    def _look_at(self, medium: Medium | None) -> None:
        self._go("look", medium)


def _first_in(part: QWidget) -> QWidget | None:
    """What takes the keyboard in a part: itself, or the first thing in it; None where nothing does now."""
    for each in (part, *part.findChildren(QWidget)):
        if each.isVisible() and each.isEnabled() and each.focusPolicy() & Qt.FocusPolicy.TabFocus:
            return each
    return None


def _shell_rail() -> QFrame:
    """What stands at the left edge until the rail is there: the names of the stations."""
    shell = QFrame()
    shell.setObjectName("shell-rail")
    shell.setFixedWidth(RAIL_WIDTH)
    column = QVBoxLayout(shell)
    column.setContentsMargins(20, 64, 0, 0)
    column.setSpacing(62)
    for station in STATIONS:
        column.addWidget(QLabel(station.name))
    column.addStretch(1)
    return shell
