"""Starting the window: arguments, log, theme, and what happens when something breaks."""

from __future__ import annotations

import argparse
import logging
import os
import sys
import tempfile
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication, QMessageBox

from mosscrate.core.sheet.bench import Bench, standard_bench
from mosscrate.desk import theme
from mosscrate.desk.window import MainWindow

log = logging.getLogger("mosscrate")


def main() -> None:
    """Open the window and stay until it is closed."""
    options = _options()
    bench = _bench(options)
    log_file = _start_log(bench.state)
    app = make_application(sys.argv[:1], options.theme)
    sys.excepthook = lambda kind, error, trace: _crashed(log_file, kind, error, trace)
    window = MainWindow(bench, QSettings(str(bench.state / "window.ini"), QSettings.Format.IniFormat))
    for path in options.images:
        window.model.open_image(path)
    window.show()
    sys.exit(app.exec())


def make_application(arguments: list[str], theme_choice: str = "desktop") -> QApplication:
    """The application with its theme, which follows the desktop unless one is named."""
    app = QApplication(arguments)
    app.setApplicationName("Moss Crate")
    app.setDesktopFileName("mosscrate")
    app.setStyle("Fusion")
    theme.apply(app, theme.wanted_theme(theme_choice))
    hints = app.styleHints()
    if theme_choice == "desktop" and hints is not None:
        hints.colorSchemeChanged.connect(lambda _scheme: theme.apply(app, theme.wanted_theme("desktop")))
    return app


def _options() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="mosscrate-desk", description="One bench for cards, drives and images.")
    parser.add_argument("images", nargs="*", type=Path, help="image files to open")
    parser.add_argument("--demo", action="store_true", help="open the Heron Lane bench")
    parser.add_argument("--folder", type=Path, help="where the demo bench lies; kept between starts when given")
    parser.add_argument("--theme", choices=("desktop", "dark", "light"), default=os.environ.get("MOSSCRATE_THEME",
                                                                                              "desktop"))
    return parser.parse_args()


def _bench(options: argparse.Namespace) -> Bench:
    if not options.demo:
        return standard_bench()
    from mosscrate.demo.cards import bench_at

    return bench_at(options.folder or Path(tempfile.gettempdir()) / f"mosscrate-heron-lane-{os.getuid()}")


def _start_log(state: Path) -> Path:
    state.mkdir(parents=True, exist_ok=True)
    path = state / "mosscrate.log"
    handler = RotatingFileHandler(path, maxBytes=1 << 20, backupCount=3)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    logging.getLogger().setLevel(logging.INFO)
    return path


def _crashed(log_file: Path, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    """Note it, say it once, go on: nothing on a card changes because a window misbehaves."""
    log.critical("unexpected error", exc_info=(kind, error, trace))
    box = QMessageBox(QMessageBox.Icon.Warning, "Moss Crate",
                      "Something went wrong inside Moss Crate. No card was changed by this; a job that runs goes on.")
    box.setInformativeText(f"{kind.__name__}: {error}\n\nThe whole story is in {log_file}")
    box.exec()
