"""Running a sheet: rehearsed on a copy-on-write view, or for real through the guard.

Rehearsal and run go through the same `Workshop`; they differ in the blocks that they are given
and in who keeps a journal.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from mosscrate.core.blocks import Blocks, Extent, Overlay
from mosscrate.core.blocks.streaming import digest
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents import Layout, survey
from mosscrate.core.contents.fingerprint import State, fingerprint
from mosscrate.core.contents.unpacking import prove_packed
from mosscrate.core.crate.checking import check_chunks
from mosscrate.core.crate.record import digest_beside
from mosscrate.core.errors import CrateError, Damaged, FitError, GuardRefusal, JobError, MediumError
from mosscrate.core.images import Reach, packed_in
from mosscrate.core.images.kept import kept_in
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.notes import Body, Notes
from mosscrate.core.sheet.planning.forecasting import Forecast, forecast
from mosscrate.core.sheet.planning.losses import must_be_kept_still
from mosscrate.core.sheet.running import guard
from mosscrate.core.sheet.running.ending import let_go
from mosscrate.core.sheet.running.job import Job, Log, Status, StepDone
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.stack import Stack
from mosscrate.core.sheet.running.journal.store import JOURNAL
from mosscrate.core.sheet.running.journal.structures import Standing
from mosscrate.core.sheet.running.journal.writing import JournalledBlocks, saved_and_put
from mosscrate.core.sheet.running.opened import Opened
from mosscrate.core.sheet.running.stamp import stamp_of
from mosscrate.core.sheet.running.telling import told
from mosscrate.core.sheet.running.workshop import OnView, Workshop
from mosscrate.core.sheet.sheet import JobSheet, MediumRef
from mosscrate.core.sheet.sights import Card
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps import KeepCard, Which
from mosscrate.core.sheet.steps.shared.whole import not_as_recorded
from mosscrate.core.slots import Medium, Source
from mosscrate.core.slots.files import file_on
from mosscrate.core.watch import Watch

READ_BACK = "Read back and equal."
RESERVE = "room"                       # a file that holds the room of a journal that cannot be begun yet


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
    source = find_medium(bench, sheet.source) if sheet.source else None
    target = find_medium(bench, sheet.target) if sheet.target else None
    if target and sheet.target:
        bad = [c.sentence for c in guard.inspect(target, sheet.target, sheet.source) if not c.is_good]
        if bad:
            raise JobError(f"The guard would refuse this sheet: {' '.join(bad)}")
    with Opened() as opened:
        source_blocks = opened.add(source.open()) if source else None
        overlay = opened.add_overlay(Overlay(opened.add(target.open()))) if target else None
        seen = _foreseen(sheet, *_layouts(source_blocks, overlay), source_blocks, overlay)
        shop = Workshop(bench, sheet, source, target, source_blocks, overlay, OnView(overlay or Blocks(0)),
                        is_rehearsal=True, foreseen=seen.of_first_change(0))
        done = [shop.run(number, step, watch) for number, step in enumerate(seen.settled)]
        return Result(tuple(done), time.monotonic() - begun, scratch=overlay.changed_bytes if overlay else 0)


def run(sheet: JobSheet, bench: Bench, watch: Watch, *, typed_tag: str = "",
        tell: Callable[[Forecast], None] | None = None) -> Result:
    """Run a sheet for real. Raises GuardRefusal before anything was written, else JobError, MediumError, Stopped.

    Args:
        sheet: what to do.
        bench: where.
        watch: is told, and may stop it.
        typed_tag: the target's tag as the person typed it.
        tell: is told what will be done, before anything is.
    """
    log = Log(bench.state)
    with Opened() as opened:
        card = None
        if sheet.target and needs_guard(sheet):
            medium = find_medium(bench, sheet.target)
            admitted = guard.admit(medium, sheet.target, sheet.source, typed_tag)
            blocks = opened.add(admitted.blocks)
            card = HeldCard(medium, blocks, Stack(log.folder, log, blocks, State))
            card.stack.settle()
            first = next(step for step in sheet.steps if step.changes)
            if not first.writes_all:
                card.stack.must_be_free(name=medium.name)
            elif KeepCard(Which.TARGET) not in sheet.steps:
                must_be_kept_still(medium, blocks, bench.crate, watch)
        was_blank = card is not None and Card(card.blocks).is_blank
        job = log.create(sheet, bench.crate.now().isoformat(timespec="seconds"), was_blank=was_blank)
        return Running(job, log, bench, card, opened, admitted=admitted if card else None, tell=tell).go_on(watch)


@dataclass
class HeldCard:
    """The target of a run: open, locked, and what other jobs have to do with it."""

    medium: Medium
    blocks: Blocks
    stack: Stack


@dataclass
class Running:
    """Runs the steps of a job that are not done yet, noting each; the job's way of changing its card."""

    job: Job
    log: Log
    bench: Bench
    card: HeldCard | None
    opened: Opened
    journal: Journal | None = None
    admitted: State | None = None                  # the card as it was planned for, compared under its lock
    tell: Callable[[Forecast], None] | None = None
    _over: JournalledBlocks | None = None
    _source: Blocks | None = None
    _foreseen: tuple[int, Forecast] | None = None  # the first step of it, and what was told before anything is done

    def go_on(self, watch: Watch) -> Result:
        """From the first step that is not done to the end. Raises MossError."""
        begun, job = time.monotonic(), self.job
        with told(job, self.log, self._name, self._leave):
            shop = self._open(watch)
            for number in range(len(job.done), len(job.sheet.steps)):
                job.done.append(shop.run(number, job.sheet.steps[number], watch))
                self._end_step(number)
            self._settle(watch)
            job.status = Status.DONE
            with suppress(JobError):
                self.log.save(job)                        # without room for it, the slot says the same
        self.opened.close()
        if self.card is not None:
            let_go(job, self.card.medium, self.bench, self.log)
        return Result(tuple(job.done), time.monotonic() - begun, job)

    def over(self, number: int) -> Blocks:
        """See Changes."""
        assert self.card is not None, "a step that changes a card was admitted"
        if self.journal is None:
            self.log.folder.remove(self.job.id, RESERVE)
            left, now = self._left(number), self.admitted if not self.job.has_written else None
            now = now or State(self.card.blocks)
            self.journal = self.card.stack.begin(self.job.id, room=left.journal, put=left.put, first_step=number,
                                                  now=now)
            with suppress(MediumError, JobError):         # it serves to undo the job after others wrote to the card
                self.log.note_before(self.job.id, now)
            self.job.step_began = True
            self.job.above = ""
        if self._over is None:
            self._over = JournalledBlocks(self.card.blocks, self.journal, number, State)
        return self._over

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """See Changes: nothing that lies below can be taken back any more; then the card is stamped."""
        assert self.card is not None, "a step that changes a card was admitted"
        self.job.has_written, self.job.seen, self.job.body = True, "", Body("", "", 0)
        self.log.save(self.job)
        self.card.stack.close_all(but=self.job.id)
        self.log.folder.remove(self.job.id, JOURNAL)
        self.journal = self._over = None
        expected = (self._read_through() or self._expected()) if as_it_stands else ("", "")
        return Notes(stamp_of(self.job.id, self.job.nonce), self._note_body, *expected)

    def kept(self, which: Which, backup: str) -> None:
        """See Changes."""
        self.job.kept[which] = backup
        self.log.save(self.job)

    @property
    def _name(self) -> str:
        return self.job.sheet.target.name if self.job.sheet.target else "The card"

    def _open(self, watch: Watch) -> Workshop:
        """The media, the source compared with what was planned, and the room for the journal reserved."""
        job, sheet = self.job, self.job.sheet
        source = find_medium(self.bench, sheet.source) if sheet.source and Which.SOURCE not in job.kept else None
        kept = job.kept.get(Which.SOURCE)
        source_blocks = self.opened.add(self.bench.crate_with(kept).open(kept)) if kept else \
            self.opened.add(source.open_for_job(Reach())) if source else None
        came = State(source_blocks) if source_blocks is not None else None
        if source and came and sheet.source and not guard.is_as_planned(source, came, sheet.source):
            raise GuardRefusal(f"{source.name} was changed or exchanged since the sheet was planned. Plan again with "
                               "what is there now; nothing was changed by this.")
        target = self.card.medium if self.card else find_medium(self.bench, sheet.target) if sheet.target else None
        target_blocks = self.card.blocks if self.card else self.opened.add(target.open()) if target else None
        left = sheet.steps[len(job.done):]
        layouts = _layouts(source_blocks, target_blocks, came, self.admitted)
        seen = _foreseen(msgspec.structs.replace(sheet, steps=left), *layouts, source_blocks, target_blocks)
        self._foreseen = (len(job.done), seen)
        if self.tell is not None:
            self.tell(seen)
        steps = seen.settled
        if steps != left:
            job.sheet = msgspec.structs.replace(sheet, steps=(*sheet.steps[:len(job.done)], *steps))
            self.log.save_sheet(job)
        self._source = source_blocks
        if (packed := packed_in(source_blocks) if source_blocks else None) is not None:
            packed.go_on()
        if source_blocks is not None:
            self._must_be_recorded(source_blocks, steps, watch)
        writes_first = any(step.writes_all for step in steps)
        if self.journal is None and writes_first and any(step.is_in_place for step in steps):
            self.log.folder.remove(job.id, RESERVE)
            self.log.folder.create(job.id, RESERVE, self._left(len(job.done)).journal).close()
        is_fresh = self.journal is None and not job.step_began       # else what it began with lies in its journal
        return Workshop(self.bench, job.sheet, source, target, source_blocks, target_blocks, self, layouts[1],
                        kept=dict(job.kept), opened=self.opened,
                        foreseen=seen.of_first_change(len(job.done)) if is_fresh else {})

    def _must_be_recorded(self, source: Blocks, steps: tuple[Step, ...], watch: Watch) -> None:
        """Compare a kept or packed source with its record or checksums before parts of it are used.

        One of which all is written is compared while it is written. Raises CrateError, JobError.
        """
        parts = any(step.reads_parts for step in steps)
        if parts and not any(step.writes_all for step in steps):
            try:
                prove_packed(source, watch)
            except Damaged as error:
                raise JobError(f"{error} Nothing was written.") from error
        is_by_file = all(step.is_by_file for step in steps if step.reads_parts)     # each is proven as it is read
        if parts and not is_by_file and (kept := kept_in(source)) is not None:
            try:
                check_chunks(kept.path, watch)
            except CrateError as error:
                raise CrateError(f"{error} Nothing was written.") from error
        expected, name = self._expected()
        if expected and parts and digest(source, source.size, watch, phase="Comparing with its record") != expected:
            raise not_as_recorded(name, "Nothing was written.")

    def _left(self, number: int) -> Forecast:
        """What was foreseen from a step on."""
        assert self._foreseen is not None, "it was opened"
        first, seen = self._foreseen
        return replace(seen, lines=seen.lines[number - first:])

    def _settle(self, watch: Watch) -> None:
        """After the last step: what the job leaves is noted, and whether it could be taken back now.

        Files are read back here where no later step of the sheet does that.
        """
        if self.card is None or not self.job.has_changed:
            return
        now = State(self.card.blocks)
        put = Stretches.of([Extent(0, now.blocks.size)]) if self.job.has_written else \
            saved_and_put(self.journal.groups)[1] if self.journal else Stretches()
        with suppress(MediumError, JobError):             # it serves to name files; the slot and the record compare
            self.log.note_left(self.job.id, now, put)
        if self.journal is not None:
            proof = max((k for k, done in enumerate(self.job.done) if done.is_proof), default=-1)
            carries = [step.carries_files and k > proof for k, step in enumerate(self.job.sheet.steps)]
            reads_back = any(carries)
            why = self.card.stack.settle_done(self.journal, now, with_free=reads_back, watch=watch)
            if reads_back:
                self.job.done = [msgspec.structs.replace(done, sentence=f"{done.sentence} {READ_BACK}") if carried
                                 else done for done, carried in zip(self.job.done, carries, strict=False)]
            self.job.message = f"This job cannot be undone: {why}. Keep the card now." if why else ""

    def _end_step(self, number: int) -> None:
        """Note that a step is finished, in the slot where there is a journal, and in the record."""
        step = self.job.sheet.steps[number]
        if self._over is not None:
            self._over.end_step(number + 1)
        elif self.journal is not None:
            JournalledBlocks(self.card.blocks, self.journal, number, State).end_step(number + 1)     # type: ignore[union-attr]
        if step.writes_all and self.card is not None:
            self.job.seen = fingerprint(self.card.blocks).hex()
        if self.journal is None:                          # else the slot says it; the record tells the story at the end
            self.log.save(self.job)

    def _leave(self) -> None:
        """After a failure: a job that has changed nothing leaves nothing behind."""
        self.log.folder.remove(self.job.id, RESERVE)
        if self._over is not None:
            self._over.leave()
        journal = self.journal
        if journal is not None and self.card is not None and journal.slot.groups == 0 \
                and journal.slot.standing == Standing.OPEN and not self.job.has_written:
            self.card.stack.drop(journal)
            self.job.step_began = False

    def _note_body(self, body: Body) -> None:
        self.job.body = body
        self.log.save(self.job)

    def _read_through(self) -> tuple[str, str] | None:
        """The same of a packed disk that was read through before."""
        packed = packed_in(self._source) if self._source is not None and self._source.container == "raw" else None
        return (packed.remembered.digest, f"The disk in {packed.name}") if packed and packed.remembered.digest else None

    def _expected(self) -> tuple[str, str]:
        """BLAKE3 that what is written from is recorded with, and its name; "" where it has no record."""
        source = self.job.sheet.source
        backup = self.job.kept.get(Which.SOURCE) or (source.backup if source else "")
        if backup:
            crate = self.bench.crate_with(backup)
            return crate.digest(backup), crate.named(backup)
        path = Path(source.path) if source else None          # a copy of a backup may have its record beside it
        return (digest_beside(path), f"The backup {path.name}") if path else ("", "")


