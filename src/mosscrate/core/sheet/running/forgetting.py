"""Forgetting a backup on a bench: what would be lost is told first, and what a job needs to be taken back stays."""

from __future__ import annotations

from mosscrate.core.contents.files import FileKind
from mosscrate.core.crate import Backup
from mosscrate.core.crate.forgetting import GivenBack, forget, give_back, only_in
from mosscrate.core.errors import GuardRefusal, InUse
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running.job import Log, Status
from mosscrate.core.sizes import binary, counted
from mosscrate.core.watch import Watch

NAMED = 5                                # files that a sentence names
OVER = (Status.TAKEN_BACK, Status.CLOSED)


def what_is_only_in(backup: Backup, bench: Bench) -> str:
    """Which contents no other backup holds, in a sentence. Raises CrateError, FormatError."""
    found = only_in(backup, bench.crate)
    when = f"The backup of {backup.record.card.name} of {backup.kept_at:%d %B %Y}"
    if not found:
        return f"{when}: every file in it is in another backup too."
    saves = sum(file.kind == FileKind.SAVE for file in found)
    first = sorted(found, key=lambda file: file.kind != FileKind.SAVE)[:NAMED]
    more = f" and {len(found) - NAMED} more" if len(found) > NAMED else ""
    of_saves = f", {counted(saves, 'save')} among them," if saves else ""
    are = "is" if len(found) == 1 else "are"
    return f"{when}: {counted(len(found), 'file')}{of_saves} {are} in no other backup: " \
        f"{', '.join(file.path for file in first)}{more}."


def forget_on(backup: Backup, bench: Bench, watch: Watch) -> str:
    """Forget it, and give its room back where nobody is at work; returns a sentence.

    Raises GuardRefusal where a job needs it, CrateError.
    """
    for job in Log(bench.state).jobs():
        if backup.id in job.kept.values() and job.status not in OVER:
            target = job.sheet.target.name if job.sheet.target else "a card"
            raise GuardRefusal(f"The job of {job.begun[:16].replace('T', ' ')} on {target} can only be taken back with "
                               "this backup. Finish with that job first; nothing was forgotten.")
    forget(backup)
    said = f"The backup of {backup.record.card.name} of {backup.kept_at:%d %B %Y} is forgotten."
    try:
        return f"{said} {_room(give_back(bench.crate.root, watch))}"
    except InUse as error:
        return f"{said} {error}"


def reclaim(bench: Bench, watch: Watch) -> str:
    """Give back what no backup needs. Raises InUse, CrateError."""
    return _room(give_back(bench.crate.root, watch))


def _room(given: GivenBack) -> str:
    return f"{binary(given.freed)} are free again." if given.freed > 0 else "No room came free: other backups need it."
