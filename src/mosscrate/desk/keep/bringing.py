"""Keep: what was kept of a part comes back where it differs, onto its card by its tag, or onto its device."""

from __future__ import annotations

from PyQt6.QtGui import QHideEvent
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from mosscrate.core.crate import Backup
from mosscrate.core.crate.library import files_in
from mosscrate.core.crate.parts import part_record
from mosscrate.core.devices import Address, Device
from mosscrate.core.devices.address import DEVICE_MODEL
from mosscrate.core.devices.giving_back import give_back
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning.bringing_back import bringing_all_back
from mosscrate.core.sheet.running import run as running
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.device_line import DeviceLine
from mosscrate.desk.shared.panel import button, label, row
from mosscrate.desk.shared.tag_entry import TagEntry

BRING = "Bring it back"


class BringingBack(QWidget):
    """A line below a backup of a part; hidden until it is asked for."""

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.words = label(style="muted", scale=0.94, wraps=True)
        self.entry = TagEntry(BRING)
        self.entry.confirmed.connect(lambda _word: self._run())
        self._backup: Backup | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.line = DeviceLine(model)
        self.line.connected.connect(self._ask)
        self.act = button(BRING, self._give_back, style="primary")
        self._device: Device | None = None
        column.addWidget(self.words)
        column.addWidget(self.entry)
        column.addWidget(self.line)
        column.addLayout(row(None, self.act))
        self.hide()

    def offer(self, backup: Backup) -> None:
        """Ask for the tag of its card, or for its device; or say what is missing for it."""
        self._backup, card = backup, self._card(backup)
        is_of_device = card is None and backup.record.card.model == DEVICE_MODEL
        self.entry.setVisible(card is not None)
        self.line.setVisible(is_of_device)
        self.act.hide()
        if card is not None:
            self.words.setText(f"Files that {card.name} does not hold as they were kept ({backup.chosen}) come back; "
                               "what is there under their names stays, under dated ones.")
            self.entry.ask(card.tag, is_possible=card.key not in self.model.busy)
        elif is_of_device:
            self.words.setText(f"This is of a running device ({backup.chosen}). Files that it does not hold as they "
                               "were kept come back; what is there under their names stays, under dated ones.")
            self.line.begin(next((address for address in self.line.known.addresses()
                                  if backup.record.card.key in Address.parse(address).keys), ""))
        else:
            self.words.setText("Its card is not at hand. Put it in, then bring the files back; or copy single ones "
                               "from “Show its contents”.")
        self.show()

    def _ask(self, device: Device) -> None:
        if not self.isVisible():
            device.close()                                   # left meanwhile
            return
        self._hang_up()
        self._device = device
        self.line.hide()
        self.act.setText(f"Bring it back into {device.address}")
        self.act.show()

    def _give_back(self) -> None:
        backup, device = self._backup, self._device
        if backup is None or device is None:
            return

        def work(watch: Watch) -> str:
            with device:
                return give_back(files_in(backup), device, watch).sentence

        job = self.model.run(f"Bring files back onto {device.address.host}", work, {str(device.address)})
        if job:
            self._device = None
            self.act.hide()
            job.done.connect(self.words.setText)
            job.failed.connect(lambda error: self.words.setText(str(error)))

    def hideEvent(self, event: QHideEvent | None) -> None:
        """Qt: a device that nothing is brought onto is let go of."""
        if event is None or not event.spontaneous():
            self._hang_up()
        super().hideEvent(event)

    def _hang_up(self) -> None:
        if self._device is not None:
            self._device.close()
            self._device = None

    def _card(self, backup: Backup) -> Medium | None:
        return next((m for m in self.model.media if part_record(card_of(m)).key == backup.record.card.key), None)

    def _run(self) -> None:
        backup, bench, tag = self._backup, self.model.bench, self.entry.typed()
        card = self._card(backup) if backup else None
        if backup is None or card is None:
            return

        def work(watch: Watch) -> str:
            result = running.run(bringing_all_back(backup, card, bench), bench, watch, typed_tag=tag)
            return " ".join(done.sentence for done in result.done)

        job = self.model.run(f"Bring files back onto {card.name}", work, {card.key})
        if job:
            self.entry.hide()
            job.done.connect(self.words.setText)
            job.failed.connect(lambda error: self.words.setText(str(error)))
