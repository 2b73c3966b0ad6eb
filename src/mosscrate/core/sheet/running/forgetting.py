"""Forgetting a backup on a bench: what would be lost is told first, and what a job needs to be taken back stays."""

from __future__ import annotations

from dataclasses import dataclass

from mosscrate.core.contents.files import FileKind
from mosscrate.core.crate import Backup
from mosscrate.core.crate.ageing import Ages, too_many
from mosscrate.core.crate.checking import has_known_damage
from mosscrate.core.crate.forgetting import GivenBack, forget, give_back, only_in_these
from mosscrate.core.crate.library import KeptFile
from mosscrate.core.errors import GuardRefusal, InUse
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running.job import Job, Log, Status
from mosscrate.core.sizes import binary, counted, some_of
from mosscrate.core.watch import Watch

NAMED = 5                                # files that a sentence names
OVER = (Status.TAKEN_BACK, Status.CLOSED)


def what_is_only_in(backup: Backup, bench: Bench) -> str:
    """Which contents no other backup holds, in a sentence. Raises CrateError, FormatError."""
    return f"The backup of {backup.record.card.name} of {backup.kept_at:%d %B %Y}: " \
        f"{_lost(only_in_these((backup,), bench.crate), 'it')}"


def _lost(found: list[KeptFile], which: str) -> str:
    if not found:
        return f"Every file in {which} is in another backup too."
    saves = sum(file.kind == FileKind.SAVE for file in found)
    in_order = [file.path for file in sorted(found, key=lambda file: file.kind != FileKind.SAVE)]
    of_saves = f", {counted(saves, 'save')} among them," if saves else ""
    are = "is" if len(found) == 1 else "are"
    return f"{counted(len(found), 'file')}{of_saves} {are} in no other backup: " \
        f"{some_of(in_order, NAMED)}."


def forget_on(backup: Backup, bench: Bench, watch: Watch) -> str:
    """Forget it, and give its room back where nobody is at work; returns a sentence.

    Raises GuardRefusal where a job needs it, CrateError.
    """
    if job := _needed_by(backup, bench):
        target = job.sheet.target.name if job.sheet.target else "a card"
        raise GuardRefusal(f"The job of {job.begun[:16].replace('T', ' ')} on {target} can only be taken back with "
                           "this backup. Finish with that job first; nothing was forgotten.")
    forget(backup)
    said = f"The backup of {backup.record.card.name} of {backup.kept_at:%d %B %Y} is forgotten."
    try:
        return f"{said} {_room(give_back(bench.crate.root, watch))}"
    except InUse as error:
        return f"{said} {error}"


@dataclass(frozen=True)
class Thinning:
    """What may go by age: backups, and in a sentence what no other one holds of them."""

    backups: tuple[Backup, ...]
    sentence: str


def thinning(bench: Bench, ages: Ages, key: str | None = None) -> Thinning:
    """Which backups are beyond what is kept, of one card or of all; what a job needs stays. Raises CrateError."""
    lanes = [lane for lane in bench.crate.lanes() if key in (None, lane.card.key)]
    found = tuple(b for lane in lanes for b in too_many(lane.backups, ages, bench.crate.now(), _is_whole)
                  if not _needed_by(b, bench))
    if not found:
        return Thinning((), f"Nothing is beyond what is kept: {ages}.")
    lost = only_in_these(found, bench.crate)
    return Thinning(found, f"{counted(len(found), 'backup')} would go ({ages}). {_lost(lost, 'them')}")


def _is_whole(backup: Backup) -> bool:
    """As far as is known without reading it."""
    return backup.record.is_complete and not (backup.is_in_chunks and has_known_damage(backup.path))


def thin_out(thinned: Thinning, bench: Bench, watch: Watch) -> str:
    """Forget what was shown, and give its room back; returns a sentence. Raises CrateError, GuardRefusal."""
    for backup in thinned.backups:
        watch.check()
        if _needed_by(backup, bench):
            raise GuardRefusal(f"The backup {backup.path.stem} is needed by a job now. Those before it are forgotten.")
        forget(backup)
    said = f"{counted(len(thinned.backups), 'backup')} {'is' if len(thinned.backups) == 1 else 'are'} forgotten."
    try:
        return f"{said} {_room(give_back(bench.crate.root, watch))}"
    except InUse as error:
        return f"{said} {error}"


def reclaim(bench: Bench, watch: Watch) -> str:
    """Give back what no backup needs. Raises InUse, CrateError."""
    return _room(give_back(bench.crate.root, watch))


def _needed_by(backup: Backup, bench: Bench) -> Job | None:
    """A job that can only be taken back with this backup."""
    return next((job for job in Log(bench.state).jobs()
                 if backup.id in job.kept.values() and job.status not in OVER), None)


def _room(given: GivenBack) -> str:
    return f"{binary(given.freed)} are free again." if given.freed > 0 else "No room came free: other backups need it."