def _layouts(source: Blocks | None, target: Blocks | None, came: State | None = None,
             card: State | None = None) -> tuple[Layout | None, Layout | None]:
    """What is on source and target; of those that are seen already no volume is walked again. Raises MediumError."""
    return _layout(source, came), _layout(target, card)


def _layout(blocks: Blocks | None, seen: State | None) -> Layout | None:
    if blocks is None:
        return None
    return survey(blocks, opened=seen.opened if seen is not None and packed_in(blocks) is None else None)


def _foreseen(sheet: JobSheet, source: Layout | None, target: Layout | None, source_blocks: Blocks | None,
              target_blocks: Blocks | None) -> Forecast:
    """What the sheet will do to what is there. Raises FitError where a step does not fit."""
    seen = forecast(sheet, source, target, source_blocks=source_blocks, target_blocks=target_blocks)
    if seen.problems:
        raise FitError(" ".join(problem.sentence for problem in seen.problems))
    return seen


def needs_guard(sheet: JobSheet) -> bool:
    """Whether a sheet changes its target."""
    return any(step.changes for step in sheet.steps)


def find_medium(bench: Bench, ref: MediumRef) -> Medium:
    """The medium of a sheet: where it was, else anywhere on the shelf by its identity. Raises MediumError."""
    if ref.backup:
        return bench.shelf.medium_at(bench.crate_with(ref.backup).image(ref.backup))
    path, instead = Path(ref.path), None
    if file_on(path):
        instead = bench.shelf.medium_at(path)
        if instead.key == ref.key:
            return instead
    found = next((m for m in bench.shelf.media() if m.key == ref.key), None)
    if found is None:
        raise not_there(ref, instead)
    return found


def not_there(ref: MediumRef, instead: Medium | None) -> MediumError:
    """What is said where a medium is not at hand; `instead` lies at its path now."""
    if instead is None:
        return MediumError(f"{ref.name} (tag {ref.tag}) is not there. Put it into a reader; nothing was changed.")
    what = "replaced: another file is there under its name" if instead.source == Source.IMAGE else \
        f"exchanged: the card at {ref.path} is another one"
    return MediumError(f"{ref.name} (tag {ref.tag}) was {what} now ({instead.name}, tag {instead.tag}). Nothing was "
                       "changed.")
