"""What was noticed about the chosen medium, and what a thorough check has found."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal

from mosscrate.core.contents import Layout
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.machines import check
from mosscrate.core.sizes import counted
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.machine_chooser import MachineChooser
from mosscrate.desk.shared.panel import FindingRow, Panel, Rows, clear, label, restyle, row
from mosscrate.desk.shared.tag_entry import TagEntry

WITHOUT, WITH_ENTRY = 110, 168           # pixels in which a sentence, and what can be done, can be read


class FindingsPanel(Panel):
    """Sentences, most of them with something that can be done."""

    back_wanted = pyqtSignal(str)             # typed tag
    finish_wanted = pyqtSignal(str)
    put_back_wanted = pyqtSignal(str)

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self._layout: Layout | None = None
        self._is_checked = False
        self.head = label("Worth knowing", bold=True)
        self.machine = MachineChooser(model)
        self.machine.may_be_narrow()
        self.column.addLayout(row(self.head, None, self.machine))
        model.machine_changed.connect(self._show_again)
        area = Rows("Worth knowing", spacing=4)
        self.rows = area.column
        self.column.addWidget(area, 1)
        self.entry = TagEntry("Take it back", "Finish it")
        self.entry.confirmed.connect(self._confirmed)
        for each in self.entry.buttons:
            each.setProperty("compact", True)
        self.entry.hide()
        self.column.addWidget(self.entry)
        self.proof_entry = TagEntry("Put back")
        self.proof_entry.confirmed.connect(lambda _: self.put_back_wanted.emit(self.proof_entry.typed()))
        self.proof_entry.buttons[0].setProperty("compact", True)
        self.proof_entry.hide()
        self.column.addWidget(self.proof_entry)
        self.setMinimumHeight(WITHOUT)

    def show_layout(self, layout: Layout | None, error: str) -> None:
        """What the survey noticed, or why there was none."""
        self._layout, self._is_checked = layout, False
        if error:
            self._show([Finding(Severity.PROBLEM, error, remedy="“Keep it” saves all that can be read, and names the "
                                "places that cannot. A reader or a contact may be at fault: try another one too.")])
        elif layout is None:
            self.show_text("")
        else:
            self._show([*self._suits(layout), *layout.findings] or
                       [Finding(Severity.GOOD, "No problems found.")])

    def offer(self, job_tag: str, proof_tag: str = "") -> None:
        """A card in the middle of a job, or of a proof, can be brought out of it here; "" offers nothing."""
        entries = ((self.entry, job_tag, "mend it"), (self.proof_entry, proof_tag, "put it back"))
        for entry, tag, what in entries:
            entry.setVisible(bool(tag))
            entry.ask(tag)
            entry.prompt.setText(f"Type {tag} to {what}")
        self.setMinimumHeight(WITH_ENTRY if job_tag or proof_tag else WITHOUT)

    def show_checked(self, layout: Layout) -> None:
        """What a thorough check has found."""
        self._layout, self._is_checked = layout, True
        volumes = sum(p.volume is not None and p.volume.used is not None for p in layout.partitions)
        good = Finding(Severity.GOOD, f"The structure of {counted(volumes, 'volume')} was checked: "
                       "nothing is wrong.")
        bad = [f for f in layout.findings if f.severity in (Severity.WARNING, Severity.PROBLEM)]
        self._show([*self._suits(layout), *([] if bad or not volumes else [good]), *layout.findings])

    def show_text(self, text: str) -> None:
        """One quiet sentence."""
        clear(self.rows)
        words = label(text, wraps=True)
        restyle(words, "muted")
        self.rows.addWidget(words)
        self.rows.addStretch(1)

    def _show_again(self) -> None:
        if self._layout is not None and self._is_checked:
            self.show_checked(self._layout)
        elif self._layout is not None:
            self.show_layout(self._layout, "")

    def _suits(self, layout: Layout) -> tuple[Finding, ...]:
        """What the chosen machine makes of it."""
        return check(layout, self.model.machine) if self.model.machine else ()

    def _confirmed(self, word: str) -> None:
        (self.back_wanted if word == "Take it back" else self.finish_wanted).emit(self.entry.typed())

    def _show(self, findings: list[Finding]) -> None:
        clear(self.rows)
        for finding in findings:
            self.rows.addWidget(FindingRow(finding))
        self.rows.addStretch(1)
