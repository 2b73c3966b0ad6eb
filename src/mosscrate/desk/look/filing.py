"""Work on the files of the card in hand: copied to this computer, put, renamed, removed, carried elsewhere, taken back.

Each is a job of its own: guarded by the tag, noted, to be taken back.
"""

from __future__ import annotations

from contextlib import ExitStack
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from mosscrate.core.contents import PartitionLook, describe_what_is_read, survey
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.survey import open_partition, whole_partition
from mosscrate.core.contents.unpacking import doubt, prove_for_files
from mosscrate.core.errors import MediumError
from mosscrate.core.findings import Finding
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Job
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import AnyStep
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind, is_changed_here
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.look.files_panel import Carried, FilesPanel
from mosscrate.desk.look.shelf_view import ShelfView
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.files_in_hand import FilesInHand
from mosscrate.desk.shared.saving import ask_where, saving

TOLD = 3                               # names that change, before the rest is counted


class Filing(QObject):
    """Does what the files panel asks for, and takes what is dropped on core and shelf."""

    changing = pyqtSignal()

    def __init__(self, model: BenchModel, files: FilesPanel, core: CoreView, shelf: ShelfView) -> None:
        super().__init__(files)
        self.model, self.files, self.core = model, files, core
        self._last_job: Job | None = None
        files.take_out_wanted.connect(self._take_out)
        files.image_wanted.connect(self._save_image)
        files.change_wanted.connect(self._change)
        files.copy_wanted.connect(self._copy)
        files.losses_wanted.connect(self._tell_losses)
        files.undo_wanted.connect(self._take_back)
        core.files_dropped.connect(self._drop_on_partition)
        shelf.files_dropped.connect(self._drop_on_medium)

    def _take_out(self, entries: list[Entry]) -> None:
        medium, index = self.model.selected, self.core.selected
        what = entries[0].name if len(entries) == 1 else f"{len(entries)} items"
        folder = QFileDialog.getExistingDirectory(self.files, f"Where should {what} go?", str(Path.home()))
        if not folder or medium is None or index is None:
            return
        job = self.model.run(f"Copy {what} to this computer",
                             lambda watch: _taken_out(medium, index, entries, Path(folder), watch), {medium.key})
        if job:
            job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))
            job.failed.connect(lambda error: self.files.show_problem(str(error)))

    def _save_image(self, index: int) -> None:
        """A partition in a file of a kind, verified by reading it back."""
        medium, bench = self.model.selected, self.model.bench
        wanted = ask_where(self.files, "the partition", self.files.head.text())
        if wanted is None or medium is None:
            return
        work = saving(medium, index, wanted)
        if wanted.kind.key == "raw" and not wanted.used_only:         # with its record, and over what cannot be read
            work = lambda watch: _as_image(medium, index, wanted.path, bench, watch)  # noqa: E731 - the same, kept
        job = self.model.run(f"Save a partition of {medium.name}", work, {medium.key})
        if job:
            job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))
            job.failed.connect(lambda error: self.files.show_problem(str(error)))

    def _change(self, steps: tuple[AnyStep, ...], tag: str) -> None:
        """Change the files of the card in hand."""
        if (medium := self.model.selected) is not None:
            self._run(JobSheet(steps, None, reference(medium)), f"Change files of {medium.name}", {medium.key}, tag)

    def _copy(self, carried: Carried, steps: tuple[AnyStep, ...], tag: str) -> None:
        """Copy files to another partition of the same card, or of another one."""
        sheet = self._sheet(carried, steps)
        if sheet is not None:
            self._run(sheet, f"Copy files to {carried.to.name}", {carried.hand.key, carried.to.key}, tag)

    def _run(self, sheet: JobSheet, title: str, keys: set[str], tag: str) -> None:
        bench = self.model.bench
        job = self.model.run(title, lambda watch: running.run(sheet, bench, watch, typed_tag=tag), keys)
        if job is None:
            return
        self.changing.emit()
        job.done.connect(self._changed)
        job.failed.connect(lambda error: self.files.show_problem(str(error)))

    def _changed(self, result: object) -> None:
        assert isinstance(result, running.Result)
        self._last_job = result.job
        target = result.job.sheet.target if result.job else None
        last = f" All {counted(len(result.done), 'step')} are done." if len(result.done) > 1 else ""
        self.files.show_done(f"{result.done[0].sentence}{last}", tag=self._tag(target.key if target else ""))

    def _tag(self, key: str) -> str:
        return next((m.tag for m in self.model.media if m.key == key), "")

    def _sheet(self, carried: Carried | None, steps: tuple[AnyStep, ...]) -> JobSheet | None:
        medium = self.model.selected
        if carried is None:
            return JobSheet(steps, None, reference(medium)) if medium is not None else None
        source = next((m for m in self.model.media if m.key == carried.hand.key), None)
        is_same = carried.hand.key == carried.to.key
        return None if source is None else JobSheet(steps, None if is_same else reference(source),
                                                    reference(carried.to))

    def _tell_losses(self, carried: Carried | None, steps: tuple[AnyStep, ...]) -> None:
        """Names that will change, and what stands against it, are said before the tag is typed."""
        sheet, bench = self._sheet(carried, steps), self.model.bench
        if sheet is not None:
            asked = self.files.strip.number
            self.model.asker.ask(lambda: _losses(sheet, bench),
                                 lambda found: self.files.strip.tell(found, asked), lambda _error: None)

    def _drop_on_partition(self, index: int, hand: FilesInHand) -> None:
        medium, layout = self.model.selected, self.model.layout_of(self.model.selected)
        if medium is not None and layout is not None:
            self.files.offer_copy(hand, medium, layout.partition(index))

    def _drop_on_medium(self, medium: Medium, hand: FilesInHand) -> None:
        """Onto the partition that is called like theirs, else the largest that takes files."""
        layout, theirs = self.model.layout_of(medium), self.files.head.text()
        looks = [p for p in layout.partitions if p.volume and is_changed_here(p.variant)] if layout else []
        if not looks:
            self.files.show_problem(f"{medium.name} has no partition that takes files here.")
            return
        by_name = next((p for p in looks if p.name == theirs), None)
        self.files.offer_copy(hand, medium, by_name or max(looks, key=_room))

    def _take_back(self, tag: str) -> None:
        logged, bench = self._last_job, self.model.bench
        key = logged.sheet.target.key if logged and logged.sheet.target else ""
        medium = next((m for m in self.model.media if m.key == key), None)
        if medium is None or logged is None:
            return
        job = self.model.run(f"Take back on {medium.name}", lambda watch: recovering.undo(
            logged, bench, watch, typed_tag=tag, card=medium), {medium.key})
        if job:
            self._last_job = None
            self.changing.emit()
            job.done.connect(lambda sentence: self.files.show_done(str(sentence)))
            job.failed.connect(lambda error: self.files.show_problem(str(error)))


