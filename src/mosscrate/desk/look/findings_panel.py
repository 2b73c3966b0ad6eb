"""What was noticed about the chosen medium, and what a thorough check has found."""

from __future__ import annotations

from mosscrate.core.contents import Layout
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.desk.shared.panel import FindingRow, Panel, Rows, clear, label, restyle


class FindingsPanel(Panel):
    """Sentences, most of them with something that can be done."""

    def __init__(self) -> None:
        super().__init__()
        self.head = label("What was noticed", bold=True)
        self.column.addWidget(self.head)
        area = Rows(spacing=4)
        self.rows = area.column
        self.column.addWidget(area, 1)
        self.setMinimumHeight(110)

    def show_layout(self, layout: Layout | None, error: str) -> None:
        """What the survey noticed, or why there was none."""
        if error:
            self._show([Finding(Severity.PROBLEM, error)])
        elif layout is None:
            self.show_text("")
        else:
            self._show(list(layout.findings) or [Finding(Severity.GOOD, "Nothing that needs a word.")])

    def show_checked(self, layout: Layout) -> None:
        """What a thorough check has found."""
        volumes = sum(p.volume is not None and p.volume.used is not None for p in layout.partitions)
        good = Finding(Severity.GOOD, f"The structure of {counted(volumes, 'volume')} was checked: "
                       "nothing is wrong.")
        bad = [f for f in layout.findings if f.severity in (Severity.WARNING, Severity.PROBLEM)]
        self._show([*([] if bad or not volumes else [good]), *layout.findings])

    def show_text(self, text: str) -> None:
        """One quiet sentence."""
        clear(self.rows)
        words = label(text, wraps=True)
        restyle(words, "muted")
        self.rows.addWidget(words)
        self.rows.addStretch(1)

    def _show(self, findings: list[Finding]) -> None:
        clear(self.rows)
        for finding in findings:
            self.rows.addWidget(FindingRow(finding))
        self.rows.addStretch(1)
