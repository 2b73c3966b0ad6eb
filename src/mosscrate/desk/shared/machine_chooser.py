"""Choosing the machine that a card is meant for; every station follows the same choice."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox

from mosscrate.desk.bench_model import BenchModel

ANY = "meant for any machine"
NARROW = 90                       # points at least
SHOWN = 27                        # characters; the whole name is in the list and the tooltip


class MachineChooser(QComboBox):
    """Any machine, or one of those at hand."""

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self._bench = model
        self.setAccessibleName("Machine that the card is meant for")
        self.addItem(ANY)
        for key, machine in model.machines.items():
            self.addItem(machine.name[:1].upper() + machine.name[1:], key)
            self.setItemData(self.count() - 1, machine.about, Qt.ItemDataRole.ToolTipRole)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(SHOWN)
        if view := self.view():
            view.setMinimumWidth(view.sizeHintForColumn(0) + 24)
        self.activated.connect(lambda _row: model.mean_for(self.currentData()))
        model.machine_changed.connect(self._show)
        self._show()

    def may_be_narrow(self) -> None:
        """Where other things stand beside it: it gives way to them."""
        self.setMinimumWidth(NARROW)

    def _show(self) -> None:
        machine = self._bench.machine
        row = next((k for k in range(1, self.count())
                    if machine is not None and self._bench.machines[self.itemData(k)] is machine), 0)
        self.setCurrentIndex(row)
        self.setToolTip(f"{machine.name}\n{machine.about}".strip() if machine else
                        "Choose a machine to see whether it can take the card")
