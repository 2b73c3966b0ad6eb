"""Games for a card that is laid out anew: brought in, sorted by a plan beside the window, put into the wish."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QMenu

from mosscrate.core.errors import FitError
from mosscrate.core.fill.lists import lists_at
from mosscrate.core.fill.own_lists import FOLDER as LISTS
from mosscrate.core.fill.own_plans import FOLDER as PLANS
from mosscrate.core.sheet.planning.choosing import plans_at
from mosscrate.core.sheet.planning.filling import Sources
from mosscrate.core.sheet.planning.fresh_games import FreshGames, games_for
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.move.prepare_panel import PreparePanel
from mosscrate.desk.shared.words import choice


class FreshGamesInHand(QObject):
    """Sorts anew when the wish changes; `sorting` tells while that is not done, for nothing may run then."""

    sorting = pyqtSignal(bool)

    def __init__(self, model: BenchModel, panel: PreparePanel) -> None:
        super().__init__(panel)
        self.model, self.panel = model, panel
        self.folders: tuple[Path, ...] = ()
        self._card: Medium | None = None
        self._asked = 0
        panel.games_button.clicked.connect(self._show_menu)
        panel.sorting_wanted.connect(self._sort)
        panel.cleared.connect(self._clear)
        model.machine_changed.connect(self._sort)

    def begin_with(self, card: Medium) -> None:
        """A card is laid out anew; what was brought in for the one before is sorted for this one."""
        self._card = card
        own = plans_at(self.model.bench.state / PLANS)
        self.panel.show_plans([(choice(plan.name), plan.id) for plan in own.values()])
        self._sort()

    def bring(self, folders: list[Path]) -> None:
        """More of them."""
        self.folders = tuple(dict.fromkeys((*self.folders, *folders)))
        self._sort()

    def _show_menu(self) -> None:
        button = self.panel.games_button
        self.menu = menu = QMenu(button)
        menu.addAction("A folder…", self._choose_folder)
        menu.addAction("Files and archives…", self._choose_files)
        menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    def _choose_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.panel, "A folder of games, saves and pictures")
        if folder:
            self.bring([Path(folder)])

    def _choose_files(self) -> None:
        files, _ = QFileDialog.getOpenFileNames(self.panel, "Files and archives of games, saves and pictures")
        if files:
            self.bring([Path(file) for file in files])

    def _clear(self) -> None:
        self.folders = ()
        self._sort()

    def _sort(self) -> None:
        """Where everything goes on the card as it is wished now."""
        self._asked += 1
        layout = self.model.layout_of(self._card)
        if not self.folders or layout is None:
            self.panel.take_games((), "")
            self.sorting.emit(False)
            return
        number, wish, machine = self._asked, replace(self.panel.wish(), games=()), self.model.machine
        state, chosen, sources = self.model.bench.state, self.panel.plan_id, Sources(self.folders)

        def ask() -> FreshGames:
            plan = plans_at(state / PLANS).get(chosen)
            if plan is None:
                raise FitError("That folder plan is not there any more. Choose another one.")
            return games_for(wish, layout, machine, sources, plan, Watch(), lists=lists_at(state / LISTS))

        def take(found: FreshGames) -> None:
            if number == self._asked:
                self.sorting.emit(False)
                self.panel.take_games(found.wish.games, f"{found.sentence} {found.worst}".strip())

        def fail(error: Exception) -> None:
            if number == self._asked:
                self.folders = ()
                self.sorting.emit(False)
                self.panel.take_games((), "")
                self.panel.complain(str(error))

        self.sorting.emit(True)
        self.panel.take_games((), f"Looking through {self.folders[-1].name}…")
        self.model.asker.ask(ask, take, fail)
