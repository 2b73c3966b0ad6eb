"""Planning a move: both ends chosen, a sheet proposed, corrected on the page, and drawn as it stands."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from mosscrate.core.contents import Layout
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.sheet.planning.forecasting import Forecast
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.planning.preparing import Wish
from mosscrate.core.sheet.running import guard
from mosscrate.core.sheet.sheet import save_sheet
from mosscrate.core.sheet.steps import AnyStep
from mosscrate.core.slots import Medium, Source
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.move.acting import MoveActs
from mosscrate.desk.move.fresh_games import FreshGamesInHand
from mosscrate.desk.move.plan import Plan, make_arrangement, make_plan, make_preparation
from mosscrate.desk.move.putting_back import PuttingBack
from mosscrate.desk.move.waiting import why_unplanned, why_waiting
from mosscrate.desk.shared.letting_go import unmount

TOLD = 2                       # findings beside the actions; the table has them all


@dataclass(frozen=True)
class _Ready:
    plan: Plan
    checks: tuple[guard.Check, ...]


class MovePlanning(MoveActs):
    """Keeps the plan true to what is chosen; nothing is changed in it while its `job` runs."""

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(model, parent)
        self._checks: tuple[guard.Check, ...] = ()
        self._keeps_wish = False                      # what was typed for one card is meant for the next one
        self.games = FreshGamesInHand(model, self.prepare_panel)
        self.games.sorting.connect(self._wait)
        self.back = PuttingBack(model, self.sheet_panel.back_button)
        self.back.looking.connect(self._wait)
        self.back.found.connect(lambda found: self._change(lambda plan: plan.putting_back(found)))
        self._is_looking = False                      # for what comes onto the card, before anything may run
        self._unplanned = ""                          # why no plan could be made
        self._wanted = ""                             # title of an act that is filled in once the plan is there
        self._asked = 0
        self._connect()
        model.media_changed.connect(self._follow_media)
        model.seen_changed.connect(self._on_seen)
        model.reading_moved.connect(lambda _key: self.left.show_unwrapped(model.unwrapped(self.source)))
        model.machine_changed.connect(self._mean_for_machine)
        self._show_choosers()
        self._show_plan()

    def choose_source(self, medium: Medium | None) -> None:
        """Take a medium as source; the plan follows."""
        self.source, self._is_arranging = medium, False
        if medium is not None:
            self.model.read_through(medium)              # what is packed is known better by and by
        if medium and self.target and medium.key == self.target.key:
            self.target = None
        self._begin()

    def choose_to_prepare(self, medium: Medium) -> None:
        """Plan to lay a card out anew."""
        self.source, self.target, self._is_arranging = None, medium, False
        self._begin()

    def choose_in_place(self, medium: Medium) -> None:
        """Plan to grow a card's last partition where it is."""
        self.source = self.target = medium
        self._is_arranging = False
        self._replan()
        self.aspect.setCurrentWidget(self.size_panel)

    def choose_to_arrange(self, medium: Medium) -> None:
        """Plan to change a card's partitions where they are."""
        self.source = self.target = medium
        self._is_arranging = True
        self._replan()
        self.aspect.setCurrentWidget(self.arrange_panel)

    def choose_target(self, medium: Medium | None) -> None:
        """Take a medium as target; the plan follows."""
        self.target, self._is_arranging = medium, False
        self._begin()

    def choose_another(self) -> None:
        """The same source, or the same wish, for a card that is still to be chosen."""
        self.target, self._is_arranging, self._keeps_wish = None, False, self.is_preparing
        self._replan()

    def choose_to_label(self, medium: Medium) -> None:
        """Plan to give the last volume of a card another label."""
        self._wanted = "Label…"
        self.choose_to_arrange(medium)

    def _begin(self) -> None:
        """A fresh plan for what was chosen; a card without a source is laid out anew."""
        if not (self._keeps_wish and self.is_preparing):
            self.prepare_panel.begin()
            self.games.folders = ()
        if self.is_preparing and self.target is not None:
            self.games.begin_with(self.target)
        self._keeps_wish = False
        self._replan()
        self.aspect.setCurrentWidget(self.prepare_panel if self.is_preparing else self.size_panel)
        self._show_arranging()

    def _connect(self) -> None:
        """How a person corrects the plan."""
        self.from_box.chosen.connect(self.choose_source)
        self.to_box.chosen.connect(self.choose_target)
        self.save_button.clicked.connect(self._save)
        self.arrange_button.clicked.connect(self._turn)
        self.right.edge_moved.connect(self._drag)
        self.right.edge_set.connect(lambda size: self._change(lambda plan: plan.with_size(size)))
        self.right.edge_nudged.connect(lambda step: self._change(lambda plan: plan.nudged(step)))
        self.right.chosen.connect(self.left.select)
        self.left.chosen.connect(self.right.select)
        self.carrying.brought.connect(self._bring_over)
        self.right.chosen.connect(lambda _index: self._show_arranging())
        self.right.acts_wanted.connect(self._show_acts)
        self.arrange_panel.partition_button.clicked.connect(lambda: self._show_acts_below(
            self.arrange_panel.partition_button, self.right.selected))
        self.arrange_panel.card_button.clicked.connect(lambda: self._show_acts_below(
            self.arrange_panel.card_button, None))
        self.size_panel.size_wanted.connect(lambda size: self._change(lambda plan: plan.with_size(size)))
        self.size_panel.way_wanted.connect(
            lambda is_anew: self._change(lambda plan: plan.in_the_way(is_anew=is_anew)))
        self.arrange_panel.steps_wanted.connect(self._add_steps)
        self.prepare_panel.wished.connect(self._mean_for_machine)
        self.guard_panel.unmount_wanted.connect(lambda: unmount(self.model, self.target) if self.target else None)
        self.arrange_panel.names_wanted.connect(lambda: self.side.setCurrentWidget(self.names_panel))
        self.names_panel.close_wanted.connect(lambda: self.side.setCurrentWidget(self.guard_panel))
        self.sheet_panel.left_out.connect(
            lambda step, is_out: self._change(lambda plan: plan.leaving_out(step, is_out=is_out)))

    def _replan(self) -> None:
        """Ask for a fresh plan; answers to older questions are dropped."""
        self._asked += 1
        self.plan, self._checks, self._unplanned = None, (), ""
        self._show_choosers()
        self._show_plan()
        source, target = self.source, self.target
        if self.is_preparing:
            source = target
        a, b = self.model.layout_of(source), self.model.layout_of(target)
        if source is None or target is None or a is None or b is None:
            return
        asked, wish = self._asked, self.prepare_panel.wish() if self.is_preparing else None
        self.model.asker.ask(lambda: self._make(source, a, target, b, wish),
                             lambda ready: self._take_plan(asked, ready),
                             lambda error: self._take_failure(asked, error))

    def _make(self, source: Medium, a: Layout, target: Medium, b: Layout, wish: Wish | None) -> _Ready:
        crate = self.model.bench.crate
        if wish is not None:
            plan = make_preparation(target, b, crate, wish, self.model.machine)
        else:
            plan = make_arrangement(target, b, crate) if self._is_arranging else make_plan(source, a, target, b, crate)
        assert plan.proposed.target is not None, "a move has a target"
        return _Ready(plan, guard.inspect(target, plan.proposed.target, plan.proposed.source))

    def _follow_media(self) -> None:
        """The same cards in other readers, or used otherwise now: the plan stays as it is, the guard looks again."""
        at_hand = {medium.key: medium for medium in self.model.shelf}
        source, target = (at_hand.get(m.key, m) if m else None for m in (self.source, self.target))
        is_known = (source, target) == (self.source, self.target)
        if self.job is None and not is_known:
            self.source, self.target = source, target
            if self.plan is not None and target is not None:
                self.plan = replace(self.plan, source=source or target, target=target)
                self._look_over(self.plan)
        self._show_choosers()

    def _look_over(self, plan: Plan) -> None:
        """Let the guard look at the target of a plan again."""
        asked, sheet = self._asked, plan.proposed
        assert sheet.target is not None, "a move has a target"
        planned = sheet.target
        self.model.asker.ask(lambda: guard.inspect(plan.target, planned, sheet.source),
                             lambda checks: self._take_checks(asked, checks),
                             lambda error: self.model.failed.emit(str(error)))

    def _take_checks(self, asked: int, checks: tuple[guard.Check, ...]) -> None:
        if asked == self._asked and self.job is None and self.plan is not None:
            self._checks = checks
            self._show_plan()

    def _take_plan(self, asked: int, ready: _Ready) -> None:
        if asked == self._asked and self.job is None:
            self.plan, self._checks = ready.plan, ready.checks
            self._mean_for_machine()
            self._open_wanted()

    def _wait(self, is_looking: bool) -> None:
        if is_looking != self._is_looking:
            self._is_looking = is_looking
            self._show_plan()

    def _take_failure(self, asked: int, error: Exception) -> None:
        self.model.failed.emit(str(error))
        if asked == self._asked and self.job is None:
            self._unplanned = why_unplanned(error)
            self._show_plan()

    def _open_wanted(self) -> None:
        wanted, self._wanted = self._wanted, ""
        last = self.plan.target_layout.last() if self.plan is not None and wanted else None
        if last is None:
            return
        self.right.select(last.index)
        self._show_arranging()
        act = next((each for each in self.arrange_panel.acts if each.title == wanted), None)
        if act is not None:
            self._take_act(act)

    def _mean_for_machine(self) -> None:
        """The plan as the chosen machine needs it; what files lose by that is told."""
        if self.is_preparing:
            self._change(lambda plan: plan.wished(self.prepare_panel.wish(), self.model.machine))
            return
        self._change(lambda plan: plan.meant_for(self.model.machine))
        if self.plan is not None and self.plan.because and not self.plan.writes_all and not self.plan.is_in_place:
            self.aspect.setCurrentWidget(self.arrange_panel)
            self._show_arranging()
            self._look_closer(self.plan.proposed.steps)

    def _change(self, edit: Callable[[Plan], Plan]) -> None:
        if self.plan is None or self.job is not None:
            return
        try:
            self.plan = edit(self.plan)
        except FitError as error:
            self.prepare_panel.complain(str(error))
            return
        problems = self.plan.forecast.problems
        self.prepare_panel.complain(problems[0].sentence if problems and self.plan.wish else "")
        self._show_plan()

    def _add_steps(self, steps: tuple[AnyStep, ...]) -> None:
        """Take steps that were filled in; one that does not fit is said where it was typed, and not taken."""
        if self.plan is None or self.job is not None:
            return
        wanted = self.plan.with_steps(steps)
        problems = wanted.forecast.problems
        if problems:
            self.arrange_panel.complain(problems[0].sentence)
            return
        before = self.plan
        self._change(lambda _plan: wanted)
        self._look_closer(steps, before)

    def _look_closer(self, steps: tuple[AnyStep, ...], before: Plan | None = None) -> None:
        """What only the files can tell is said as soon as it is known: what they lose, and that they do not fit.

        Steps that turn out not to fit are taken off again, where `before` is the plan without them.
        """
        plan = self.plan
        if plan is None or not any(step.carries_files for step in steps):
            return

        def tell(seen: Forecast) -> None:
            if self.plan is not plan or self.job is not None:
                return
            if seen.problems and before is not None:
                self._change(lambda _plan: before)
                self.arrange_panel.complain(seen.problems[0].sentence)
                return
            passage = together(seen, steps)
            self.names_panel.show_passage(passage)
            self.arrange_panel.tell(shortened(passage, TOLD), names=len(passage.changed_names) + len(passage.left_out))

        self.model.asker.ask(plan.foreseen, tell, lambda _error: None)

    def _drag(self, y: float) -> None:
        height = self.right.column().height()
        self._change(lambda plan: plan.with_size(plan.size_at(y, height)))

    def _show_choosers(self) -> None:
        media = self.model.media
        self.from_box.show_media(media, self.source)
        possible = [m for m in media if self.source is None or m.key != self.source.key or m == self.target]
        blank = self.model.layout_of(self.target)
        is_replaced = blank is not None and not blank.is_blank and self.target != self.source
        note = "to be written over" if is_replaced else ""
        self.to_box.show_media([m for m in possible if m.source != Source.BACKUP], self.target, note=note)
        is_idle = self.job is None
        self.from_box.box.setEnabled(is_idle)
        self.to_box.box.setEnabled(is_idle)

    def _show_plan(self) -> None:
        plan = self.plan
        self.back.begin_with(plan)
        is_locked = self.job is not None or self.side.currentWidget() is self.run_panel
        seen = plan.forecast if plan else None
        source = self.source.name if self.source else "the source"
        target = self.target.name if self.target else "the target"
        self.left.can_be_carried = plan is not None and not plan.is_in_place and not is_locked
        self.left.unwrapped = self.model.unwrapped(self.target if self.is_preparing else self.source)
        self.left.show_layout(self.model.layout_of(self.target if self.is_preparing else self.source),
                              f"{target} as it is" if self.is_preparing else source)
        shown = plan.outlook if plan and seen and not seen.problems else self.model.layout_of(self.target)
        self.right.handle = plan.growing if plan and not is_locked and self.plan and plan.bounds()[1] else None
        self.right.show_layout(shown, f"{target} as it will be" if plan else target)
        low, high = plan.bounds() if plan else (0, 0)
        self.right.show_edge(low, high, plan.size() if plan else 0)
        waiting = why_waiting(self.model, self.source, self.target, self._unplanned)
        hint = waiting.hint if not plan else "laid out anew" if plan.wish else ""
        if seen and seen.problems:
            hint = "it cannot be done so"
        self.ribbons.show_ribbons(plan.ribbons() if plan and seen and not seen.problems else (), hint)
        self.size_panel.show_plan(plan, is_locked=is_locked)
        self.sheet_panel.show_plan(plan, is_locked=is_locked, why=waiting.sentence)
        self.share_width(is_single=self._is_arranging or self.is_preparing)
        self._show_arranging()
        is_in_place = plan is not None and plan.is_in_place
        self.title.setText(self._title())
        self.subtitle.setText("On the left as it is, on the right as it will be. It can be taken back afterwards."
                              if is_in_place else "The source stays as it is. Nothing is written on the target until "
                              "you run the sheet.")
        self.prepare_panel.set_locked(is_locked=is_locked or plan is None)
        can_run = plan is not None and seen is not None and not seen.problems and not (is_locked or self._is_looking) \
            and any(step.changes for step in plan.sheet.steps)
        self.rehearse_button.setEnabled(can_run)
        self.save_button.setEnabled(can_run)
        if plan is None:
            self.guard_panel.show_nothing()
        else:
            self.guard_panel.show_target(plan.target, self._checks, plan.would_be_lost, is_possible=can_run)

    def _title(self) -> str:
        """What the page is about, as far as it is known."""
        if self.is_preparing:
            return "Prepare a card"
        if self.source is None or self.target is None:
            return "Move a card, or prepare one"
        if self.source.key == self.target.key and self._is_arranging:
            return "Change a card’s partitions"
        return self.plan.title if self.plan else "Move a card onto another one"

    def _on_seen(self, key: str) -> None:
        if self.job is None and self.side.currentWidget() is not self.run_panel \
                and key in {m.key for m in (self.source, self.target) if m} and not self._is_still_true():
            self._replan()

    def _is_still_true(self) -> bool:
        """Whether the plan was made for what is there now."""
        plan = self.plan
        return plan is not None and plan.source_layout == self.model.layout_of(plan.source) and \
            plan.target_layout == self.model.layout_of(self.target)

    def _save(self) -> None:
        if self.plan is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, "Save the job sheet", str(Path.home() / "move.json"))
        if name:
            try:
                save_sheet(self.plan.sheet, Path(name))
            except JobError as error:
                self.model.failed.emit(str(error))
                return
            tag = self.plan.target.tag
            self.model.said.emit(f"Saved. To run it from a shell: mosscrate sheet run {name} --tag {tag}")
