"""The log of the bench: each run of a sheet leaves a folder with its state and its journals.

What is in the folder is enough to finish an interrupted job or to take it back after a restart.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from enum import StrEnum
from pathlib import Path

import msgspec

from mosscrate.core.crate.record import write_whole
from mosscrate.core.errors import JobError
from mosscrate.core.sheet.sheet import JobSheet


class Status(StrEnum):
    """How a job ended, or that it has not."""

    RUNNING = "running"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"
    TAKEN_BACK = "taken back"


class StepDone(msgspec.Struct, frozen=True):
    """What one step did. `bytes` moved or compared."""

    sentence: str
    bytes: int
    seconds: float


class Job(msgspec.Struct):
    """One run. `kept` maps "source" and "target" to the images that this job kept."""

    id: str
    sheet: JobSheet
    begun: str
    status: Status = Status.RUNNING
    done: list[StepDone] = []
    kept: dict[str, str] = {}
    was_blank: bool = False            # the target held nothing before
    has_written: bool = False          # the whole target was written over
    step_began: bool = False           # a step that changes the target has begun
    message: str = ""

    @property
    def is_unfinished(self) -> bool:
        """Whether a card may be in the middle of a change."""
        return self.status in (Status.RUNNING, Status.STOPPED, Status.FAILED) and bool(
            self.has_written or self.step_began)


class Log:
    """The jobs below a state folder, newest first."""

    def __init__(self, state: Path) -> None:
        self.root = state / "jobs"

    def create(self, sheet: JobSheet, begun: str, *, was_blank: bool) -> Job:
        """A folder for a new run."""
        self.root.mkdir(parents=True, exist_ok=True)
        stem = begun[:19].replace(":", ".")
        for number in range(1000):
            name = f"{stem}-{number}" if number else stem
            try:
                (self.root / name).mkdir()
            except FileExistsError:
                continue
            job = Job(name, sheet, begun, was_blank=was_blank)
            self.save(job)
            return job
        raise JobError(f"No new job can be noted in {self.root}.")

    def save(self, job: Job) -> None:
        """Note the state of a job so that it is whole or as before."""
        write_whole(self.root / job.id / "job.json", msgspec.json.encode(job))

    def load(self, id: str) -> Job:
        """One job. Raises JobError."""
        path = self.root / id / "job.json"
        try:
            return msgspec.json.decode(path.read_bytes(), type=Job)
        except (OSError, ValueError) as error:
            raise JobError(f"There is no usable job “{id}” in the log: {error}") from error

    def jobs(self) -> Iterator[Job]:
        """All that can be read, newest first."""
        for folder in sorted(self.root.glob("*/"), reverse=True):
            try:
                yield self.load(folder.name)
            except JobError:
                continue

    def journals(self, job: Job) -> list[Path]:
        """The journals of a job in the order of its steps."""
        return sorted((self.root / job.id).glob("journal-*"))

    def new_journal(self, job: Job, step: int) -> Path:
        """Where the journal of a step goes."""
        return self.root / job.id / f"journal-{step:03d}"

    def forget_journals(self, job: Job) -> None:
        """Remove the journals of a job whose changes were taken back."""
        for path in self.journals(job):
            path.unlink()

    def forget(self, job: Job) -> None:
        """Remove a job from the log."""
        shutil.rmtree(self.root / job.id)
