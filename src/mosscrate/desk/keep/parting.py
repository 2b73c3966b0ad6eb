"""Keep: a part of a card or of a running device, from choosing to keeping."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedLayout, QVBoxLayout, QWidget

from mosscrate.core.contents import survey
from mosscrate.core.crate import Backup
from mosscrate.core.crate.compare import differing
from mosscrate.core.crate.parts import A_DEVICE, Choice, entries_on, keep_part
from mosscrate.core.devices import Device
from mosscrate.core.devices.keeping import KeptDevice, keep_device
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.running.knowing import written_from
from mosscrate.core.slots import Medium, Source
from mosscrate.core.volumes import Entry
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.keep.part_panel import PartPanel
from mosscrate.desk.shared.device_line import DeviceLine
from mosscrate.desk.shared.panel import Panel, button, label, row


class Parting(Panel):
    """Shown instead of a backup while something is chosen; `closed` tells that it is done with."""

    closed = pyqtSignal()

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.head = label(bold=True, scale=1.1, elides=True)
        self.line = DeviceLine(model)
        self.line.connected.connect(self._look_through)
        self.part = PartPanel()
        self.part.wanted.connect(self._keep)
        self.part.unlike_wanted.connect(self._narrow)
        self.wait = label("Looking through it…", style="muted")
        self._medium: Medium | None = None
        self._device: Device | None = None
        self._entries: list[tuple[int, Entry]] = []
        head = row(self.head, button("Not now", self.close_up, style="quiet"))
        head.setStretch(0, 1)
        self.column.addLayout(head)
        place = QWidget()
        self._pages = QStackedLayout(place)
        for page in (self.line, self.part, _top(self.wait)):
            self._pages.addWidget(page)
        self.column.addWidget(place, 1)
        self.setMinimumHeight(220)
        self.hide()

    def open_for(self, medium: Medium) -> None:
        """Choose from a card."""
        self._hang_up()
        self._medium = medium
        self.head.setText(f"A part of {medium.name}")
        self._show(2)

        bench, images = self.model.bench, [each for each in self.model.media if each.source == Source.IMAGE]

        def look() -> tuple[list[tuple[int, Entry]], Medium | None]:
            with medium.open() as blocks:
                return entries_on(blocks, survey(blocks)), written_from(medium, bench)

        def offer(found: tuple[list[tuple[int, Entry]], Medium | None]) -> None:
            entries, stock = found
            others = [each for each in images if each.key != medium.key and (stock is None or each.key != stock.key)]
            self.part.offer_images([*([stock] if stock else []), *others])
            self._offer(entries)
            if stock is not None:                            # what its image has is there again at any time
                self.part.against.setCurrentIndex(1)
                self._narrow(stock)

        self.model.asker.ask(look, offer, self._fail)

    def open_for_device(self, address: str) -> None:
        """Choose from a device; "" asks where it is."""
        self._hang_up()
        self._medium = None
        self.part.offer_images([])
        self.head.setText("A running device")
        self._show(0)
        self.line.begin(address)

    def close_up(self) -> None:
        """Leave it."""
        self._hang_up()
        self.hide()
        self.closed.emit()

    def _show(self, page: int) -> None:
        self._pages.setCurrentIndex(page)
        self.show()

    def _look_through(self, device: Device) -> None:
        if not self.isVisible() or self._medium is not None:
            device.close()                                   # left meanwhile
            return
        self._device = device
        self.head.setText(f"A part of {device.address}")
        self._show(2)

        def look() -> list[tuple[int, Entry]]:
            return [(A_DEVICE, entry) for entry in device.tree(device.address.folder).entries]

        self.model.asker.ask(look, self._offer, self._fail)

    def _offer(self, entries: list[tuple[int, Entry]]) -> None:
        self._entries = entries
        if self.isVisible():
            self.part.show_entries(entries)
            self._show(1)

    def _narrow(self, image: Medium | None) -> None:
        """Offer only what differs from an image, or everything again."""
        medium, entries = self._medium, self._entries
        if image is None or medium is None:
            self._offer(entries)
            return

        def show(only: frozenset[tuple[int, str]]) -> None:
            if self.isVisible() and self._medium is medium:
                self.part.show_entries(entries, image.name, only)

        self.model.asker.ask(lambda: differing(image, medium), show, self._fail)

    def _fail(self, error: Exception) -> None:
        self.wait.setText(str(error))
        self._show(2)

    def _keep(self, choice: Choice) -> None:
        crate, medium, device = self.model.bench.crate, self._medium, self._device
        if medium is not None:
            def work(watch: Watch) -> Backup:
                with medium.open_for_job() as blocks:
                    return keep_part(crate, card_of(medium), blocks, survey(blocks), choice, watch)

            job = self.model.run(f"Keep a part of {medium.name}", work, {medium.key})
            if job:
                job.done.connect(lambda backup: self.model.said.emit(f"Of {medium.name} are kept {backup.chosen}."))
        elif device is not None:
            def fetch(watch: Watch) -> KeptDevice:
                with device:
                    return keep_device(crate, device, choice, watch)

            job = self.model.run(f"Keep {device.address.host}", fetch, {str(device.address)})
            self._device = None if job else device
            if job:
                job.done.connect(lambda kept: self.model.said.emit(kept.sentence))
        else:
            return
        if job:
            self.close_up()

    def _hang_up(self) -> None:
        if self._device is not None:
            self._device.close()
            self._device = None
        self.wait.setText("Looking through it…")


def _top(widget: QWidget) -> QWidget:
    page = QWidget()
    column = QVBoxLayout(page)
    column.setContentsMargins(0, 0, 0, 0)
    column.addWidget(widget)
    column.addStretch(1)
    return page
