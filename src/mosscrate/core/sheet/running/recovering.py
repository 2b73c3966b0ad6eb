"""What becomes of jobs afterwards: an interrupted one is finished, any is taken back, or given up."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.streaming import digest
from mosscrate.core.contents.fingerprint import State, fingerprint
from mosscrate.core.contents.survey import has_blank_ends
from mosscrate.core.crate.checking import check_chunks
from mosscrate.core.errors import ChangedSince, CrateError, JobError, MediumError, MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.images.kept import kept_in
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.notes import BLANK, Body, Notes
from mosscrate.core.sheet.running import guard
from mosscrate.core.sheet.running.job import EARLIER, Job, Log, Status
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.stack import Relation, Stack, Undone
from mosscrate.core.sheet.running.journal.store import JOURNAL
from mosscrate.core.sheet.running.journal.structures import Standing
from mosscrate.core.sheet.running.opened import Opened
from mosscrate.core.sheet.running.run import HeldCard, Result, Running
from mosscrate.core.sheet.running.since import keep_as_it_is, must_be_as_left, must_be_had_back, must_be_its_card
from mosscrate.core.sheet.running.stamp import read_stamp, stamp_of
from mosscrate.core.sheet.running.telling import told
from mosscrate.core.sheet.sheet import MediumRef
from mosscrate.core.sheet.steps import Which
from mosscrate.core.sheet.steps.shared.whole import is_written, write_image
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.slots.proofs import Record
from mosscrate.core.watch import Watch


def finish(job: Job, bench: Bench, watch: Watch, *, typed_tag: str, card: Medium | None = None) -> Result:
    """Take an interrupted job to its end: the step that was cut is undone or done again, then the rest runs.

    Args:
        job: one of the log.
        bench: where.
        watch: is told, and may stop it.
        typed_tag: the card's tag.
        card: where the card is now; looked for when left out.
    """
    log = Log(bench.state)
    job = log.load(job.id)
    if not job.is_unfinished:
        raise JobError(f"The job {job.id} is {job.status}; there is nothing to finish.")
    with Opened() as opened:
        held = _admit_again(job, log, bench, typed_tag, opened, card)
        if not _had_not_begun_to_write(job, held):
            held.stack.admit(job.id, name=held.medium.name)
        with told(job, log, held.medium.name):
            journal = None
            has_journal = log.has_journal(job) and not log.is_stamped(job.id, held.blocks)
            if job.has_written and (job.status == Status.GOING_BACK or not has_journal):
                _to_whole_write(job, held, watch)
            else:
                slot = Journal.slot_of(log.folder, job.id)
                first = Journal.read(log.folder, job.id).head.first_step if slot else 0
                journal = held.stack.go_on(job.id, watch, name=held.medium.name)
                steps = journal.slot.steps if journal else first
                job.done = [*job.done, *[EARLIER] * (steps - len(job.done))][:steps]
                job.step_began = journal is not None
            job.status, job.message = Status.RUNNING, ""
            log.save(job)
        return Running(job, log, bench, held, opened, journal).go_on(watch)


def undo(job: Job, bench: Bench, watch: Watch, *, typed_tag: str, card: Medium | None = None,
         keep_first: bool = False) -> str:
    """Take a job back, finished or not; returns a sentence. Raises JobError, GuardRefusal where that cannot be done.

    In-place changes are undone from their journal. A target that was written over gets back the
    backup that the job kept of it, or becomes blank again if it was. A card that somebody else has written to since is
    left alone (ChangedSince), unless all of it is to be kept first.
    """
    log = Log(bench.state)
    job = log.load(job.id)
    if job.status == Status.TAKEN_BACK and not log.has_journal(job):
        raise JobError("This job was taken back already.")
    ref = job.sheet.target
    if ref is None or not (job.has_changed or log.has_journal(job)):
        raise JobError("This job changed no card; there is nothing to take back.")
    if job.has_written and Which.TARGET not in job.kept and not job.was_blank:
        raise JobError(f"{ref.name} was written over and its old contents were not kept; they cannot be had again.")
    with Opened() as opened:
        held = _admit_again(job, log, bench, typed_tag, opened, card)
        name = held.medium.name
        kept = _kept_first(job, log, held, bench, watch) if keep_first else ""
        if not job.has_written:
            with told(job, log, name):
                if not kept:
                    return _close(job, log, _sentence(job, held.stack.undo(job.id, watch, name=name)))
                held.stack.take_back(held.stack.admit_kept(job.id, name=name), watch)
                return _close(job, log, f"{name} is as it was before this job, but for files that were written since."
                              + kept)
        if _had_not_begun_to_write(job, held):
            return _close(job, log, _sentence(job, Undone.HAD_NOT_BEGUN))
        if not kept:
            held.stack.admit(job.id, name=name)
            if job.status == Status.DONE:
                must_be_as_left(job, log, held.stack, name)
        if job.status == Status.GOING_BACK and _is_back(job, held, watch):
            return _close(job, log, _sentence(job, Undone.BEFORE))
        _must_be_sound(job, bench, watch)
        with told(job, log, name):
            return _close(job, log, _put_back(job, log, held, bench, opened, watch) + kept)


def unfinished(bench: Bench) -> list[Job]:
    """Jobs that were interrupted while a card was being changed, newest first."""
    return [job for job in Log(bench.state).jobs() if job.is_unfinished]


@dataclass(frozen=True)
class Interruption:
    """A card in the middle of a job, or of a proof; `job` is None where this bench knows no job of it."""

    job: Job | None
    finding: Finding
    proof: Record | None = None


def interruption(blocks: Blocks, bench: Bench) -> Interruption | None:
    """The job that a card is in the middle of, None where there is none. Raises MediumError."""
    log = Log(bench.state)
    stack = Stack(log.folder, log, blocks, State)
    for job in unfinished(bench):
        if job.sheet.target and job.sheet.target.size == blocks.size and stack.relation(job.id) != Relation.OTHER:
            steps = counted(job.step_count, "step")
            said = (f"It is in the middle of the job {job.id}, {len(job.done)} of {steps} done: what it holds is not "
                    "whole.")
            return Interruption(job, Finding(Severity.PROBLEM, said, remedy="Finish it, or take it back."))
    stamp = read_stamp(blocks)
    if stamp is None:
        return None
    return Interruption(None, Finding(
        Severity.PROBLEM, f"It is in the middle of being written over by the job {stamp.job}, of which nothing is "
        "known here.", remedy="Finish it where it began, or write it anew."))


def in_proof(medium: Medium, blocks: Blocks) -> Interruption | None:
    """The proof that a card is in the middle of, None where there is none. Raises MediumError."""
    record = medium.interrupted_proof(blocks)
    return None if record is None else Interruption(None, Finding(
        Severity.PROBLEM, record.sentence, remedy="Put back what stood there, before all else."), record)


def jobs_on(medium: Medium, bench: Bench) -> list[Job]:
    """Jobs that can be finished or taken back on a card, the uppermost first. Raises MediumError."""
    log = Log(bench.state)
    with medium.open() as blocks:
        stack = Stack(log.folder, log, blocks, State)
        found = [job for job in log.jobs() if job.sheet.target and job.sheet.target.size == blocks.size
                 and (job.is_unfinished or (job.status == Status.DONE and job.has_changed))
                 and stack.relation(job.id) != Relation.OTHER]
        return sorted(found, key=lambda job: (not job.is_unfinished, len(stack.all_above(job.id))))


def close(job: Job, bench: Bench) -> str:
    """Give a job up, so that its card may be changed again; it can be neither finished nor taken back any more."""
    log = Log(bench.state)
    job = log.load(job.id)
    if job.status in (Status.TAKEN_BACK, Status.CLOSED) or not job.has_changed:
        raise JobError(f"The job {job.id} is {job.status}; there is nothing to give up.")
    with suppress(JobError):
        journal = Journal.glance(log.folder, job.id)
        if journal is not None:
            journal.put_slot(standing=Standing.CLOSED)
    job.status, job.message = Status.CLOSED, "Given up: its card stays as it is."
    log.save(job)
    return job.message


def _kept_first(job: Job, log: Log, held: HeldCard, bench: Bench, watch: Watch) -> str:
    """Keep the card as it is now where it is not as the job left it; a sentence about that, "" where it is.

    Raises GuardRefusal where what was there before the job could not be had again.
    """
    stack, name = held.stack, held.medium.name
    try:
        stack.admit(job.id, name=name)
        if job.has_written and job.status == Status.DONE:
            must_be_as_left(job, log, stack, name)
    except ChangedSince:
        if job.status != Status.DONE:
            raise
    else:
        return ""
    if not job.has_written:
        must_be_had_back(stack.admit_kept(job.id, name=name), job, log, stack, name)
    else:
        must_be_its_card(job, log, held.medium, stack)
    keep_as_it_is(held.medium, stack, bench, watch)
    return " All that was on it until now is in a backup of its own."


def _close(job: Job, log: Log, sentence: str) -> str:
    job.status, job.message = Status.TAKEN_BACK, sentence
    with suppress(JobError):
        log.save(job)
    return sentence


def _sentence(job: Job, undone: Undone) -> str:
    """What may be said of a card whose job was taken back: what was compared, and no more."""
    name = job.sheet.target.name if job.sheet.target else "The card"
    if undone == Undone.HAD_NOT_BEGUN:
        return f"This job had not begun to change {name}; there was nothing to take back."
    if undone == Undone.BEFORE:
        return f"This job on {name} was taken back before; only the note of it was missing."
    if all(step.is_undone_exactly for step in job.sheet.steps):
        return f"{name} is as it was before this job, byte for byte where it was changed."
    return f"{name} is as it was before this job: its map, its files and all that was overwritten. Room that was " \
        "free then may hold other bytes."


def _put_back(job: Job, log: Log, held: HeldCard, bench: Bench, opened: Opened, watch: Watch) -> str:
    """Write what a card held before it was written over, or clear it where it was blank."""
    kept, target = job.kept.get(Which.TARGET), held.blocks
    crate = bench.crate_with(kept) if kept else None
    source = opened.add(crate.open(kept)) if crate and kept else None
    job.status, job.body = Status.GOING_BACK, Body("", "", 0)      # what was written is not what is put back
    log.save(job)
    stamp = stamp_of(job.id, job.nonce)
    target.write(0, stamp)
    target.flush()                                        # from here on the card itself says whose it is
    job.seen = ""
    log.save(job)
    log.folder.remove(job.id, JOURNAL)

    def note(body: Body) -> None:
        job.body = body
        log.save(job)

    if source is None or crate is None or kept is None:
        _blank(target, len(stamp), note, watch)
        return f"{target.name} is blank again."
    notes = Notes(stamp, note, crate.digest(kept), crate.named(kept))
    write_image(source, target, watch, verify=True, notes=notes)
    return f"{target.name} holds again what it held before this job."


def _must_be_sound(job: Job, bench: Bench, watch: Watch) -> None:
    """Prove all of the backup that a card is put back from: else neither state of the card could be had.

    Raises CrateError; the job stays as it is.
    """
    backup = job.kept.get(Which.TARGET)
    if not backup:
        return
    crate = bench.crate_with(backup)
    try:
        with crate.open(backup) as source:
            kept, expected = kept_in(source), crate.digest(backup)
            if kept is not None:
                check_chunks(kept.path, watch)
            elif expected and digest(source, source.size, watch, phase="Comparing with its record") != expected:
                raise CrateError(f"{crate.named(backup)} is not as it was recorded, not what was kept.")
    except (CrateError, MediumError) as error:
        raise CrateError(f"{error} The card is not put back from it; nothing was written.") from error


def _had_not_begun_to_write(job: Job, held: HeldCard) -> bool:
    """Whether a whole write was announced, but the card is still the one that was planned for."""
    ref = job.sheet.target
    return (job.has_written and job.status != Status.GOING_BACK and not job.seen and ref is not None
            and not held.stack.folder.has(job.id, JOURNAL) and read_stamp(held.blocks) is None
            and fingerprint(held.blocks).hex() == ref.fingerprint)


def _is_back(job: Job, held: HeldCard, watch: Watch) -> bool:
    """Whether everything was put back, and only the word of it is missing."""
    if job.body.digest == BLANK:
        return has_blank_ends(held.blocks)
    return is_written(held.blocks, job.body, watch)


def _blank(target: Blocks, stamp: int, note: Callable[[Body], None], watch: Watch) -> None:
    """Zeros everywhere, the stamp last."""
    for at in range(0, target.size, 64 << 20):
        first = max(stamp, at)
        target.zero(first, min(at + (64 << 20), target.size) - first)
        watch.progress(f"Clearing {target.name}", at, target.size)
    target.flush()
    note(Body(BLANK, "", target.size))
    target.zero(0, stamp)
    target.flush()


def _to_whole_write(job: Job, held: HeldCard, watch: Watch) -> None:
    """Which steps are done of a job whose card is being written over, or was."""
    first = next(n for n, step in enumerate(job.sheet.steps) if step.writes_all)
    if job.status == Status.GOING_BACK or len(job.done) < first:
        job.done = job.done[:first]
    elif len(job.done) == first and is_written(held.blocks, job.body, watch):
        job.done.append(EARLIER)                          # only the word that it is done was missing
        job.seen = fingerprint(held.blocks).hex()


def _admit_again(job: Job, log: Log, bench: Bench, typed_tag: str, opened: Opened, card: Medium | None) -> HeldCard:
    """The card of a job, locked; whether it is that is compared by the job itself."""
    ref = job.sheet.target
    assert ref is not None, "a job that changed a card has one"
    medium = card or _card_of(job, log, bench, ref)
    tags = {medium.tag, ref.tag}
    blocks = opened.add(guard.admit_again(medium, job.sheet.source, tags, typed_tag))
    held = HeldCard(medium, blocks, Stack(log.folder, log, blocks, State))
    held.stack.settle()
    return held


def _card_of(job: Job, log: Log, bench: Bench, ref: MediumRef) -> Medium:
    """Where the card of a job is now: where it was, else wherever one shows what the job did. Raises MediumError."""
    path = Path(ref.path)
    there = bench.shelf.medium_at(path) if path.exists() else None
    others = [m for m in bench.shelf.media() if m.size == ref.size and (there is None or m.path != there.path)]
    for medium in [there, *others] if there else others:
        if medium.size != ref.size and there is not medium:
            continue
        with suppress(MossError), medium.open() as blocks:
            if Stack(log.folder, log, blocks, State).relation(job.id) == Relation.SAME:
                return medium
    if there is None:
        raise MediumError(f"{ref.name} (tag {ref.tag}) is not there. Put it into a reader; nothing was changed.")
    return there                                          # the guard says why it is not
