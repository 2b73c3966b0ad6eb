"""Keep: one backup, what is known of it, and what can be done with it."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtBoundSignal, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout

from mosscrate.core.blocks import Extent
from mosscrate.core.crate import Backup
from mosscrate.core.crate.compare import PartitionChange
from mosscrate.core.crate.lacking import lack_of
from mosscrate.core.crate.notes import LONGEST_TEXT
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import binary, duration, exact, rate
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.head import Head
from mosscrate.desk.shared.panel import Facts, FindingRow, Panel, Rows, button, clear, label, row

FOR_TWO = 980                            # pixels of width from which on two cores are shown
FORGET, FORGET_IT = "Forget…", "Forget it"


class BackupPanel(Panel):
    """Shows one backup; its owner connects the buttons."""

    named = pyqtSignal(str)              # what the card is to be called
    noted = pyqtSignal(str)              # what is to be noted of the backup
    compared = pyqtSignal(object)        # Backup with which it is to be compared

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, scale=1.1, elides=True)
        self.about = label(style="muted", scale=0.9, elides=True)
        self.check = button("Check it", lambda: None, tip="Read it again and compare it with its record")
        self.mend = button("Mend from the card", lambda: None, tip="Fetch what is damaged again; the card is only read")
        self.mend.hide()
        self.look = button("Show its contents", lambda: None)
        self.save = button("Save as…", lambda: None, tip="In a file for an emulator, to put it away, or to pass it on")
        self.put_back = button("Put back…", lambda: None, tip="Plan to write it onto a card")
        self.forget = button(FORGET, lambda: None, tip="Say what is in no other backup, then give its room back")
        top = Head(self.head, self.about, self.check, self.mend, self.look, self.save, self.forget, self.put_back)
        self.core = CoreView("left")
        self.core.setMinimumHeight(130)
        self.core_before = CoreView("")
        self.core_before.setMinimumHeight(130)
        self.core_before.hide()
        self._has_before = False
        self.facts = Facts()
        self.name = _field("What you call this card", self.named)
        self.note = _field("A note on this backup", self.noted)
        self.against = QComboBox()
        self.against.setAccessibleName("Backup with which this one is compared")
        self.against.activated.connect(lambda _row: self.compared.emit(self.against.currentData()))
        self.since = label("Since", bold=True)
        area = Rows("What has changed", spacing=3)
        self.rows = area.column
        changes = QVBoxLayout()
        line = row(self.since, self.against)
        line.addStretch(1)
        changes.addLayout(line)
        changes.addWidget(area, 1)
        facts = QVBoxLayout()
        known = Rows("Facts of the backup", spacing=0)                           # scrolls where the window is low
        known.column.addWidget(self.facts)
        known.column.addStretch(1)
        facts.addWidget(known, 1)
        facts.addWidget(self.name)
        facts.addWidget(self.note)
        body = QHBoxLayout()
        body.setSpacing(18)
        body.addWidget(self.core, 4)
        body.addWidget(self.core_before, 2)
        body.addLayout(facts, 3)
        body.addLayout(changes, 4)
        self.column.addWidget(top)
        self.column.addLayout(body, 1)
        self.setMinimumHeight(220)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: the state before has room beside this one where there is enough."""
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        self.core_before.setVisible(self._has_before and self.width() >= FOR_TWO)

    def show_backup(self, backup: Backup, before: Backup | None, others: Sequence[Backup] = ()) -> None:
        """The record in words; what changed since `before` follows, or since another one that is chosen of `others`."""
        r = backup.record
        self.head.setText(f"{r.card.name}, {backup.kept_at:%d %B %Y}")
        self.about.setText(f"{backup.chosen}; {backup.path.name}" if backup.chosen else backup.path.name)
        self.put_back.setText("Bring back…" if backup.chosen else "Put back…")
        self.about.setToolTip(str(backup.path))
        self.facts.show_facts([
            ("card", exact(r.length)), ("in use", binary(r.written)), ("read in", duration(r.seconds)),
            ("rate", rate((r.written if backup.is_in_chunks else r.length) / max(r.seconds, 0.001))),
            ("read back", "yes, equal" if r.verified else "no"), ("BLAKE3", f"{r.blake3[:24]}…")])
        self.facts.setToolTip(f"BLAKE3 {r.blake3}")
        for field, text in ((self.name, r.card.name), (self.note, backup.note)):
            field.setText(text)
            field.setCursorPosition(0)
            field.setModified(False)
        clear(self.rows)
        self.core.show_changed(())
        self._has_before = before is not None
        self._make_room()
        self.mend.hide()
        self.forget.setText(FORGET)
        for lack in lack_of(r):
            self.say(lack)
        if not r.verified:
            self.say(Finding(Severity.NOTE, "It was not read back when it was kept.", remedy="Check it now."))
        if before is None:
            self.say(Finding(Severity.NOTE, "The first backup of this card."))
            self.rows.addStretch(1)
        self.since.setText("Since" if before is not None else "Compare with")
        self.since.setVisible(bool(others))
        self.against.setVisible(bool(others))
        self.against.clear()
        for other in others:
            self.against.addItem(f"{other.kept_at:%d %B %Y, %H:%M}", other)
        now = next((k for k, each in enumerate(others) if before is not None and each.path == before.path), -1)
        self.against.setCurrentIndex(now)

    def show_changes(self, changes: list[PartitionChange], places: list[Extent]) -> None:
        """What is different from the backup before, by partition and by place."""
        self.core.show_changed(places)
        self.core_before.show_changed(places)
        for change in changes:
            severity = Severity.WARNING if change.gone_saves else Severity.NOTE if change.is_changed else Severity.GOOD
            self.say(Finding(severity, f"{change.name}: {change.sentence}", remedy=change.examples))
        self.rows.addStretch(1)

    def say(self, finding: Finding) -> None:
        """Add a finding below the others."""
        self.rows.addWidget(FindingRow(finding))


def _field(hint: str, told: pyqtBoundSignal) -> QLineEdit:
    """A line that tells what was written into it once it is done with."""
    made = QLineEdit()
    made.setPlaceholderText(hint)
    made.setAccessibleName(hint)
    made.setToolTip(hint)
    made.setMaxLength(LONGEST_TEXT)

    def tell() -> None:
        if made.isModified():
            made.setModified(False)
            told.emit(made.text())

    made.editingFinished.connect(tell)
    return made
