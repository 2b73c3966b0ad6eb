"""Starting the window: arguments, log, theme, and what happens when something breaks.

Nothing of the core that takes time is imported here at once: the window is painted first.
"""

from __future__ import annotations

import os
import signal
import socket
import sys
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QSettings, QSocketNotifier
from PyQt6.QtWidgets import QApplication, QMessageBox
from PyQt6.sip import voidptr

from mosscrate.core.collecting import collect_seldom
from mosscrate.core.errors import BY_SIGNAL
from mosscrate.desk import theme
from mosscrate.desk.arguments import Arguments, read_arguments
from mosscrate.desk.window import MainWindow

if TYPE_CHECKING:
    from pathlib import Path
    from types import TracebackType

    from mosscrate.core.sheet.bench import Bench

SWITCH_INTERVAL = 0.0005       # seconds: a job's thread gives way to the window ten times sooner than usual


def main() -> None:
    """Open the window and stay until it is closed."""
    options = read_arguments(sys.argv[1:])
    app = make_application(sys.argv[:1])
    if options.theme != "desktop":
        theme.apply_sheet(app, theme.wanted_theme(options.theme))
    window = MainWindow(lambda: _open_bench(options), QSettings("mosscrate", "window"))
    window.furnished.connect(lambda: _open_images(window, options.images))
    SystemEnd(app, window)
    window.show()
    sys.exit(app.exec())


def make_application(arguments: list[str], theme_choice: str = "desktop") -> QApplication:
    """The application with its theme, which follows the desktop unless one is named."""
    sys.setswitchinterval(SWITCH_INTERVAL)
    collect_seldom()
    QApplication.setStyle("Fusion")
    app = QApplication(arguments)
    app.setApplicationName("Moss Crate")
    app.setDesktopFileName("mosscrate")
    theme.apply_sheet(app, theme.wanted_theme(theme_choice))
    if theme_choice == "desktop":
        theme.follow_desktop(app)
    return app


class SystemEnd(QObject):
    """When the session ends, or a signal asks for it, what is at work is stopped as by hand, and nothing is asked."""

    def __init__(self, app: QApplication, window: MainWindow) -> None:
        super().__init__(app)
        self._app, self._window = app, window
        self._asked, self._there = socket.socketpair()
        for each in (self._asked, self._there):
            each.setblocking(False)
        signal.set_wakeup_fd(self._there.fileno())       # Qt waits in C: a handler alone would come when it returns
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, lambda _number, _frame: None)
        self._notifier = QSocketNotifier(voidptr(self._asked.fileno()), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._end)
        app.commitDataRequest.connect(window.end)

    def _end(self) -> None:
        self._notifier.setEnabled(False)
        self._window.end()
        self._app.exit(BY_SIGNAL + self._asked.recv(1)[0])


def _open_bench(options: Arguments) -> Bench:
    import tempfile
    from pathlib import Path

    from mosscrate.core.errors import MossError
    from mosscrate.core.sheet.bench import standard_bench
    from mosscrate.demo.cards import bench_at

    folder = Path(options.folder or Path(tempfile.gettempdir()) / f"mosscrate-heron-lane-{os.getuid()}")
    try:
        bench = bench_at(folder) if options.demo else standard_bench()
    except MossError as error:
        sys.exit(f"mosscrate: {error}")
    log_file = _start_log(bench.state)
    sys.excepthook = lambda kind, error, trace: _crashed(log_file, kind, error, trace)
    return bench


def _open_images(window: MainWindow, images: list[str]) -> None:
    from pathlib import Path

    window.model.open_images([Path(name) for name in images])


def _start_log(state: Path) -> Path:
    import logging
    from logging.handlers import RotatingFileHandler

    state.mkdir(parents=True, exist_ok=True)
    path = state / "mosscrate.log"
    handler = RotatingFileHandler(path, maxBytes=1 << 20, backupCount=3)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    logging.getLogger().setLevel(logging.INFO)
    return path


def _crashed(log_file: Path, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    """Note it, say it once, go on: nothing on a card changes because a window misbehaves."""
    import logging

    logging.getLogger("mosscrate").critical("unexpected error", exc_info=(kind, error, trace))
    box = QMessageBox(QMessageBox.Icon.Warning, "Moss Crate",
                      "Something went wrong inside Moss Crate. No card was changed by this; a job that runs goes on.")
    box.setInformativeText(f"{kind.__name__}: {error}\n\nThe whole story is in {log_file}")
    box.exec()