def _room(look: PartitionLook) -> int:
    return (look.volume.free or 0) if look.volume else 0


def _losses(sheet: JobSheet, bench: Bench) -> tuple[Finding, ...]:
    with ExitStack() as opened:
        source, target = (opened.enter_context(running.find_medium(bench, ref).open_to_look()) if ref else None
                          for ref in (sheet.source, sheet.target))
        seen = forecast(sheet, survey(source) if source else None, survey(target) if target else None,
                        source_blocks=source, target_blocks=target)
    return seen.problems or shortened(together(seen), TOLD)


def _as_image(medium: Medium, index: int, to: Path, bench: Bench, watch: Watch) -> str:
    with medium.open() as card:
        blocks = whole_partition(card, index)
        bench.crate.keep_as_image(card_of(medium), blocks, watch, to, layout=describe_what_is_read(blocks))
    return f"{binary(blocks.size)} saved as {to}, read back and equal."


def _taken_out(medium: Medium, index: int, entries: list[Entry], folder: Path, watch: Watch) -> str:
    files: list[Entry] = []
    with medium.open() as blocks:
        prove_for_files(blocks, watch)
        volume = open_partition(blocks, index)
        for entry in entries:
            outcome = take_out(volume, entry.path, folder, watch)
            files += [t.entry for t in outcome.taken if t.entry.kind == Kind.FILE]
            if outcome.shortfall:
                raise MediumError(f"{_count(files)} copied to {folder}. {outcome.shortfall}")
        uncertain = doubt(blocks)
    return f"{_count(files)} copied to {folder}. {uncertain}".strip()


def _count(files: list[Entry]) -> str:
    return f"{counted(len(files), 'file')}, {binary(sum(e.size for e in files))},"
