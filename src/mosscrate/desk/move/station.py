"""Move: a card onto a larger one, from the choice to the result, on one page."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QFocusEvent
from PyQt6.QtWidgets import QWidget

from mosscrate.core.errors import ChangedSince, FitError, Gone, MediumError, Stopped
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Job
from mosscrate.core.sizes import binary, duration
from mosscrate.core.slots import Medium, Source
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.move.planning import MovePlanning
from mosscrate.desk.move.run_panel import Act
from mosscrate.desk.shared.background import Moment
from mosscrate.desk.shared.reasons import reason_of

WENT_AWAY = "The program or the card went away while it was written. Finish it, or take it back to what it was."


class MoveStation(MovePlanning):
    """Rehearses and runs what was planned, takes it back, and finishes what was interrupted."""

    elsewhere = pyqtSignal(str, object)          # see StationWidget

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(model, parent)
        self._only_rehearsed = False                  # then the plan is as good as before
        self._reached: int | None = None              # the step that is at work
        self._failure: tuple[str, str] | None = None  # of the last job: the reason, and the rest
        self._was_away = False                        # the target was pulled since that
        self._acts_then: list[Act] = []               # what helps
        self._offered: Job | None = None        # what can be taken back or finished from here
        self.sections = (self.from_box.box, self.right, self.sheet_panel, self.guard_panel.entry.field,
                         self.run_panel.close_button)
        self.rehearse_button.clicked.connect(self.rehearse)
        self.guard_panel.run_wanted.connect(self.run)
        self.run_panel.stop_wanted.connect(self._stop)
        self.run_panel.close_wanted.connect(self._close_run)
        self.run_panel.look_wanted.connect(lambda: self.elsewhere.emit("look", self.target))
        self.run_panel.back_wanted.connect(self._take_back)
        self.run_panel.keep_wanted.connect(self._keep_and_take_back)
        self.run_panel.finish_wanted.connect(self._finish)

    def rehearse(self) -> None:
        """Go through the sheet on a copy-on-write view."""
        if self.plan is None:
            return
        sheet, bench = self.plan.sheet, self.model.bench
        self._only_rehearsed = True
        self._start("Rehearsal", lambda watch: running.rehearse(sheet, bench, watch), self._rehearsed)

    def take(self, medium: Medium | None, errand: str) -> None:
        """See StationWidget: "grow", "arrange" and "prepare" change it where it is, else it is the source of a move."""
        errands = {"grow": self.choose_in_place, "arrange": self.choose_to_arrange, "prepare": self.choose_to_prepare}
        if medium is not None and errand:
            errands[errand](medium)
        else:
            self.choose_source(medium)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Qt: the first thing that is still to be chosen."""
        (self.to_box if self.source is not None else self.from_box).box.setFocus()

    def take_if_free(self, medium: Medium | None) -> None:
        """Take the card in hand as source where nothing is planned yet."""
        if medium is not None and self.source is None and self.target is None and self.job is None:
            self.choose_source(medium)

    def run(self, tag: str) -> None:
        """Run the sheet for real with the tag that was typed."""
        if self.plan is None:
            return
        sheet, bench = self.plan.sheet, self.model.bench
        self._only_rehearsed = False
        in_place = "Prepare" if self.is_preparing else "Change" if self._is_arranging else "Grow"
        verb = in_place if self.plan.is_in_place else "Move onto"
        self._start(f"{verb} {self.plan.target.name}",
                    lambda watch: running.run(sheet, bench, watch, typed_tag=tag), self._ran)

    def _start(self, title: str, work: Callable[[Watch], object], done: Callable[[object], None]) -> None:
        keys = {m.key for m in (self.source, self.target) if m}
        job = self.model.run(title, work, keys)
        if job is None:
            return
        self.job, self._reached = job, 0
        self._failure, self._was_away, self._acts_then = None, False, []
        job.sampled.connect(self._follow)
        job.done.connect(done)
        job.failed.connect(self._failed)
        self.run_panel.begin(title)
        self.side.setCurrentWidget(self.run_panel)
        self.run_panel.stop_button.setFocus()          # where the eye is
        self._show_choosers()
        self._show_plan()
        self.sheet_panel.show_step(0)

    def _follow(self, moment: Moment) -> None:
        self.run_panel.show_moment(moment)
        p = moment.progress
        if p is None or self.plan is None:
            return
        self._reached = p.step
        self.sheet_panel.show_step(p.step)
        steps = self.plan.sheet.steps
        is_writing = p.step < len(steps) and steps[p.step].writes_all
        self.right.show_reached(p.done if is_writing else None)

    def _stop(self) -> None:
        if self.job:
            self.job.stop()
            self.run_panel.show_stopping()

    def _rehearsed(self, result: object) -> None:
        assert isinstance(result, running.Result)
        self._settle()
        self.sheet_panel.show_step(None, [d.sentence for d in result.done])
        self.run_panel.end("Rehearsed: it works", f"Every step went through in {duration(result.seconds)} on a view of "
                           f"the target; {binary(result.scratch)} were held aside and dropped. Nothing was written.")

    def _ran(self, result: object) -> None:
        assert isinstance(result, running.Result)
        self._settle()
        self.sheet_panel.show_step(None, [d.sentence for d in result.done])
        name = self.target.name if self.target else "The card"
        proof = next((d.sentence for d in result.done if d.is_proof), "")
        self._offered = result.job
        tag = self.target.tag if self.target and result.job else ""
        self.model.select(self.target)                    # what was written is in hand, on every station
        self.run_panel.end(f"Done in {duration(result.seconds)}", f"You can take {name} out now. {proof}",
                           can_look=True, undo_tag=tag, acts=self._what_follows())
        self.model.said.emit(f"{name} is ready. You can take it out now.")

    def _what_follows(self) -> list[Act]:
        """What one usually does with a card that was written."""
        target = self.target
        if target is None or self._is_arranging:
            return []
        acts: list[Act] = [("Fill it…", lambda: self.elsewhere.emit("fill", target))]
        if target != self.source:
            acts.append(("Label…", lambda: self.choose_to_label(target)))
            acts.append(("The same for another card…", self._same_again))
        return acts

    def _same_again(self) -> None:
        """The source, or what was wished for, once more; the card to write is still to be chosen."""
        self._close_run()
        self.choose_another()
        self.to_box.box.setFocus()
        self.to_box.box.showPopup()

    def _failed(self, error: Exception) -> None:
        reached = self._reached
        self._settle()
        self.sheet_panel.show_step(reached)               # what was done stays ticked
        told = "" if isinstance(error, Stopped) else str(error)
        title, rest = ("Stopped", str(error)) if isinstance(error, Stopped) else reason_of(told)
        style = "warning" if isinstance(error, Stopped) else "problem"
        tag = self.target.tag if isinstance(error, ChangedSince) and error.names and self.target else ""
        self._was_away = isinstance(error, Gone)
        self._failure, self._acts_then = (title, rest), self._what_helps(error)
        self.run_panel.end(title, rest, style=style, undo_tag=tag, keeps_first=True, acts=self._acts_then)

    def _what_helps(self, error: Exception) -> list[Act]:
        source = self.source
        is_on_card = source is not None and source.source in (Source.READER, Source.SIMULATED)
        if source is not None and is_on_card and isinstance(error, MediumError) and error.offset is not None \
                and source.name in str(error):
            return [("Rescue it…", lambda: self.elsewhere.emit("proof", source))]
        return [("Choose a larger card…", self._same_again)] if isinstance(error, FitError) else []

    def _settle(self) -> None:
        self.job = None
        self.right.show_reached(None)
        self._show_choosers()
        self._show_plan()

    def _close_run(self) -> None:
        self.side.setCurrentWidget(self.guard_panel)
        if self._only_rehearsed and self._is_still_true():
            self._show_plan()
        else:
            self._replan()

    # taking back, finishing

    def _replan(self) -> None:
        """See MovePlanning; a target in the middle of a job is offered to be finished or taken back, no other is."""
        if self.job is None:
            self.side.setCurrentWidget(self.guard_panel)
        super()._replan()
        self._offer_interrupted()

    def _on_seen(self, key: str) -> None:
        super()._on_seen(key)
        if self.target is not None and key == self.target.key:
            self._offer_interrupted()

    def _follow_media(self) -> None:
        super()._follow_media()
        if self._failure and self.target is not None and self.target.key not in {m.key for m in self.model.media}:
            self._was_away = True

    def _offer_interrupted(self) -> None:
        logged, target = self.model.interrupted_on(self.target), self.target
        if self.job is not None or logged is None or target is None:
            return
        self._offered = logged
        title, words = f"{target.name} is in the middle of a job", logged.message or WENT_AWAY
        if self._failure and not self._was_away:              # the reason stays until something is done about it
            title, words = self._failure[0], f"{self._failure[1]} {title}: finish it, or take it back."
        elif self._was_away:
            words = WENT_AWAY
        self.run_panel.end(title, words.strip(), style="warning", undo_tag=target.tag, can_finish=True,
                           acts=self._acts_then)
        self.side.setCurrentWidget(self.run_panel)
        if self._failure and self.plan is not None:
            self.sheet_panel.show_step(len(logged.done))

    def _take_back(self, tag: str) -> None:
        job, bench, card = self._offered, self.model.bench, self.target
        if job is not None:
            self._start("Take back", lambda watch: recovering.undo(job, bench, watch, typed_tag=tag, card=card),
                        self._taken_back)

    def _keep_and_take_back(self, tag: str) -> None:
        job, bench, card = self._offered, self.model.bench, self.target
        if job is not None:
            self._start("Keep and undo", lambda watch: recovering.undo(job, bench, watch, typed_tag=tag, card=card,
                                                                       keep_first=True), self._taken_back)

    def _finish(self, tag: str) -> None:
        job, bench, card = self._offered, self.model.bench, self.target
        if job is not None:
            self._start("Finish", lambda watch: recovering.finish(job, bench, watch, typed_tag=tag, card=card),
                        self._ran)

    def _taken_back(self, sentence: object) -> None:
        self._offered = None
        self._settle()
        self.run_panel.end("Taken back", str(sentence))
