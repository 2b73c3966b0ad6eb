"""The log of the bench: each run of a sheet leaves a folder with its record and, where it changes a card, its journal.

While there is a journal, its slot says how the job stands; the record has the sheet, the outcome and the sentences.
"""

from __future__ import annotations

import secrets
import shutil
from collections.abc import Iterator, Sequence
from enum import StrEnum
from pathlib import Path

import msgspec

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.fingerprint import State
from mosscrate.core.contents.left import Left, left_on, lying_at, since, with_contents
from mosscrate.core.errors import JobError
from mosscrate.core.sheet.notes import Body
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.looking import Look, Seen
from mosscrate.core.sheet.running.journal.stack import Relation
from mosscrate.core.sheet.running.journal.store import JOURNAL, RECORD, DiskFolder, Folder
from mosscrate.core.sheet.running.journal.structures import Standing
from mosscrate.core.sheet.running.stamp import has_stamp
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps.shared.whole import is_written
from mosscrate.core.watch import Watch


class Status(StrEnum):
    """How a job ended, or that it has not."""

    RUNNING = "running"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"
    GOING_BACK = "being taken back"
    TAKEN_BACK = "taken back"
    CLOSED = "closed"                   # the card was written over since


class StepDone(msgspec.Struct, frozen=True):
    """What one step did. `bytes` moved or compared."""

    sentence: str
    bytes: int
    seconds: float
    is_proof: bool = False


EARLIER = StepDone("Done before the interruption.", 0, 0)
_STANDINGS = {Standing.BACK: Status.GOING_BACK, Standing.DONE: Status.DONE, Standing.UNDONE: Status.TAKEN_BACK,
              Standing.CLOSED: Status.CLOSED}


class Job(msgspec.Struct):
    """One run. `kept` maps "source" and "target" to the ids of what this job kept.

    A large sheet stands in a file of its own; then a job of `Log.jobs` has no steps, and `steps` says how many.
    """

    id: str
    sheet: JobSheet
    begun: str
    status: Status = Status.RUNNING
    done: list[StepDone] = []
    kept: dict[str, str] = {}
    was_blank: bool = False            # the target held nothing before
    has_written: bool = False          # the whole target was written over, or that has begun
    step_began: bool = False           # a step that changes the target in place has begun
    message: str = ""
    nonce: str = msgspec.field(default_factory=lambda: secrets.token_hex(16))     # stands on a card being written
    body: Body = Body("", "", 0)       # of a whole write that only lacks its head, or lacked it last
    seen: str = ""                     # fingerprint of the target after its last whole write
    above: str = ""                    # the job that lies on this one, where it has no journal
    steps: int = 0                     # of the sheet
    is_large: bool = False

    @property
    def step_count(self) -> int:
        """Steps of its sheet, also where that stands apart."""
        return self.steps or len(self.sheet.steps)

    @property
    def is_unfinished(self) -> bool:
        """Whether a card may be in the middle of a change."""
        return self.status == Status.GOING_BACK or (
            self.status in (Status.RUNNING, Status.STOPPED, Status.FAILED) and (self.has_written or self.step_began))

    @property
    def has_changed(self) -> bool:
        """Whether it changed a card, or may have."""
        return self.has_written or self.step_began


LARGE, SHEET, BEFORE, LEFT = 32 << 10, "sheet.json", "before", "left"
_SHEETS = msgspec.json.Decoder(JobSheet)
_RECORDS = msgspec.json.Decoder(Job)      # built once: several threads may read the log at the same time


