"""The guard on the page: the card, what was checked, what would be lost, and its tag to type."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout

from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.running.guard import Check
from mosscrate.core.slots import Medium
from mosscrate.desk.move.chooser import CardPicture
from mosscrate.desk.shared.panel import FindingRow, Panel, Rows, button, clear, label, row
from mosscrate.desk.shared.tag_entry import TagEntry


class GuardPanel(Panel):
    """The page of the target guard. `run_wanted` carries the typed tag."""

    run_wanted = pyqtSignal(str)
    unmount_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.picture = CardPicture()
        self.name = label("Target guard", bold=True, elides=True)
        self.about = label(style="muted", scale=0.88, wraps=True)
        words = QVBoxLayout()
        words.setSpacing(1)
        words.addWidget(self.name)
        words.addWidget(self.about)
        head = row(self.picture)
        head.addLayout(words, 1)
        self.column.addLayout(head)
        area = Rows("What was checked", spacing=0)
        self.rows = area.column
        self.column.addWidget(area, 1)
        self.unmount_button = button("Unmount it", self.unmount_wanted.emit,
                                     tip="Files that are open on it are named")
        self.column.addWidget(self.unmount_button)
        self.entry = TagEntry("Run")
        self.entry.confirmed.connect(lambda _word: self.run_wanted.emit(self.entry.typed()))
        self.column.addWidget(self.entry)
        self.show_nothing()

    def show_nothing(self) -> None:
        """No target is chosen."""
        self.picture.hide()
        self.name.setText("Target guard")
        self.about.setText("Says what would be lost, and refuses what must not be written.")
        clear(self.rows)
        self.unmount_button.hide()
        self.entry.hide()

    def show_target(self, medium: Medium, checks: Sequence[Check], losses: Sequence[Finding], *,
                    is_possible: bool) -> None:
        """The target with its checks; a failed one cannot be confirmed away."""
        self.picture.show()
        self.picture.show_medium(medium)
        self.name.setText(medium.name)
        self.about.setText(f"{medium.subtitle}  ·  tag {medium.tag}")
        clear(self.rows)
        failed = [c for c in checks if not c.is_good]
        for check in failed:
            self.rows.addWidget(FindingRow(Finding(Severity.PROBLEM, check.sentence)))
        for loss in losses:
            self.rows.addWidget(FindingRow(loss))
        if not failed and checks:
            good = "; ".join(c.sentence[0].lower() + c.sentence[1:] for c in checks)
            self.rows.addWidget(FindingRow(Finding(Severity.GOOD, f"Checked: {good}.")))
        self.rows.addStretch(1)
        self.unmount_button.setVisible(medium.in_use.startswith("mounted"))
        self.entry.show()
        self.entry.ask(medium.tag, is_possible=is_possible and not failed)
