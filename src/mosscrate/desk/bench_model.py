"""The state that all stations share: media at hand, their layouts, what runs, what is kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from mosscrate.core.contents import Layout, survey
from mosscrate.core.contents.unpacking import read_through
from mosscrate.core.crate import Backup, Lane, Trouble
from mosscrate.core.crate.unkept import Unkept, unkept_on
from mosscrate.core.errors import MachineError, MossError, Stopped
from mosscrate.core.images.published import kind_of
from mosscrate.core.machines import Machine, Machines
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running.job import Job
from mosscrate.core.sheet.running.knowing import known
from mosscrate.core.slots import Medium, Source
from mosscrate.core.slots.proofs import Record
from mosscrate.core.slots.service import MustAsk
from mosscrate.core.slots.sysfs import EmptySlot
from mosscrate.core.slots.watching import Watcher
from mosscrate.core.watch import Watch
from mosscrate.desk.shared.background import Asked, Asker, BackgroundJob

POLL_MS = 3000


@dataclass(frozen=True)
class Seen:
    """A layout as last read, or why it could not be read."""

    layout: Layout | None
    error: str = ""
    interrupted: Job | None = None       # the job that it is in the middle of
    proof: Record | None = None          # the proof that it is in the middle of
    must_ask: bool = False               # a person has to be asked for permission before it can be read


class BenchModel(QObject):
    """Asks the core in the background and tells the stations what has changed."""

    media_changed = pyqtSignal()
    seen_changed = pyqtSignal(str)             # key of a medium
    selected_changed = pyqtSignal()
    crate_changed = pyqtSignal()
    unkept_changed = pyqtSignal(str)           # key of a card
    jobs_changed = pyqtSignal()
    machine_changed = pyqtSignal()
    reading_changed = pyqtSignal()             # a packed file begins or ends to be read through
    reading_moved = pyqtSignal(str)            # key of one that is being read through
    said = pyqtSignal(str)                     # a sentence for the strip at the bottom
    failed = pyqtSignal(str)                   # a sentence that must not be missed
    begun_anew = pyqtSignal()                  # what was said is over: the person opens something else
    _stirred = pyqtSignal()                    # media may have come or gone; told by another thread

    def __init__(self, bench: Bench, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.bench = bench
        self.asker = Asker(self)
        self._looker = Asker(self, threads=1)  # for media that come and go: it never waits behind a survey
        self._surveys: dict[str, Asked] = {}
        self._watcher: Watcher | None = None
        self._look_once_more = False
        self.media: list[Medium] = []
        self.empty_slots: list[EmptySlot] = []
        self.seen: dict[str, Seen] = {}
        self.unkept: dict[str, Unkept] = {}    # of cards at hand that were kept before: what no backup holds
        self.lanes: list[Lane] = []
        self.troubles: list[Trouble] = []      # in the crate
        self.crate_room = 0                    # bytes that it takes
        self.selected: Medium | None = None
        self.machines: dict[str, Machine] = {}
        self.machine: Machine | None = None    # what the cards are meant for
        self._machines_problem = ""
        self.jobs: list[BackgroundJob] = []
        self.busy: set[str] = set()            # keys of media that a job works on
        self.reading: dict[str, BackgroundJob] = {}      # packed media that are read through, by their keys
        self._read_machines()
        self._poll = QTimer(self)
        self._poll.timeout.connect(self.refresh)
        self._stirred.connect(self.refresh)

    def start(self) -> None:
        """Look around for the first time, then regularly."""
        self.refresh()
        self.refresh_crate()
        if self._machines_problem:
            self.failed.emit(self._machines_problem)
        self._poll.start(POLL_MS)
        self._watcher = self.bench.shelf.watch(self._stirred.emit)

    def _read_machines(self) -> None:
        """A description that cannot be used is told once the window stands; those that ship are there all the same."""
        try:
            self.machines = self.bench.machines.all()
        except MachineError as error:
            self._machines_problem = str(error)
            self.machines = Machines().all()

    def refresh(self) -> None:
        """Look for media that came or went."""
        if not self._looker.is_idle:
            self._look_once_more = True
            return
        shelf = self.bench.shelf
        self._looker.ask(lambda: (shelf.media(), shelf.empty_slots()), self._take_found, self._complain)

    def refresh_crate(self) -> None:
        """Read the crate again."""
        crate = self.bench.crate
        self.asker.ask(lambda: (crate.lanes(), crate.troubles(), crate.room()), self._take_crate,
                       self._complain)

    def look_again(self, medium: Medium, *, may_ask: bool = False) -> None:
        """Read a medium's layout anew; a person is asked for permission only where they asked for that."""
        medium = replace(medium, may_ask=may_ask)

        def answer(seen: Seen) -> None:
            if self._surveys.get(medium.key) is not asked:
                return                         # it was looked at anew meanwhile, and that answer may be here already
            del self._surveys[medium.key]
            self.seen[medium.key] = seen
            self.seen_changed.emit(medium.key)
            self._ask_what_is_new(medium)

        asked = self._surveys[medium.key] = self.asker.ask(lambda: _survey(medium, self.bench), answer,
                                                           lambda error: answer(_unseen(error)))

    def layout_of(self, medium: Medium | None) -> Layout | None:
        """The layout as last seen."""
        seen = self.seen.get(medium.key) if medium else None
        return seen.layout if seen else None

    def interrupted_on(self, medium: Medium | None) -> Job | None:
        """The job that a medium is in the middle of."""
        seen = self.seen.get(medium.key) if medium else None
        return seen.interrupted if seen else None

    def proof_on(self, medium: Medium | None) -> Record | None:
        """The interrupted proof that a medium is in the middle of."""
        seen = self.seen.get(medium.key) if medium else None
        return seen.proof if seen else None

    @property
    def shelf(self) -> list[Medium]:
        """The media at hand, and what is in hand though it is not among them: a kept backup."""
        selected = self.selected
        is_beside = selected is not None and all(m.key != selected.key for m in self.media)
        return [*self.media, *([selected] if selected is not None and is_beside else [])]

    def mean_for(self, key: str | None) -> None:
        """Choose the machine that the cards are meant for; None for any."""
        self.machine = self.machines[key] if key else None
        self.machine_changed.emit()

    def select(self, medium: Medium | None) -> None:
        """Choose the medium in hand."""
        if medium != self.selected:
            self.selected = medium
            if medium is not None and medium.key in self._surveys:
                self.asker.hurry(self._surveys[medium.key])
            self.selected_changed.emit()

    def open_image(self, path: Path) -> Medium | None:
        """Put an image file on the shelf and choose it; None where it cannot be opened, which is said."""
        return next(iter(self.open_images([path])), None)

    def open_images(self, paths: list[Path]) -> list[Medium]:
        """The same with several; those that cannot be opened are said, and left out."""
        self.begun_anew.emit()
        return [medium for medium in map(self._open, paths) if medium is not None]

    def _open(self, path: Path) -> Medium | None:
        try:
            medium = self.bench.shelf.medium_at(path)
            medium.open_to_look().close()
        except (MossError, OSError) as error:
            self.failed.emit(str(error))
            return None
        known = next((m for m in self.media if m.key == medium.key), None)
        if known is None:
            self.bench.shelf.images.append(path)
            self.media.append(medium)
            self.media_changed.emit()
            self.look_again(medium)
        self.select(known or medium)
        return known or medium

    def read_through(self, medium: Medium) -> None:
        """Read a packed medium through beside everything else, if it was not; what is on it is looked at again then."""
        remembered = medium.remembered
        if remembered is None or remembered.is_settled or medium.key in self.reading:
            return

        def work(watch: Watch) -> None:
            with medium.open() as blocks:
                read_through(blocks, watch)

        job = BackgroundJob(f"Read {medium.name} through", work, self)
        self.reading[medium.key] = job
        job.failed.connect(lambda error: None if isinstance(error, Stopped) else self.failed.emit(str(error)))
        job.sampled.connect(lambda _moment: self.reading_moved.emit(medium.key))
        job.ended.connect(lambda: self._end_reading(medium))
        job.start()
        self.reading_changed.emit()

    def unwrapped(self, medium: Medium | None) -> float:
        """How much of a packed medium was read through, 0 to 1."""
        remembered = medium.remembered if medium else None
        if medium is None or remembered is None or remembered.is_read_through:
            return 1.0
        job = self.reading.get(medium.key)
        p = job.latest if job else None
        return p.done / p.total if p and p.total else 0.0

    def stop_reading(self, key: str) -> None:
        """Stop reading a packed medium through; what was remembered until then stays."""
        if key in self.reading:
            self.reading[key].stop()

    def _end_reading(self, medium: Medium) -> None:
        self.reading.pop(medium.key, None)
        self.reading_changed.emit()
        self.look_again(medium)
        self.refresh()

    def take_lists(self, paths: list[Path]) -> list[Path]:
        """Note lists of published checksums among files that were dropped; returns the others."""
        lists = [path for path in paths if kind_of(path.name)]
        self.bench.shelf.memory.lists += [path for path in lists if path not in self.bench.shelf.memory.lists]
        if lists:
            self.said.emit(f"{lists[-1].name} is compared with what is read from now on.")
            self.refresh()
        return [path for path in paths if path not in lists]

    def backup_medium(self, backup: Backup) -> Medium:
        """A kept image as a medium, for looking and putting back. Raises MediumError."""
        medium = self.bench.shelf.medium_at(backup.path)
        if medium.key not in self.seen:
            self.look_again(medium)
        return medium

    def backup_at_hand(self, backup: Backup) -> Medium | None:
        """The same for an act of the person; None, and it is said, where its image is gone or cannot be read."""
        try:
            return self.backup_medium(backup)
        except MossError as error:
            self.failed.emit(str(error))
            return None

    def last_kept(self, medium: Medium) -> Backup | None:
        """The newest backup of a medium."""
        lane = next((lane for lane in self.lanes if lane.card.key == medium.key), None)
        return lane.backups[-1] if lane else None

    def newest_backups(self, most: int) -> list[tuple[str, Backup]]:
        """Of all cards, the newest first, each with how it is called."""
        found = sorted(((backup.kept_at, lane.card.name, backup) for lane in self.lanes for backup in lane.backups),
                       key=lambda each: each[0], reverse=True)
        return [(f"{name}, {at:%Y-%m-%d %H:%M}", backup) for at, name, backup in found[:most]]

    def keep(self, medium: Medium) -> BackgroundJob | None:
        """Keep a card in the crate; None where a job works on it already."""
        def work(watch: Watch) -> Backup:
            with medium.open_for_job() as blocks:
                return self.bench.crate.keep(card_of(medium), blocks, watch)

        job = self.run(f"Keep {medium.name}", work, {medium.key})
        if job:
            job.done.connect(lambda backup: self.said.emit(_kept_sentence(medium, backup)))
        return job

    def run(self, title: str, work: Callable[[Watch], Any], keys: set[str]) -> BackgroundJob | None:
        """Start a job that holds some media; None where one of them is held already."""
        if keys & self.busy:
            self.failed.emit("Another job is at work on this card. Wait for it, or stop it at the bottom.")
            return None
        for key in keys:
            self.stop_reading(key)             # the job reads all of it anyway
        job = BackgroundJob(title, work, self)
        self.jobs.append(job)
        self.busy |= keys
        job.failed.connect(lambda error: self.failed.emit(str(error)))
        job.ended.connect(lambda: self._end(job, keys))
        job.start()
        self.jobs_changed.emit()
        return job

    def close(self) -> None:
        """Stop what runs and wait for it; nothing is left half done without a note in the log."""
        self._poll.stop()
        if self._watcher is not None:
            self._watcher.stop()
            self._watcher = None
        for job in (*self.jobs, *self.reading.values()):
            job.stop()
            job.wait()
        self.asker.wait()
        self._looker.wait()

    def _end(self, job: BackgroundJob, keys: set[str]) -> None:
        self.busy -= keys
        self.jobs.remove(job)
        for medium in self.media:
            if medium.key in keys:
                self.look_again(medium)
        self.refresh_crate()
        self.jobs_changed.emit()

    def _take_found(self, found: tuple[list[Medium], list[EmptySlot]]) -> None:
        media, slots = found
        if slots != self.empty_slots:
            self.empty_slots = slots
            self.media_changed.emit()
        self._take_media(media)
        if self._look_once_more:
            self._look_once_more = False
            self.refresh()

    def _take_media(self, media: list[Medium]) -> None:
        if media == self.media:
            return
        fresh, before = [m for m in media if m not in self.media], self.selected
        self.media = media
        if self.selected is not None:
            again = next((m for m in media if m.key == self.selected.key), None)
            again = again or next((m for m in media if m.path == self.selected.path), None)
            if again is None and self.selected.path.exists():
                again = self.selected
            self.selected = again
        self.media_changed.emit()
        for medium in sorted(fresh, key=lambda m: m != self.selected):       # the one in hand first
            self.look_again(medium)
        if self.selected is None and media:
            self.select(media[0])
        elif self.selected != before:                     # else nothing that is shown of it, or typed, is thrown away
            self.selected_changed.emit()

    def _take_crate(self, found: tuple[list[Lane], list[Trouble], int]) -> None:
        self.lanes, self.troubles, self.crate_room = found
        self.crate_changed.emit()
        for medium in self.media:
            self._ask_what_is_new(medium)

    def _ask_what_is_new(self, medium: Medium) -> None:
        """What of a card that was kept before is in no backup, beside everything else."""
        latest, layout, crate = self.last_kept(medium), self.layout_of(medium), self.bench.crate
        if latest is None or layout is None or medium.key in self.busy or medium.source == Source.BACKUP:
            return

        def look() -> Unkept:
            with medium.open_to_look() as blocks:
                return unkept_on(blocks, layout, latest, crate)

        def answer(unkept: Unkept) -> None:
            self.unkept[medium.key] = unkept
            self.unkept_changed.emit(medium.key)

        def forget(_error: Exception) -> None:
            self.unkept.pop(medium.key, None)

        self.asker.ask(look, answer, forget)

    def _complain(self, error: Exception) -> None:
        self.failed.emit(str(error))


def _survey(medium: Medium, bench: Bench) -> Seen:
    with medium.open_to_look() as blocks:
        layout, stopped = known(medium, blocks, survey(blocks), bench)
    return Seen(layout, interrupted=stopped.job if stopped else None, proof=stopped.proof if stopped else None)


def _unseen(error: Exception) -> Seen:
    return Seen(None, "" if isinstance(error, MustAsk) else str(error), must_ask=isinstance(error, MustAsk))


def _kept_sentence(medium: Medium, backup: Backup) -> str:
    record = backup.record
    if record.is_complete:
        return f"{medium.name} is kept and was read back equal."
    return (f"{medium.name} is kept, but incomplete: {len(record.unreadable)} places could not be read, first at "
            f"byte {record.unreadable[0][0]:,}. Proof can rescue it, saves first.")
