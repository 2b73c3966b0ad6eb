"""Pictures scaled and fetched beside everything else; a filling that has them is sorted anew afterwards."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QInputDialog, QWidget

from mosscrate.core.sheet.planning.filling import Filling, TreeFilling
from mosscrate.core.sheet.planning.picturing import fetch_missing, scale_waiting
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.fill.errand import gallery_at

ASKED = "Address of a picture server. The names, sizes and checksums of {} games go there."


class Picturing(QObject):
    """Tells with `done` which server was asked ("" for none) and how it went."""

    done = pyqtSignal(str, str)

    def __init__(self, parent: QWidget, model: BenchModel) -> None:
        super().__init__(parent)
        self._model, self._widget = model, parent
        self._is_at_work = False
        self._servers: list[str] = []             # those that were asked for by the person, in this window

    def scale(self, found: Filling | TreeFilling | None, source: Medium | None) -> None:
        """Scale the pictures that a filling waits for, some of them on a card, unless that is being done."""
        if found is not None and found.sorted.waiting:
            gallery = gallery_at(self._model.bench.state)
            self._run("Scale pictures", "", lambda watch: scale_waiting(found.plan, found.sorted, gallery, watch,
                                                                          source))

    def ask(self, found: Filling | TreeFilling) -> None:
        """Ask the person for a server, then the server for pictures."""
        last = self._servers[-1] if self._servers else "http://"
        address, is_sure = QInputDialog.getText(self._widget, "A picture server", ASKED.format(len(found.sorted.bare)),
                                                text=last)
        if is_sure and address.strip():
            self.fetch(found, address.strip())

    def fetch(self, found: Filling | TreeFilling, address: str) -> None:
        """Ask a server for pictures of the games that have none."""
        gallery = gallery_at(self._model.bench.state)
        self._servers.append(address)
        self._run("Fetch pictures", address, lambda watch: fetch_missing(found.plan, found.sorted, address, gallery,
                                                                                watch))

    def _run(self, title: str, server: str, work: Callable[[Watch], str]) -> None:
        job = None if self._is_at_work else self._model.run(title, work, set())
        if job is None:
            return
        self._is_at_work = True
        job.done.connect(lambda said: self._end(server, str(said)))
        job.failed.connect(lambda _error: self._end("", ""))

    def _end(self, server: str, said: str) -> None:
        self._is_at_work = False
        if said:
            self.done.emit(server, said)