class Log:
    """The jobs below a state folder, newest first."""

    def __init__(self, state: Path | Folder) -> None:
        self.folder: Folder = DiskFolder(state / "jobs") if isinstance(state, Path) else state

    def create(self, sheet: JobSheet, begun: str, *, was_blank: bool) -> Job:
        """A folder for a new run. Raises JobError."""
        if isinstance(self.folder, DiskFolder):
            self.folder.sweep()
        stem = begun[:19].replace(":", ".")
        for number in range(1000):
            name = f"{stem}-{number}" if number else stem
            if self.folder.claim(name):
                job = Job(name, sheet, begun, was_blank=was_blank)
                self.save_sheet(job)
                self.save(job)
                return job
        raise JobError("No new job can be noted in the log.")

    def save_sheet(self, job: Job) -> None:
        """Note the sheet of a job beside its record, where it is large. Raises JobError."""
        data, job.steps = msgspec.json.encode(job.sheet), len(job.sheet.steps)
        job.is_large = job.is_large or len(data) > LARGE
        if job.is_large:
            self.folder.replace(job.id, SHEET, data)

    def save(self, job: Job) -> None:
        """Note the state of a job so that it is whole or as before. Raises JobError."""
        if job.is_large:
            job = msgspec.structs.replace(job, sheet=msgspec.structs.replace(job.sheet, steps=()))
        self.folder.replace(job.id, RECORD, msgspec.json.encode(job))

    def load(self, id: str) -> Job:
        """One job with its sheet, as its journal says it stands where there is one. Raises JobError."""
        job = self._as_it_stands(self._record(id))
        if job.is_large:
            try:
                job.sheet = _SHEETS.decode(self.folder.read(id, SHEET))
            except ValueError as error:
                raise JobError(f"The sheet of the job “{id}” cannot be read: {error}") from error
        return job

    def _as_it_stands(self, job: Job) -> Job:
        id = job.id
        slot = Journal.slot_of(self.folder, id)
        if slot is None or (job.has_written and job.status == Status.GOING_BACK):
            return job                                    # a whole write that takes it back goes before its journal
        if slot.standing != Standing.OPEN:
            job.status = _STANDINGS[slot.standing]
        else:
            job.step_began = job.step_began and slot.groups > 0
            if job.status in (Status.TAKEN_BACK, Status.GOING_BACK, Status.CLOSED):
                job.status = Status.FAILED
            if job.status == Status.DONE:                 # it is told after the slot, whose newest one is damaged
                return job
        if slot.standing in (Standing.OPEN, Standing.BACK):
            job.done = [*job.done, *[EARLIER] * (slot.steps - len(job.done))][:slot.steps]
        return job

    def jobs(self) -> Iterator[Job]:
        """All that can be read, newest first, without the steps of large sheets."""
        for id in reversed(self.folder.jobs()):
            try:
                yield self._as_it_stands(self._record(id))
            except JobError:
                continue

    def forget(self, job: Job) -> None:
        """Remove a job from the log."""
        assert isinstance(self.folder, DiskFolder), "only a folder on a disk is tidied up"
        shutil.rmtree(self.folder.root / job.id)

    # --- what a stack of jobs asks of the records ------------------------------------------------

    def standing(self, id: str) -> Standing | None:
        """See Records."""
        try:
            job = self._record(id)
        except JobError:
            return None
        if job.status in (Status.TAKEN_BACK, Status.CLOSED, Status.GOING_BACK):
            return {Status.TAKEN_BACK: Standing.UNDONE, Status.CLOSED: Standing.CLOSED,
                    Status.GOING_BACK: Standing.BACK}[job.status]
        if not job.has_changed:
            return None
        return Standing.DONE if job.status == Status.DONE else Standing.OPEN

    def mark(self, id: str, standing: Standing) -> None:
        """See Records."""
        job = self._record(id)
        if standing == Standing.OPEN:
            job.step_began = True
            job.status = Status.RUNNING if job.status == Status.DONE else job.status
        else:
            job.status = _STANDINGS[standing]
        self.save(job)

    def clear(self, id: str) -> None:
        """See Records."""
        job = self._record(id)
        job.step_began = False
        self.save(job)

    def above(self, id: str) -> str:
        """See Records."""
        try:
            return self._record(id).above
        except JobError:
            return ""

    def cover(self, id: str, above: str) -> None:
        """See Records."""
        job = self._record(id)
        job.above = above
        self.save(job)

    def relation(self, id: str, card: Blocks, seen: Look) -> Relation:
        """See Records: a card that is being written bears a stamp, one that was written its fingerprint."""
        try:
            job = self._record(id)
        except JobError:
            return Relation.OTHER
        if not job.has_written:
            return Relation.OTHER
        if has_stamp(card, job.nonce) or (job.seen and seen(card).digest.hex() == job.seen):
            return Relation.SAME
        is_between = not job.seen and job.status != Status.DONE       # its head may have been the last that was written
        return Relation.SAME if is_between and is_written(card, job.body, Watch()) else Relation.OTHER

    def is_whole(self, id: str) -> bool:
        """See Records."""
        try:
            return self._record(id).has_written
        except JobError:
            return False

    def is_stamped(self, id: str, card: Blocks) -> bool:
        """See Records."""
        return self.is_whole(id) and has_stamp(card, self._record(id).nonce)

    def note_left(self, id: str, now: State, put: Stretches) -> None:
        """Note what files a job left, and contents of those that lie where it has put something.

        Raises MediumError, JobError.
        """
        self.folder.replace(id, LEFT, with_contents(now, put, self.before(id)).pack())

    def note_before(self, id: str, now: State) -> None:
        """Note what files a card holds before a job changes it in place. Raises MediumError, JobError."""
        self.folder.replace(id, BEFORE, left_on(now).pack())

    def left(self, id: str) -> Left | None:
        """What files a job left; None where that was not noted, or cannot be read."""
        return self._noted(id, LEFT)

    def before(self, id: str) -> Left | None:
        """What files a job found; None where that was not noted, or cannot be read."""
        return self._noted(id, BEFORE)

    def _noted(self, id: str, name: str) -> Left | None:
        try:
            return Left.unpack(self.folder.read(id, name))
        except (JobError, ValueError):
            return None

    def written_since(self, id: str, now: Seen, places: Sequence[Extent]) -> tuple[str, ...]:
        """See Records."""
        left = self.left(id)
        if left is None or not isinstance(now, State):
            return ()
        is_somewhere = not any(place.length == now.blocks.size for place in places)
        names = since(left, now) or (lying_at(places, now) if is_somewhere else [])
        return tuple(path for _, path in names)

    def has_journal(self, job: Job) -> bool:
        """Whether a job has changed a card in place and can tell how."""
        return self.folder.has(job.id, JOURNAL)

    def _record(self, id: str) -> Job:
        try:
            return _RECORDS.decode(self.folder.read(id, RECORD))
        except (JobError, ValueError) as error:
            raise JobError(f"There is no usable job “{id}” in the log: {error}") from error
