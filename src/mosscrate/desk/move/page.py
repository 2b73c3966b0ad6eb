"""What stands where on the page of Move; `station` says what happens there."""

from __future__ import annotations

from itertools import pairwise

from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.move.arrange_panel import ArrangePanel
from mosscrate.desk.move.carrying import Carrying
from mosscrate.desk.move.chooser import MediumChooser
from mosscrate.desk.move.guard_panel import GuardPanel
from mosscrate.desk.move.names_panel import NamesPanel
from mosscrate.desk.move.prepare_panel import PreparePanel
from mosscrate.desk.move.ribbons import Ribbons
from mosscrate.desk.move.run_panel import RunPanel
from mosscrate.desk.move.sheet_panel import SheetPanel
from mosscrate.desk.move.size_panel import SizePanel
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.head import Head
from mosscrate.desk.shared.machine_chooser import MachineChooser
from mosscrate.desk.shared.panel import button, label

NARROW, LOW = 1040, 640                # pixels below which room is shared otherwise
SHEET, LOW_SHEET = 232, 168            # least height of sheet and guard
NARROW_CHOOSER = 232


SOURCE_TAUGHT = ("The card to move.\n\nChoose it above, drop an image here, or come from Look with “Onto another "
                 "card…”. It is only read.")
TARGET_TAUGHT = ("The card to write.\n\nWith a source the whole sheet is proposed at once. Without one the card is "
                 "laid out anew: one volume, firmware and games, drives of an old PC, as its machine wants it.")


class MovePage(QWidget):
    """Both ends as cores with ribbons between, sizes or partitions beside them, sheet and guard below."""

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self._is_single = False
        self.title = label("Move a card, or prepare one", scale=1.5, bold=True, elides=True)
        self.subtitle = label("The source stays as it is. Nothing is written on the target until you run the sheet.",
                              style="muted", scale=0.95, elides=True)
        self.machine = MachineChooser(model)
        self.save_button = button("Save sheet…")
        self.rehearse_button = button("Rehearse", tip="Run every step on a view of the target that is thrown away "
                                                      "afterwards")
        self.from_box = MediumChooser("Source", "no source, or choose one…")
        self.to_box = MediumChooser("Target", "choose the card to write…")
        self.left, self.right = CoreView("left"), CoreView("right")
        self.left.teaching, self.right.teaching = SOURCE_TAUGHT, TARGET_TAUGHT
        self.ribbons = Ribbons(self.left, self.right)
        self.carrying = Carrying(self.left, self.right)
        self.size_panel, self.arrange_panel, self.prepare_panel = SizePanel(), ArrangePanel(), PreparePanel()
        self.aspect = _stack(self.size_panel, self.arrange_panel, self.prepare_panel)
        self.aspect.setMaximumWidth(280)
        self.arrange_button = button("Change partitions", tip="Add, remove, size, move, label, make anew…")
        self.sheet_panel = SheetPanel()
        self.guard_panel, self.run_panel, self.names_panel = GuardPanel(), RunPanel(), NamesPanel()
        self.side = _stack(self.guard_panel, self.run_panel, self.names_panel)
        self._lay_out()
        way = (self.from_box.box, self.to_box.box, self.guard_panel.entry.field, *self.guard_panel.entry.buttons,
               self.machine, self.save_button, self.rehearse_button)
        for before, after in pairwise(way):
            QWidget.setTabOrder(before, after)           # from the choice straight to the tag

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: on a small window the size panel gives way, or the source where it is the target itself."""
        self.share_width(is_single=self._is_single)
        for part in (self.sheet_panel, self.side):
            part.setMinimumHeight(SHEET if self.height() >= LOW else LOW_SHEET)
        super().resizeEvent(event)

    def share_width(self, *, is_single: bool) -> None:
        """Give the width that there is to both ends, or to one core where a single card is changed."""
        self._is_single = is_single
        is_narrow = self.width() < NARROW
        self.beside.setVisible(not is_narrow or is_single)
        self.machine.setMaximumWidth(NARROW_CHOOSER if is_narrow else self.machine.sizeHint().width())
        for part in (self.from_box, self.left, self.ribbons):
            part.setVisible(not (is_narrow and is_single))
        for column, stretch in ((0, 4), (1, 3)):
            self.grid.setColumnStretch(column, 0 if is_narrow and is_single else stretch)

    def _lay_out(self) -> None:
        top = Head(self.title, self.subtitle, self.machine, self.save_button, self.rehearse_button)
        self.grid = grid = QGridLayout()
        grid.setHorizontalSpacing(0)
        grid.setVerticalSpacing(8)
        for column, (chooser, core) in ((0, (self.from_box, self.left)), (2, (self.to_box, self.right))):
            grid.addWidget(chooser, 0, column)
            grid.addWidget(core, 1, column)
            grid.setColumnStretch(column, 4)
        grid.addWidget(self.ribbons, 1, 1)
        grid.setColumnStretch(1, 3)
        grid.setRowStretch(1, 1)
        upper = QHBoxLayout()
        upper.setSpacing(14)
        upper.addLayout(grid, 1)
        beside = QVBoxLayout()
        beside.addWidget(self.aspect, 1)
        beside.addWidget(self.arrange_button)
        self.beside = QWidget()
        self.beside.setLayout(beside)
        beside.setContentsMargins(0, 0, 0, 0)
        upper.addWidget(self.beside)
        lower = QHBoxLayout()
        lower.setSpacing(12)
        lower.addWidget(self.sheet_panel, 5)
        lower.addWidget(self.side, 4)
        for part in (self.sheet_panel, self.side):
            part.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Expanding)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 12)
        whole.setSpacing(12)
        whole.addWidget(top)
        whole.addLayout(upper, 3)
        whole.addLayout(lower, 1)


def _stack(*parts: QWidget) -> QStackedWidget:
    made = QStackedWidget()
    for part in parts:
        made.addWidget(part)
    return made
