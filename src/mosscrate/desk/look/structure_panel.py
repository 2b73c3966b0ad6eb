"""The structures of a medium, field by field: what the map and each volume say, with the bytes that say it."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QBrush
from PyQt6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from mosscrate.core.contents.inspecting import Field, Structure
from mosscrate.core.shown import shown
from mosscrate.desk.look.bytes_view import BytesView
from mosscrate.desk.shared.drawing import scaled_font
from mosscrate.desk.shared.panel import Panel, label
from mosscrate.desk.shared.words import tip
from mosscrate.desk.theme import color

COLUMNS = ("field", "value", "bytes", "at")
SHOWN_BYTES = 8


class StructurePanel(Panel):
    """One row for each structure, its fields below it."""

    def __init__(self) -> None:
        super().__init__()
        self.head = label("Structure", bold=True, scale=1.1, elides=True)
        self.facts = label("Names as the published layouts give them; offsets count from each structure.",
                           style="muted", scale=0.9, wraps=True)
        self.tree = QTreeWidget()
        self.tree.setColumnCount(len(COLUMNS))
        self.tree.setHeaderLabels(COLUMNS)
        self.tree.setUniformRowHeights(True)
        self.tree.setIndentation(14)
        self.tree.setAllColumnsShowFocus(True)
        self.tree.setAccessibleName("Structures of the medium, field by field")
        if header := self.tree.header():
            header.setStretchLastSection(False)
            header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
            for column in (0, 2, 3):
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        self.empty = label(style="muted", wraps=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.bytes = BytesView()
        self.tree.currentItemChanged.connect(self._show_bytes)
        for part, stretch in ((self.head, 0), (self.facts, 0), (self.tree, 1), (self.bytes, 0), (self.empty, 1)):
            self.column.addWidget(part, stretch)
        self._structures: tuple[Structure, ...] = ()
        self.show_text("")

    def show_text(self, text: str) -> None:
        """A sentence where the structures would be."""
        self._structures = ()
        self.tree.hide()
        self.bytes.hide()
        self.empty.setText(text)
        self.empty.show()

    def show_structures(self, structures: tuple[Structure, ...], partition: int | None) -> None:
        """All of a medium's; those of the chosen partition are opened."""
        if not structures:
            self.show_text("Nothing on this medium is known here field by field.")
            return
        self._structures = structures
        self.tree.clear()
        self.tree.addTopLevelItems([_item(s) for s in structures])
        for number in range(len(structures)):
            if item := self.tree.topLevelItem(number):
                item.setFirstColumnSpanned(True)
        self.empty.hide()
        self.tree.show()
        self.bytes.show()
        self.show_partition(partition)

    def show_partition(self, partition: int | None) -> None:
        """Open what belongs to a partition, or else the map's first structure."""
        owned = [n for n, s in enumerate(self._structures) if s.partition == partition and partition is not None]
        wanted = owned or [0]
        for number in range(self.tree.topLevelItemCount()):
            if item := self.tree.topLevelItem(number):
                item.setExpanded(number in wanted)
        first = self.tree.topLevelItem(wanted[0])
        if self._structures and first is not None:
            self.tree.scrollToItem(first, QTreeWidget.ScrollHint.PositionAtTop)
            self.tree.setCurrentItem(first)

    def _show_bytes(self, item: QTreeWidgetItem | None) -> None:
        """The bytes around the chosen field; of a structure all of it."""
        if item is None:
            return
        above = item.parent()
        structure = self._structures[self.tree.indexOfTopLevelItem(above or item)]
        if above is None:
            self.bytes.show_field(structure.data, 0, 0)
        else:
            field = structure.fields[above.indexOfChild(item)]
            self.bytes.show_field(structure.data, field.offset, field.offset + len(field.raw))


def _item(structure: Structure) -> QTreeWidgetItem:
    verdict = f"  ·  {structure.verdict}" if structure.verdict else ""
    item = QTreeWidgetItem([f"{structure.heading}  ·  byte {structure.offset:,}{verdict}".replace(",", " ")])
    item.setFont(0, scaled_font(item.font(0), 1.0, bold=True))
    if structure.is_wrong:
        item.setForeground(0, QBrush(color("problem")))
    item.addChildren([_row(f) for f in structure.fields])
    return item


def _row(field: Field) -> QTreeWidgetItem:
    raw = field.raw[:SHOWN_BYTES].hex(" ") + (" …" if len(field.raw) > SHOWN_BYTES else "")
    item = QTreeWidgetItem([field.name, shown(field.value), raw, f"{field.offset:#05x}"])
    item.setToolTip(1, tip(field.value))
    item.setToolTip(2, field.raw[:64].hex(" "))
    for column in (2, 3):
        item.setFont(column, scaled_font(item.font(column), 0.9, mono=True))
        item.setForeground(column, QBrush(color("muted")))
    return item
