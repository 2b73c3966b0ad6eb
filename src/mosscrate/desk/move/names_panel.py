"""Every name that changes on its way into another file system, beside the new one; and what stays behind."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QBrush
from PyQt6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from mosscrate.core.contents.transfer import Passage
from mosscrate.core.sizes import counted
from mosscrate.desk.shared.panel import Panel, button, label, row
from mosscrate.desk.theme import color

MOST_ROWS = 5000               # more would hold up the window


class NamesPanel(Panel):
    """A table with two columns."""

    close_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, scale=1.1, elides=True)
        line = row(self.head)
        line.setStretch(0, 1)
        line.addWidget(button("Close", self.close_wanted.emit))
        self.table = QTreeWidget()
        self.table.setHeaderLabels(("now", "then"))
        self.table.setRootIsDecorated(False)
        self.table.setUniformRowHeights(True)
        self.table.setAllColumnsShowFocus(True)
        self.table.setAccessibleName("Names that change")
        if header := self.table.header():
            header.setStretchLastSection(False)
            for column in (0, 1):
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        self.column.addLayout(line)
        self.column.addWidget(self.table, 1)

    def show_passage(self, passage: Passage) -> None:
        """What changes and what is left out."""
        left = sorted(passage.left_out)
        self.head.setText(f"{counted(len(passage.changed_names), 'name')} will change"
                          + (f", {counted(len(left), 'entry', 'entries')} will be left out" if left else ""))
        self.table.clear()
        rows = [(path, "left out", "warning") for path in left]
        rows += [(old, new, "text") for old, new in passage.changed_names.items()]
        if len(rows) > MOST_ROWS:
            rest = len(rows) - MOST_ROWS
            rows = [*rows[:MOST_ROWS], (f"and {rest} more", "mosscrate sheet names lists them all", "muted")]
        self.table.addTopLevelItems([_row(*row) for row in rows])


def _row(old: str, new: str, ink: str) -> QTreeWidgetItem:
    item = QTreeWidgetItem([old, new])
    item.setForeground(1, QBrush(color(ink)))
    for column, text in enumerate((old, new)):
        item.setToolTip(column, text)
    return item
