"""Starting the window: arguments, log, theme, and what happens when something breaks.

Nothing of the core that takes time is imported here at once: the window is painted first.
"""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING

from PyQt6.QtCore import QCommandLineOption, QCommandLineParser, QSettings
from PyQt6.QtWidgets import QApplication, QMessageBox

from mosscrate.core.collecting import collect_seldom
from mosscrate.desk import theme
from mosscrate.desk.window import MainWindow

if TYPE_CHECKING:
    from pathlib import Path
    from types import TracebackType

    from mosscrate.core.sheet.bench import Bench

SWITCH_INTERVAL = 0.0005       # seconds: a job's thread gives way to the window ten times sooner than usual


def main() -> None:
    """Open the window and stay until it is closed."""
    app = make_application(sys.argv)
    options = _options(app)
    choice = options.value("theme")
    if choice != "desktop":
        theme.apply_sheet(app, theme.wanted_theme(choice))
    window = MainWindow(lambda: _open_bench(options), QSettings("mosscrate", "window"))
    window.furnished.connect(lambda: _open_images(window, options.positionalArguments()))
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


def _options(app: QApplication) -> QCommandLineParser:
    parser = QCommandLineParser()
    parser.setApplicationDescription("One bench for cards, drives and images.")
    parser.addHelpOption()
    parser.addPositionalArgument("images", "image files to open", "[image ...]")
    parser.addOption(QCommandLineOption("demo", "Open the Heron Lane bench."))
    parser.addOption(QCommandLineOption("folder", "Where the demo bench lies.", "folder"))
    parser.addOption(QCommandLineOption("theme", "desktop, dark or light.", "theme",
                                        os.environ.get("MOSSCRATE_THEME", "desktop")))
    parser.process(app)
    return parser


def _open_bench(options: QCommandLineParser) -> Bench:
    import tempfile
    from pathlib import Path

    from mosscrate.core.errors import MossError
    from mosscrate.core.sheet.bench import standard_bench
    from mosscrate.demo.cards import bench_at

    folder = Path(options.value("folder") or Path(tempfile.gettempdir()) / f"mosscrate-heron-lane-{os.getuid()}")
    try:
        bench = bench_at(folder) if options.isSet("demo") else standard_bench()
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
