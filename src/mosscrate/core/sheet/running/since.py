"""A card that was written to after a job: told by file, and undone all the same once it is kept as it is now."""

from __future__ import annotations

from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.fingerprint import State
from mosscrate.core.contents.left import Name, room_of, since
from mosscrate.core.errors import GuardRefusal
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running.job import Job, Log
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.stack import NAMED, Stack
from mosscrate.core.sheet.running.journal.states import AsBefore
from mosscrate.core.sheet.running.journal.writing import saved_and_put
from mosscrate.core.sheet.running.stamp import read_stamp
from mosscrate.core.sizes import some_of
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import soundness
from mosscrate.core.watch import Watch


def must_be_as_left(job: Job, log: Log, stack: Stack, name: str) -> None:
    """Compare the files of a card that was written over with those that the job left. Raises ChangedSince."""
    left = log.left(job.id)
    if left is not None and since(left, State(stack.card)):
        raise stack.changed_since(job.id, name, ())


def must_be_its_card(job: Job, log: Log, medium: Medium, stack: Stack) -> None:
    """Raises GuardRefusal where a card that was written to since is not known for that of the job any more."""
    left, ref = log.left(job.id), job.sheet.target
    if left is not None and ref is not None and read_stamp(stack.card) is None:
        entries = sum(map(len, left.lines.values()))
        if medium.key == ref.key or 2 * len(since(left, State(stack.card))) < entries:
            return
    raise GuardRefusal(f"{medium.name} may be another card than that of job {job.id}: most of what the job left is not "
                       "on it. Nothing was written.")


def must_be_had_back(journal: Journal, job: Job, log: Log, stack: Stack, name: str) -> None:
    """Whether every file from before a job comes back whole on a card that somebody wrote to since.

    Seen through the journal, nothing may be otherwise but what was written since, every volume has to hold together,
    and no file may have lost its room. Raises GuardRefusal.
    """
    left, found = log.left(job.id), log.before(job.id)
    now, before = State(stack.card), State(AsBefore(stack.card, journal))
    if left is None or found is None:
        raise GuardRefusal(f"What job {job.id} left on {name} is not known, so what was written since cannot be told "
                           "from it. Nothing was written.")
    written = set(since(left, now))
    others = [path for index, path in since(found, before) if (index, path) not in written]
    unsound = any(part.volume and part.tree and soundness(part.volume, part.tree).because for part in before.parts)
    gone = [*others, *_without_room(written, now, before, journal)]
    if gone or unsound:
        what = f"{some_of(gone, NAMED)} lay" if gone else "its folders and tables would return"
        raise GuardRefusal(f"{name} cannot be brought back to how it was before job {job.id}: what was written since "
                           f"lies where {what}. Nothing was written. Copy the new files to this computer; a backup "
                           "from before the job brings the old ones back.")


def _without_room(written: set[Name], now: State, before: State, journal: Journal) -> list[str]:
    """Files from before whose room holds what was written since, and is not in the journal."""
    taken = Stretches()
    for part in now.parts:
        for entry in part.tree.entries if part.tree else ():
            if (part.partition.index, entry.path) in written:
                taken |= room_of(part, entry)
    lost = taken - saved_and_put(journal.groups)[0]
    return [entry.path for part in before.parts for entry in (part.tree.entries if part.tree else ())
            if (part.partition.index, entry.path) not in written and room_of(part, entry) & lost]


def keep_as_it_is(medium: Medium, stack: Stack, bench: Bench, watch: Watch) -> str:
    """Keep all of a card as it is now; returns the id of the backup. Raises CrateError, GuardRefusal."""
    backup = bench.crate.keep(card_of(medium), stack.card, watch, every_byte=True)
    if not backup.record.is_complete:
        raise GuardRefusal(f"{medium.name} could not be read everywhere, so its backup is not whole. The job is not "
                           "undone; nothing was written to the card.")
    return backup.id
