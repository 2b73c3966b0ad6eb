"""A notification of the desktop when long work has ended and nobody looks at the window.

Source: Desktop Notifications Specification 1.2, `Notify`. A desktop that shows none is no fault.
"""

from __future__ import annotations

import logging
import threading
from html import escape

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import open_dbus_connection
from PyQt6.QtCore import QObject, Qt
from PyQt6.QtWidgets import QApplication

from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.background import BackgroundJob

LONG = 20.0                               # seconds; who waits longer has gone to do something else
PATIENCE = 5.0
DESKTOP = DBusAddress("/org/freedesktop/Notifications", "org.freedesktop.Notifications",
                      "org.freedesktop.Notifications")
log = logging.getLogger(__name__)


class Notices(QObject):
    """Follows the jobs of a model; what was said last of one is what its notification says.

    Attributes:
        long: seconds of work from which it is told.
    """

    def __init__(self, model: BenchModel, parent: QObject) -> None:
        super().__init__(parent)
        self.long = LONG
        self._model, self._known, self._said = model, set[BackgroundJob](), ""
        model.jobs_changed.connect(self._follow)
        model.said.connect(self._note)
        model.failed.connect(self._note)

    def is_looked_at(self) -> bool:
        """Whether one of this program's windows is the one that is worked in."""
        return QApplication.applicationState() == Qt.ApplicationState.ApplicationActive

    def _note(self, sentence: str) -> None:
        self._said = sentence

    def _follow(self) -> None:
        for job in self._model.jobs:
            if job not in self._known:
                self._known.add(job)
                job.ended.connect(lambda job=job: self._end(job))

    def _end(self, job: BackgroundJob) -> None:
        self._known.discard(job)
        if job.seconds >= self.long and not self.is_looked_at():
            threading.Thread(target=notify, args=(job.title, self._said), name="notice", daemon=True).start()


def notify(title: str, sentence: str) -> None:
    """Let the desktop show it, if there is one that does."""
    message = new_method_call(DESKTOP, "Notify", "susssasa{sv}i", (
        "Moss Crate", 0, "mosscrate", title, escape(sentence, quote=False), [], {}, -1))
    try:
        with open_dbus_connection(bus="SESSION") as bus:
            bus.send_and_get_reply(message, timeout=PATIENCE)
    except (OSError, ValueError, KeyError, EOFError, RuntimeError) as error:
        log.info("the desktop shows no notifications: %s", error)
