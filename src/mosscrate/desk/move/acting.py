"""What can be done to a partition or the card on the page of Move: offered where it stands, filled in beside it."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QWidget

from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.move.actions import Action
from mosscrate.desk.move.acts_menu import ActsMenu
from mosscrate.desk.move.bringing import BRING_OVER, bringing, copying, listed
from mosscrate.desk.move.page import MovePage
from mosscrate.desk.move.plan import Plan
from mosscrate.desk.shared.background import BackgroundJob


class MoveActs(MovePage):
    """Both ends, the plan as it stands, and the list of what can be done."""

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(model, parent)
        self.source: Medium | None = None
        self.target: Medium | None = None
        self.plan: Plan | None = None
        self.job: BackgroundJob | None = None
        self.menu: ActsMenu | None = None             # what can be done, where it was asked for last
        self._is_arranging = False

    @property
    def is_preparing(self) -> bool:
        """Whether a card is laid out anew: one that is to be written, from nothing."""
        return self.source is None and self.target is not None

    def _turn(self) -> None:
        """From sizes to partitions and back."""
        to = self.arrange_panel if self.aspect.currentWidget() is self.size_panel else self.size_panel
        self.aspect.setCurrentWidget(to)
        self._show_arranging()

    def _show_arranging(self) -> None:
        is_locked = self.job is not None or self.side.currentWidget() is self.run_panel
        layout = self.right.layout_shown if self.plan else None
        more: tuple[Action, ...] = ()
        if self.plan is not None and not self.plan.is_in_place:
            base = self.plan.target_layout if self.plan.writes_all else layout
            more = bringing(self.plan.source_layout, base, may_clear=self.plan.writes_all)
        elif self.plan is not None and layout is not None:
            more = copying(layout, layout)
        more = tuple(replace(act, is_of_card=True) for act in more)
        self.arrange_panel.show_partition(layout, self.right.selected, more,
                                          is_locked=is_locked or self.plan is None, machine=self.model.machine)
        is_sizing = self.aspect.currentWidget() is self.size_panel
        self.arrange_button.setText("Change partitions" if is_sizing else "Sizes")
        self.right.has_acts = bool(self.arrange_panel.acts)
        self.arrange_button.setVisible(self.plan is not None and not self._is_arranging and not self.is_preparing)

    def _show_acts_below(self, part: QWidget, index: int | None) -> None:
        self._show_acts(index, part.mapToGlobal(part.rect().bottomLeft()))

    def _show_acts(self, index: int | None, place: QPoint) -> None:
        """What can be done to a partition or to the card, as a short list; the form opens beside the core."""
        panel, layout = self.arrange_panel, self.right.layout_shown
        acts = tuple(act for act in panel.acts if act.is_of_card == (index is None))
        if not acts or layout is None:
            return
        self.menu = ActsMenu("The card" if index is None else layout.partition(index).name, acts, self._take_act, self)
        self.menu.show_at(place)

    def _take_act(self, act: Action) -> None:
        self.aspect.setCurrentWidget(self.arrange_panel)
        self.arrange_panel.open_form(act)

    def _bring_over(self, index: int) -> None:
        """A partition of the source that was carried across comes onto the sheet."""
        if self.left.layout_shown is not None:
            self.aspect.setCurrentWidget(self.arrange_panel)
            self._show_arranging()
            self.arrange_panel.take(BRING_OVER, {"partition": listed(self.left.layout_shown.partition(index))})
