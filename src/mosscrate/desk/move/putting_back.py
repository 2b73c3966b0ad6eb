"""What an earlier card held, put back by the sheet that writes a fresh firmware: chosen, found beside the window."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QMenu, QPushButton

from mosscrate.core.crate import Backup
from mosscrate.core.fill.own_plans import FOLDER as PLANS
from mosscrate.core.sheet.planning.putting_back import Ends, PutBack, putting_back
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.move.plan import Plan
from mosscrate.desk.shared.words import choice

NEWEST = 12                              # backups that are offered


class PuttingBack(QObject):
    """Offers cards and backups below a button; `found` tells what comes back, `looking` while that is not known."""

    found = pyqtSignal(object)           # PutBack
    looking = pyqtSignal(bool)

    def __init__(self, model: BenchModel, button: QPushButton) -> None:
        super().__init__(button)
        self.model, self.button = model, button
        self._plan: Plan | None = None
        self._asked = 0
        button.clicked.connect(self._show_menu)

    def begin_with(self, plan: Plan | None) -> None:
        """The plan that stands now; what is still looked for on behalf of another one is dropped."""
        if plan is None or self._plan is None or (plan.source, plan.target) != (self._plan.source, self._plan.target):
            self._asked += 1
            self.looking.emit(False)
        self._plan = plan

    def _show_menu(self) -> None:
        plan = self._plan
        if plan is None:
            return
        self.menu = menu = QMenu(self.button)
        if plan.target_layout.with_contents:
            menu.addAction(choice(f"What is on {plan.target.name} now"), partial(self.look_at, plan.target))
        for medium in self.model.media:
            if medium.key not in (plan.target.key, plan.source.key):
                menu.addAction(choice(f"What is on {medium.name}"), partial(self.look_at, medium))
        backups = self.model.newest_backups(NEWEST)
        if backups:
            menu.addSeparator()
        for name, backup in backups:
            menu.addAction(choice(f"The backup of {name}"), partial(self._take, backup))
        menu.popup(self.button.mapToGlobal(self.button.rect().bottomLeft()))

    def _take(self, backup: Backup) -> None:
        if medium := self.model.backup_at_hand(backup):
            self.look_at(medium)

    def look_at(self, old: Medium) -> None:
        """Find what of it has a place on what the sheet writes."""
        plan, state = self._plan, self.model.bench.state
        if plan is None:
            return
        self._asked += 1
        number = self._asked
        ends = Ends(plan.source, plan.source_layout, plan.target, plan.target_layout)
        sheet = plan.sheet

        def ask() -> PutBack:
            return putting_back(old, sheet, ends, state, Watch(), plans=state / PLANS)

        def take(found: PutBack) -> None:
            if number == self._asked:
                self.looking.emit(False)
                self.found.emit(found)

        def fail(error: Exception) -> None:
            if number == self._asked:
                self.looking.emit(False)
                self.model.failed.emit(str(error))

        self.looking.emit(True)
        self.model.asker.ask(ask, take, fail)
