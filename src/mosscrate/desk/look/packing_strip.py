"""What a packed image is wrapped in: how it is packed, what is known of it, and reading it through."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QMenu, QProgressBar, QVBoxLayout

from mosscrate.core.contents import Layout
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.panel import Panel, button, label, row
from mosscrate.desk.shared.words import choice


class PackingStrip(Panel):
    """Stands above the files of a medium that comes out of a packed file; hidden for all others."""

    opened = pyqtSignal(object)              # Path of another disk in the same archive

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.medium: Medium | None = None
        self.how = label(scale=0.94, bold=True, elides=True)
        self.known = label(style="muted", scale=0.9, wraps=True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(6)
        self.bar.setRange(0, 1000)
        self.bar.setAccessibleName("How far it was read through")
        self.read_button = button("Read it through", self._read, tip="Unpack all of it once: its checksums are "
                                  "compared, and what is on it is remembered")
        self.others_button = button("Another disk inside…", self._offer, style="quiet")
        for part in (self.read_button, self.others_button):
            part.setProperty("compact", True)
        head = row(self.how, self.others_button, self.read_button)
        head.setStretch(0, 1)
        words = QVBoxLayout()
        words.setSpacing(3)
        words.addLayout(head)
        words.addWidget(self.known)
        words.addWidget(self.bar)
        self.column.addLayout(words)
        self.menu: QMenu | None = None
        model.reading_changed.connect(self._follow)
        model.reading_moved.connect(self._show)
        self.hide()

    def show_medium(self, medium: Medium | None, layout: Layout | None) -> None:
        """Tell about a medium, or nothing."""
        self.medium = medium
        packing = layout.packing if layout else None
        self.setVisible(packing is not None)
        if medium is None or packing is None or layout is None:
            return
        parts = f" in {counted(packing.parts, 'part')}" if packing.parts > 1 else ""
        ratio = f", {layout.size / packing.packed:.1f} : 1" if layout.is_size_known and packing.packed else ""
        unpacked = f"unpack to {binary(layout.size)}" if layout.is_size_known else "unpack to an unknown size"
        inside = f" · {Path(packing.member).name}" if packing.member else ""
        self.how.setText(f"{packing.sentence}{parts} · {binary(packing.packed)} {unpacked}{ratio}{inside}")
        self.known.setText(_known(medium, layout))
        self.others_button.setVisible(bool(packing.others))
        self._follow()

    def _follow(self) -> None:
        job = self.model.reading.get(self.medium.key) if self.medium else None
        remembered = self.medium.remembered if self.medium else None
        self.bar.setVisible(job is not None)
        self.read_button.setText("Stop reading" if job else "Read it through")
        self.read_button.setVisible(job is not None or (
            remembered is not None and not remembered.is_settled))

    def _show(self, key: str) -> None:
        if self.medium is not None and self.medium.key == key:
            self.bar.setValue(round(1000 * self.model.unwrapped(self.medium)))

    def _read(self) -> None:
        if self.medium is None:
            return
        if self.medium.key in self.model.reading:
            self.model.stop_reading(self.medium.key)
        else:
            self.model.read_through(self.medium)

    def _offer(self) -> None:
        medium, packing = self.medium, self.medium.packing if self.medium else None
        if medium is None or packing is None:
            return
        self.menu = QMenu(self)
        for name in packing.others:
            action = self.menu.addAction(choice(name))
            if action is not None:
                action.triggered.connect(lambda _on, name=name: self.opened.emit(medium.path / name))
        self.menu.popup(self.others_button.mapToGlobal(self.others_button.rect().bottomLeft()))


def _known(medium: Medium, layout: Layout) -> str:
    """What is known of it, and what is remembered."""
    remembered = medium.remembered
    if layout.fault:
        return "It is damaged, and is not written to a card as it is."
    if remembered is None or not layout.is_read_through:
        unread = ", ".join(p.name for p in layout.partitions if p.is_unread)
        return f"Not read through yet{f': what is on {unread} is not known' if unread else ''}."
    checked = ", ".join(remembered.checked) if remembered.checked else "no checksum was published beside it"
    return f"Read through; {checked}. What is on it is remembered. {_places(layout)}"


def _places(layout: Layout) -> str:
    """How far one has to go to reach a file."""
    if layout.places < 0:
        return "Any byte of it is at hand."
    return f"Unpacking can begin at {counted(layout.places + 1, 'place')}." if layout.places else \
        "Unpacking can only begin at its first byte."
