"""Running a sheet: rehearsed on a copy-on-write view, for real through the guard, finished, taken back.

Rehearsal and run go through the same `_Workshop`; they differ in the blocks that they are given
and in who keeps a journal.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from mosscrate.core.blocks import Blocks, Overlay, open_blocks
from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.contents import describe, survey
from mosscrate.core.errors import JobError, MediumError, MossError, Stopped
from mosscrate.core.sheet import guard
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.changes import Done
from mosscrate.core.sheet.job import Job, Log, Status, StepDone
from mosscrate.core.sheet.journal import JournalledBlocks, read_journal, take_back
from mosscrate.core.sheet.performing import perform
from mosscrate.core.sheet.sheet import JobSheet, MediumRef
from mosscrate.core.sheet.steps import (
    CHANGES,
    FROM_SOURCE,
    RESTORED_EXACTLY,
    WRITES_ALL,
    CopyFiles,
    Eject,
    InPlace,
    KeepCard,
    Step,
    Verify,
    Which,
    WriteFitted,
    WriteImage,
)
from mosscrate.core.sheet.verifying import verify_copy
from mosscrate.core.sheet.writing import write_fitted, write_image
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Result:
    """What a run or a rehearsal did, step by step. `job` is its place in the log, None for a rehearsal."""

    done: tuple[StepDone, ...]
    seconds: float
    job: Job | None = None
    scratch: int = 0                   # bytes that a rehearsal held aside


def rehearse(sheet: JobSheet, bench: Bench, watch: Watch) -> Result:
    """Go through the whole sheet without writing to the target or the crate. Raises MossError.

    The target is read through a copy-on-write view that is dropped at the end. Keeping is reduced
    to what can go wrong with it before it begins: the room.
    """
    begun = time.monotonic()
    source = _find(bench, sheet.source) if sheet.source else None
    target = _find(bench, sheet.target) if sheet.target else None
    if target and sheet.target:
        bad = [c.sentence for c in guard.inspect(target, sheet.target, sheet.source) if not c.is_good]
        if bad:
            raise JobError(f"The guard would refuse this sheet: {' '.join(bad)}")
    with _Opened() as opened:
        source_blocks = opened.add(source.open()) if source else None
        overlay = opened.add_overlay(Overlay(opened.add(target.open()))) if target else None
        shop = _Workshop(bench, sheet, source, target, source_blocks, overlay, is_rehearsal=True)
        done = [shop.run(number, step, watch) for number, step in enumerate(sheet.steps)]
        return Result(tuple(done), time.monotonic() - begun, scratch=overlay.changed_bytes if overlay else 0)


def run(sheet: JobSheet, bench: Bench, watch: Watch, *, typed_tag: str = "") -> Result:
    """Run a sheet for real. Raises GuardRefusal before anything was written, else JobError, MediumError, Stopped.

    Args:
        sheet: what to do.
        bench: where.
        watch: is told, and may stop it.
        typed_tag: the target's tag as the person typed it.
    """
    log = Log(bench.state)
    if _needs_guard(sheet):
        unfinished = next((j for j in log.jobs() if j.is_unfinished and j.sheet.target and sheet.target
                           and j.sheet.target.key == sheet.target.key), None)
        if unfinished and not any(isinstance(s, WRITES_ALL) for s in sheet.steps):
            raise JobError(f"An earlier job on {unfinished.sheet.target.name if unfinished.sheet.target else ''} "
                           f"was interrupted ({unfinished.id}). Finish it or take it back first.")
    with _Opened() as opened:
        target_blocks = _admit(sheet, bench, typed_tag, opened, compare_contents=True)
        was_blank = target_blocks is not None and survey(target_blocks).is_blank
        job = log.create(sheet, bench.crate.now().isoformat(timespec="seconds"), was_blank=was_blank)
        return _go_on(job, log, bench, watch, target_blocks, opened)


def finish(job: Job, bench: Bench, watch: Watch, *, typed_tag: str) -> Result:
    """Take an interrupted job to its end: the step that was cut is undone or done again, then the rest runs."""
    log = Log(bench.state)
    _must_be_unfinished(job)
    with _Opened() as opened:
        target = _admit(job.sheet, bench, typed_tag, opened, compare_contents=False)
        current = log.new_journal(job, len(job.done))
        if current.exists() and target is not None:
            take_back(current, target, watch)
            current.unlink()
        job.status = Status.RUNNING
        log.save(job)
        return _go_on(job, log, bench, watch, target, opened)


def undo(job: Job, bench: Bench, watch: Watch, *, typed_tag: str) -> str:
    """Take a job back, finished or not; returns a sentence. Raises JobError where that cannot be done.

    In-place changes are undone from their journals. A target that was written over gets back the
    backup that the job kept of it, or becomes blank again if it was.
    """
    log = Log(bench.state)
    if job.status == Status.TAKEN_BACK:
        raise JobError("This job was taken back already.")
    ref = job.sheet.target
    if ref is None or not (job.has_written or log.journals(job)):
        raise JobError("This job changed no card; there is nothing to take back.")
    kept = job.kept.get(Which.TARGET)
    if job.has_written and not kept and not job.was_blank:
        raise JobError(f"{ref.name} was written over and its old contents were not kept; they cannot be had again.")
    with _Opened() as opened:
        target = _admit(job.sheet, bench, typed_tag, opened, compare_contents=False)
        assert target is not None, "the sheet has a target"
        if kept:
            write_image(opened.add(open_blocks(kept)), target, watch, verify=True)
            sentence = f"{ref.name} holds again what it held before this job."
        else:
            for path in reversed(log.journals(job)):
                take_back(path, target, watch)
            if job.has_written:
                _blank(job, target, watch)
            exact = ", byte for byte" if all(isinstance(s, RESTORED_EXACTLY) for s in job.sheet.steps) else ""
            sentence = f"{ref.name} is blank again." if job.has_written else \
                f"{ref.name} is as it was before this job{exact}."
    log.forget_journals(job)
    job.status, job.message = Status.TAKEN_BACK, sentence
    log.save(job)
    return sentence


def unfinished(bench: Bench) -> list[Job]:
    """Jobs that were interrupted while a card was being changed, newest first."""
    return [job for job in Log(bench.state).jobs() if job.is_unfinished]


@dataclass
class _Opened:
    """Media that are open for one run; all are closed at its end."""

    blocks: list[Blocks] = field(default_factory=list)

    def add(self, blocks: Blocks) -> Blocks:
        self.blocks.append(blocks)
        return blocks

    def add_overlay(self, overlay: Overlay) -> Overlay:
        self.blocks.append(overlay)
        return overlay

    def __enter__(self) -> _Opened:
        return self

    def __exit__(self, *exc: object) -> None:
        for blocks in reversed(self.blocks):
            blocks.close()


@dataclass
class _Workshop:
    """Carries out single steps on the blocks it was given."""

    bench: Bench
    sheet: JobSheet
    source: Medium | None
    target: Medium | None
    source_blocks: Blocks | None
    target_blocks: Blocks | None
    is_rehearsal: bool = False
    journal_for: Callable[[int], Path] | None = None
    kept: dict[str, str] = field(default_factory=dict)
    opened: _Opened = field(default_factory=_Opened)

    def run(self, number: int, step: Step, watch: Watch) -> StepDone:
        """One step. Raises MossError."""
        watch.step = number
        begun = time.monotonic()
        sentence, moved = self._carry_out(number, step, watch)
        return StepDone(sentence, moved, round(time.monotonic() - begun, 3))

    def _carry_out(self, number: int, step: Step, watch: Watch) -> tuple[str, int]:
        match step:
            case KeepCard(which=which):
                return self._keep(which, watch)
            case WriteImage(verify=verify, swap=swap):
                target = self._need_target()
                source = SwappedBlocks(self._source()) if swap else self._source()
                length = write_image(source, target, watch, verify=verify)
                return f"{binary(length)} written onto {target.name}.", length
            case WriteFitted():
                done = write_fitted(self._source(), self._need_target(), watch)
                return done.sentence, done.bytes
            case Verify():
                proof = verify_copy(self._source(), self._need_target(), watch)
                return proof.sentence, proof.bytes
            case Eject():
                self._need_target().flush()
                return f"{self._need_target().name} may be pulled.", 0
            case _:
                done = self._in_place(number, step, watch)
                return done.sentence, done.bytes

    def _keep(self, which: Which, watch: Watch) -> tuple[str, int]:
        medium, blocks = ((self.source, self.source_blocks) if which == Which.SOURCE
                          else (self.target, self.target_blocks))
        if medium is None or blocks is None:
            raise JobError(f"The sheet has no {which} to keep.")
        if self.is_rehearsal:
            self.bench.crate.check_room(blocks)
            return f"{medium.name} would be kept; there is room for it.", 0
        backup = self.bench.crate.keep(card_of(medium), blocks, watch, layout=describe(survey(blocks)))
        if not backup.record.is_complete:
            places = counted(len(backup.record.unreadable), "place")
            raise MediumError(f"{medium.name} could not be read in {places}, first at byte "
                              f"{backup.record.unreadable[0][0]}. What was read is kept as {backup.path.name}, named "
                              "incomplete; the sheet stops here and the target is untouched.")
        self.kept[which] = str(backup.path)
        return f"{medium.name} kept as {backup.path.name}.", backup.record.length

    def _in_place(self, number: int, step: InPlace, watch: Watch) -> Done:
        """A step that changes the target where it is: over a journal, unless it is rehearsed on a view."""
        target = self._need_target()
        is_here = isinstance(step, CopyFiles) and self.sheet.source is None
        source = self._source() if isinstance(step, FROM_SOURCE) and not is_here else None
        if self.journal_for is None:
            return perform(step, target, source, watch)
        journal = JournalledBlocks(target, self.journal_for(number))
        try:
            done = perform(step, journal, source, watch)
        except BaseException:
            journal.abandon()
            raise
        journal.finish()
        return done

    def _source(self) -> Blocks:
        """What is written from: the backup that this job made, so that what is kept is what is written."""
        if Which.SOURCE in self.kept:
            return self.opened.add(open_blocks(self.kept[Which.SOURCE]))
        if self.source_blocks is None:
            raise JobError("The sheet has no source.")
        return self.source_blocks

    def _need_target(self) -> Blocks:
        if self.target_blocks is None:
            raise JobError("The sheet has no target.")
        return self.target_blocks


def _go_on(job: Job, log: Log, bench: Bench, watch: Watch, target_blocks: Blocks | None,
           opened: _Opened) -> Result:
    """Run the steps of a job that are not done yet, noting each."""
    begun, sheet = time.monotonic(), job.sheet
    source = target = None
    try:
        target = _find(bench, sheet.target) if sheet.target else None
        is_kept = Which.SOURCE in job.kept
        source = _find(bench, sheet.source) if sheet.source and not is_kept else None
        source_blocks = opened.add(source.open()) if source else None
        if target and target_blocks is None:
            target_blocks = opened.add(target.open())
        shop = _Workshop(bench, sheet, source, target, source_blocks, target_blocks,
                         journal_for=lambda number: log.new_journal(job, number), kept=job.kept, opened=opened)
        for number in range(len(job.done), len(sheet.steps)):
            job.step_began = job.step_began or isinstance(sheet.steps[number], CHANGES)
            job.has_written = job.has_written or isinstance(sheet.steps[number], WRITES_ALL)
            log.save(job)
            job.done.append(shop.run(number, sheet.steps[number], watch))
            log.save(job)
    except Stopped as stopped:
        raise _ended(job, log, Status.STOPPED, stopped) from stopped
    except MossError as error:
        _ended(job, log, Status.FAILED, error)
        raise
    job.status = Status.DONE
    log.save(job)
    return Result(tuple(job.done), time.monotonic() - begun, job)


def _ended(job: Job, log: Log, status: Status, error: MossError) -> MossError:
    job.status, job.message = status, str(error)
    job.step_began = job.step_began and not _is_untouched(job, log)
    if status == Status.STOPPED and job.is_unfinished:
        name = job.sheet.target.name if job.sheet.target else "The card"
        error = Stopped(f"Stopped as you asked, in step {len(job.done) + 1}. {name} is in the middle of a change: "
                        "finish the job or take it back.")
        job.message = str(error)
    log.save(job)
    return error


def _is_untouched(job: Job, log: Log) -> bool:
    """Whether the first change of a job ended before anything of the card was overwritten."""
    if job.has_written or any(isinstance(s, CHANGES) for s in job.sheet.steps[:len(job.done)]):
        return False
    journal = log.new_journal(job, len(job.done))
    if journal.exists() and read_journal(journal)[0]:
        return False
    journal.unlink(missing_ok=True)
    return True


def _admit(sheet: JobSheet, bench: Bench, typed_tag: str, opened: _Opened, *,
           compare_contents: bool) -> Blocks | None:
    if sheet.target is None or not _needs_guard(sheet):
        return None
    medium = _find(bench, sheet.target)
    return opened.add(guard.admit(medium, sheet.target, sheet.source, typed_tag, compare_contents=compare_contents))


def _needs_guard(sheet: JobSheet) -> bool:
    return any(isinstance(step, CHANGES) for step in sheet.steps)


def _find(bench: Bench, ref: MediumRef) -> Medium:
    """The medium of a sheet: where it was, else anywhere on the shelf by its identity. Raises MediumError."""
    path = Path(ref.path)
    if path.exists():
        medium = bench.shelf.medium_at(path)
        if medium.key == ref.key:
            return medium
    found = next((m for m in bench.shelf.media() if m.key == ref.key), None)
    if found is None:
        raise MediumError(f"{ref.name} (tag {ref.tag}) is not there. Put it into a reader; nothing was changed.")
    return found


def _blank(job: Job, target: Blocks, watch: Watch) -> None:
    """Zeros where the image was written; the journals have restored what lies behind it."""
    length = min(job.sheet.source.size, target.size) if job.sheet.source else target.size
    for at in range(0, length, 64 << 20):
        target.zero(at, min(64 << 20, length - at))
        watch.progress(f"Clearing {target.name}", at, length)
    target.flush()


def _must_be_unfinished(job: Job) -> None:
    if not job.is_unfinished:
        raise JobError(f"The job {job.id} is {job.status}; there is nothing to finish.")
