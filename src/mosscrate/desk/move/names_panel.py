"""Every name that changes on its way into another file system, beside the new one; and what stays behind."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHeaderView, QTreeView

from mosscrate.core.contents.transfer import Passage
from mosscrate.core.sizes import counted
from mosscrate.desk.shared.panel import Panel, button, label, row
from mosscrate.desk.shared.rows_model import Column, RowsModel

Change = tuple[str, str]               # a name now and then; "" then is one that stays behind
_COLUMNS = (Column[Change]("now", lambda change: change[0]),
            Column[Change]("then", lambda change: change[1] or "left out",
                           lambda change: "text" if change[1] else "warning"))


class NamesPanel(Panel):
    """A table with two columns."""

    close_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, scale=1.1, elides=True)
        line = row(self.head)
        line.setStretch(0, 1)
        line.addWidget(button("Close", self.close_wanted.emit))
        self.table = QTreeView()
        self._changes = RowsModel[Change](_COLUMNS, self)
        self.table.setModel(self._changes)
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
        self._changes.show([*((path, "") for path in left), *passage.changed_names.items()])
