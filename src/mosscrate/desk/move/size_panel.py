"""The partition that gets the new room: its size typed or chosen, and whether everything fits."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import binary, exact, parse_size
from mosscrate.desk.move.plan import Plan
from mosscrate.desk.shared.panel import Facts, FindingRow, Panel, Rows, clear, label

WAYS = ("grow it in place", "make it anew, files put back")


class SizePanel(Panel):
    """Shows the growing partition of a plan.

    `size_wanted` carries bytes, or None for all the room; `way_wanted` whether its volume is made anew.
    """

    size_wanted = pyqtSignal(object)
    way_wanted = pyqtSignal(bool)

    def __init__(self) -> None:
        super().__init__()
        self.name = label(bold=True, scale=1.1)
        self.about = label(style="muted", scale=0.88)
        self.field = QLineEdit()
        self.field.setAccessibleName("Size of the partition")
        self.field.setPlaceholderText("4 GiB")
        self.field.editingFinished.connect(self._typed)
        self.stops = QComboBox()
        self.stops.setAccessibleName("Sizes that matter")
        self.stops.activated.connect(self._picked)
        self.ways = QComboBox()
        self.ways.setAccessibleName("How it gets its new size")
        self.ways.addItems(WAYS)
        self.ways.activated.connect(lambda number: self.way_wanted.emit(number == 1))
        self.why = label(style="muted", scale=0.86, wraps=True)
        self.error = label(style="problem", scale=0.88, wraps=True)
        self.facts = Facts()
        self.fit_head = label("Fit", bold=True)
        self.fit = QVBoxLayout()
        self.fit.setSpacing(2)
        known = Rows("How it fits", spacing=6)                           # scrolls where the window is low
        asked: tuple[QWidget, ...] = (self.name, self.about, self.field, self.stops, self.ways)
        for part in asked:
            self.column.addWidget(part)
        told: tuple[QWidget, ...] = (self.why, self.error, self.facts, self.fit_head)
        for part in told:
            known.column.addWidget(part)
        known.column.addLayout(self.fit)
        known.column.addStretch(1)
        self.column.addWidget(known, 1)
        self.setMinimumWidth(200)
        self.setMaximumWidth(280)
        self._plan: Plan | None = None
        self.show_plan(None)

    def show_plan(self, plan: Plan | None, *, is_locked: bool = False) -> None:
        """Follow a plan."""
        self._plan = plan
        layout = plan.forecast.layout if plan else None
        index = plan.growing if plan else None
        has_size = plan is not None and layout is not None and index is not None
        for part in (self.field, self.stops, self.ways, self.why, self.facts, self.fit_head):
            part.setVisible(has_size)
        self.error.hide()
        clear(self.fit)
        if plan is None or layout is None or index is None:
            self.name.setText("New room")
            self.about.setWordWrap(True)
            self.about.setText("" if plan is None else "No partition grows in this plan.")
            return
        look = layout.partition(index)
        self.name.setText(look.name)
        where = "on this card" if plan.is_in_place else "on the new card"
        self.about.setText(f"{where}, as large as it was; choose a size to grow it" if plan.is_offer else where)
        self.field.setText(binary(look.partition.length))
        self.field.setToolTip(exact(look.partition.length))
        self.field.setEnabled(not is_locked)
        self.stops.setEnabled(not is_locked)
        self.ways.setEnabled(not is_locked)
        self.ways.setCurrentIndex(int(plan.is_made_anew))
        self.why.setText(_why(plan))
        self.stops.clear()
        self.stops.addItem("sizes that matter…")
        self.stops.addItems([f"{binary(s.size)}, {s.name}" if s.name != binary(s.size) else s.name
                             for s in plan.stops()])
        volume = look.volume
        known = None if look.is_unread else volume
        self.facts.show_facts([
            ("was", binary(plan.source_layout.partition(index).partition.length)),
            ("file system", volume.kind_name if volume else ""),
            ("cluster", binary(known.block) if known else ""), ("label", volume.label if volume else ""),
            ("room for files", binary(known.free or 0) if known else ""), ("behind it", binary(layout.tail))])
        found = tuple(_fits(plan))
        self.fit_head.setVisible(bool(found))
        for finding in found:
            self.fit.addWidget(FindingRow(finding))

    def _typed(self) -> None:
        if self._plan is None or not self.field.isModified():
            return
        self.field.setModified(False)
        low, high = self._plan.bounds()
        try:
            size = parse_size(self.field.text())
        except ValueError as error:
            self._complain(str(error))
            return
        if not low <= size <= high:
            self._complain(f"It can have {binary(low)} to {binary(high)} here.")
            return
        self.size_wanted.emit(size)

    def _picked(self, number: int) -> None:
        if self._plan is None or number == 0:
            return
        stops = self._plan.stops()
        self.size_wanted.emit(None if number == len(stops) else stops[number - 1].size)

    def _complain(self, sentence: str) -> None:
        self.error.setText(sentence)
        self.error.show()


def _why(plan: Plan) -> str:
    """What speaks for the other way."""
    written, index = plan.written, plan.growing
    volume = written.partition(index).volume if written is not None and index is not None else None
    if plan.is_made_anew and volume and volume.largest and plan.size() > volume.largest:
        return f"In place it would end at {binary(volume.largest)}: {volume.largest_because}."
    if plan.is_made_anew:
        return "Same label, same files, a structure for its new size. It takes as long as copying it."
    return "Some firmware breaks on a grown volume and wants it made anew."


def _fits(plan: Plan) -> Iterator[Finding]:
    layout, index = plan.forecast.layout, plan.growing
    if layout is None or index is None:
        return
    look = layout.partition(index)
    if plan.is_offer:
        return
    if not plan.is_made_anew and not look.is_unread:
        yield Finding(Severity.GOOD, "Files keep their place; only the table in front of them gets longer.")
    if look.is_unread:
        yield Finding(Severity.NOTE, "What is on it has not been read yet: how far it grows is decided on the card.")
        return
    if look.volume and look.volume.label:
        yield Finding(Severity.GOOD, f"Label {look.volume.label} and serial number stay.")
    if plan.is_made_anew:
        return
    if look.volume and look.partition.length >= look.volume.largest:
        yield Finding(Severity.WARNING, f"It stops there: {look.volume.largest_because}.")
    elif layout.tail < 1 << 20:
        yield Finding(Severity.GOOD, "It fills the card.")
