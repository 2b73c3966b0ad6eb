"""The jobs of one card, which lie on one another: who may begin, be finished, be taken back, and in what order.

Nothing is written to the card before it was compared: every sector of the job has to be what one of the states has
there that its newest slot allows, and the card seen through the journal has to be the one from before.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from mosscrate.core.blocks.base import Blocks, Extent
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.errors import ChangedSince, GuardRefusal, JobError
from mosscrate.core.sheet.running.journal.journal import Journal, missing
from mosscrate.core.sheet.running.journal.looking import Look, Seen
from mosscrate.core.sheet.running.journal.marks import SECTOR
from mosscrate.core.sheet.running.journal.states import QUIET, AsBefore, misfits, shows, spans_of, taken_back
from mosscrate.core.sheet.running.journal.store import JOURNAL, Folder
from mosscrate.core.sheet.running.journal.structures import Head, Holds, Standing
from mosscrate.core.sheet.running.journal.writing import saved_and_put
from mosscrate.core.sizes import counted, some_of
from mosscrate.core.watch import Watch

NAMED = 3                               # files that a sentence names
MOST_COMPARED = 1 << 30                 # bytes put into free room that undo reads; of more, what was noted of files
LIVE = (Standing.OPEN, Standing.BACK, Standing.DONE)


class Relation(StrEnum):
    """How a card looks to a job."""

    SAME = "same"                       # it is the card of this job, as the job left it
    TOUCHED = "touched"                 # something that the job put there shows on it
    OTHER = "other"


class Undone(StrEnum):
    """What taking back a job came to."""

    NOW = "taken back"
    BEFORE = "taken back before"
    HAD_NOT_BEGUN = "had not begun"


class Records(Protocol):
    """What is noted of jobs beside their journals."""

    def standing(self, job: str) -> Standing | None:
        """What the record says; None where there is none that can be read, or nothing was changed."""

    def mark(self, job: str, standing: Standing) -> None:
        """Note how a job stands. Raises JobError where the disk does not take it."""

    def clear(self, job: str) -> None:
        """Note that a job has changed nothing in place after all. Raises JobError."""

    def above(self, job: str) -> str:
        """The job that lies on one without a journal; "" for none."""

    def cover(self, job: str, above: str) -> None:
        """Note that one lies on a job without a journal."""

    def relation(self, job: str, card: Blocks, seen: Look) -> Relation:
        """How a card looks to a job without a journal."""

    def is_whole(self, job: str) -> bool:
        """Whether a job wrote its card over as a whole, or began to."""

    def is_stamped(self, job: str, card: Blocks) -> bool:
        """Whether the job is writing the card over as a whole, as the card itself says."""

    def written_since(self, job: str, now: Seen, places: Sequence[Extent]) -> tuple[str, ...]:
        """Names of files that are others than the job left them, and of those that lie at places; none if not known."""


@dataclass
class Stack:
    """The jobs in a folder, and the card at hand, which is open and locked."""

    folder: Folder
    records: Records
    card: Blocks
    seen: Look

    def settle(self) -> None:
        """Sync what killed processes may have left in memory; nothing is relied on before."""
        for job in self.folder.jobs():
            if self.folder.has(job, JOURNAL) or self.records.standing(job) not in (Standing.UNDONE, Standing.CLOSED):
                self.folder.sync(job)
        self.card.flush()

    # --- what is known of a job ------------------------------------------------------------------

    def said(self, job: str) -> Standing | None:
        """How a job stands: its slot where there is a journal, else its record; None where nothing is known of it."""
        slot, noted = Journal.slot_of(self.folder, job), self.records.standing(job)
        if slot is None or (slot.standing == Standing.OPEN and noted == Standing.DONE):
            return noted                                  # the record is told after the slot: the newest one is damaged
        return slot.standing

    def relation(self, job: str, now: Seen | None = None) -> Relation:
        """How the card at hand, which is seen as `now`, looks to a job. Raises MediumError."""
        if not self.folder.has(job, JOURNAL) or self.records.is_stamped(job, self.card):
            return self.records.relation(job, self.card, self.seen)
        journal = Journal.glance(self.folder, job)
        if journal is None or journal.head.card_size != self.card.size:
            return Relation.OTHER
        is_whole = len(journal.groups) == journal.slot.groups and journal.file.size >= journal.head.file_size
        if is_whole and not misfits(journal, self.card, journal.slot.low, journal.slot.high, with_free=False) and (
                self._is_as_left(journal, now) if journal.slot.left else self._is_as_before(journal)):
            return Relation.SAME
        return Relation.TOUCHED if shows(journal, self.card) else Relation.OTHER

    def above(self, job: str) -> str:
        """The job that lies on another, from whichever of the two notes it; "" for none."""
        slot = Journal.slot_of(self.folder, job)
        named = slot.above if slot else self.records.above(job)
        if named and self.said(named) not in (Standing.UNDONE, Standing.CLOSED) and not self.had_not_begun(named):
            return named
        on_it = [j for j in self.folder.jobs() if job in self.below(j) and self.said(j) in LIVE
                 and not self.had_not_begun(j)]
        return max(on_it, default="")

    def below(self, job: str) -> tuple[str, ...]:
        """The jobs that one lies on."""
        head = Journal.head_of(self.folder, job)
        return head.below if head else ()

    def all_above(self, job: str) -> list[str]:
        """Every job that lies on one, the uppermost first."""
        found: list[str] = []
        while (job := self.above(job)) and job not in found:
            found.append(job)
        return found[::-1]

    # --- beginning -------------------------------------------------------------------------------

    def must_be_free(self, *, name: str) -> None:
        """Raises GuardRefusal where the card is in the middle of a job."""
        for job in self.folder.jobs():
            standing = self.said(job)
            if standing not in (Standing.OPEN, Standing.BACK) or self.had_not_begun(job):
                continue
            if self.relation(job) != Relation.OTHER:
                raise GuardRefusal(f"{name} is in the middle of an earlier job ({job}, {standing.word}). Finish it or "
                                   "take it back first; nothing was changed.")

    def begin(self, job: str, *, room: int, put: int = 0, first_step: int = 0, now: Seen | None = None) -> Journal:
        """The journal of a new job, noted on those that it lies on. Raises JobError, then nothing was written.

        Args:
            job: its name.
            room: bytes that it needs in any case.
            put: bytes that it may put into room that is free; where that held something when a job below began, what
                stands there is saved as well.
            first_step: of the sheet that it is of.
            now: the card as it is seen now.
        """
        now = now or self.seen(self.card)
        related = {other: self.relation(other, now) for other in self.folder.jobs()
                   if other != job and self.said(other) == Standing.DONE}
        below = tuple(other for other, how in related.items() if how == Relation.SAME and not self.above(other))
        free = now.free
        for other, how in related.items():
            if free and how != Relation.OTHER:
                free &= self._let_go_by(other)
        head = Head(job, 0, self.card.size, self.card.sector, now.digest, below, first_step, free=free)
        again = min(put, (now.free - free).bytes)
        try:
            journal = Journal.create(self.folder, head, room + again + again // SECTOR * 8)
        except JobError as error:
            if again <= room:
                raise
            earlier = ", ".join(j for j, how in related.items() if how != Relation.OTHER)
            raise JobError(f"{error} Most of it is for undoing earlier jobs on this card ({earlier}). Keep the card "
                           "and close those that you will not undo, or free space on this computer's disk. Nothing "
                           "was changed.") from error
        self.records.mark(job, Standing.OPEN)
        for other in below:
            self._cover(other, job)
        return journal

    def _let_go_by(self, job: str) -> Stretches:
        """What a job below leaves to those above: what was free then and is not written by it."""
        if not self.folder.has(job, JOURNAL):
            return Stretches.of([Extent(0, self.card.size)])
        journal = Journal.glance(self.folder, job)
        saved, put = saved_and_put(journal.groups) if journal else (Stretches(), Stretches())
        return journal.head.free - saved - put if journal else Stretches()

    def drop(self, journal: Journal) -> None:
        """Remove the journal of a job that has changed nothing."""
        self._uncover(journal.head)
        self.records.clear(journal.head.job)
        self.folder.remove(journal.head.job, JOURNAL)

    # --- finishing and taking back ---------------------------------------------------------------

    def admit(self, job: str, *, name: str) -> Journal | None:
        """What undo and finish look at before anything is written; the journal where there is one.

        Raises:
            JobError: there is nothing to take back or finish, or the journal is damaged or missing.
            GuardRefusal: another job lies on it, this is another card, or somebody has written to it since.
        """
        if self.records.standing(job) == Standing.UNDONE and not self.folder.has(job, JOURNAL):
            raise JobError("This job was taken back already.")
        if self.said(job) == Standing.CLOSED:
            raise JobError("The card was written over as a whole since; this job cannot be taken back or finished.")
        self._must_be_uppermost(job, name)
        if not self.folder.has(job, JOURNAL) and not self.records.is_whole(job):
            raise missing(job)
        if not self.folder.has(job, JOURNAL) or self.records.is_stamped(job, self.card):
            if self.records.relation(job, self.card, self.seen) != Relation.SAME:
                raise self.changed_since(job, name, [Extent(0, self.card.size)])
            return None
        journal = self._journal_of(job, name)
        if journal.slot.standing != Standing.UNDONE and (wrong := self._wrong(journal)):
            raise self.changed_since(job, name, wrong)
        if journal.slot.standing == Standing.DONE and self.records.written_since(job, self.seen(self.card), ()):
            raise self.changed_since(job, name, ())
        return journal

    def admit_kept(self, job: str, *, name: str) -> Journal:
        """The same for a card that somebody wrote to since, and that is kept as it is now before a byte is written.

        Whether what was there before the job can still be had whole is asked elsewhere. Raises what `admit` does.
        """
        self._must_be_uppermost(job, name)
        journal = self._journal_of(job, name)
        is_swapped = any(x.holds == Holds.SWAP for group in journal.groups for x in group.stretches)
        if journal.slot.standing != Standing.DONE or is_swapped:
            raise GuardRefusal(f"Job {job} can only be undone on {name} as it left it. Nothing was written.")
        return journal

    def _journal_of(self, job: str, name: str) -> Journal:
        journal = Journal.read(self.folder, job)
        if journal.head.card_size != self.card.size:
            raise GuardRefusal(f"{name} is another card than that of job {job}: it has {self.card.size} bytes, that "
                               f"one has {journal.head.card_size}. Nothing was written.")
        return journal

    def changed_since(self, job: str, name: str, wrong: Sequence[Extent]) -> ChangedSince:
        """What is said of a card that is not as a job left it: the files where they are known, else the places."""
        files = self.records.written_since(job, self.seen(self.card), wrong)
        if files:
            were = "file was" if len(files) == 1 else "files were"
            return ChangedSince(
                f"{name} is not as job {job} left it: {len(files)} {were} written since: "
                f"{some_of(files, NAMED)}. Nothing was written to the card. Keep them first: then the job can "
                "be undone anyway.", files)
        where = "its map, files or contents are others" if wrong == [Extent(0, self.card.size)] else _listed(wrong)
        return ChangedSince(f"{name} is not as job {job} left it: {where}. It is another card, or somebody else has "
                            "written to it since. Nothing was written.")

    def undo(self, job: str, watch: Watch, *, name: str) -> Undone:
        """Take back a job that changed the card in place, however far it came. Raises as `admit` and `take_back` do."""
        slot = Journal.slot_of(self.folder, job)
        if slot and slot.standing == Standing.OPEN and slot.groups == 0:
            self._must_be_uppermost(job, name)
            self.drop(Journal.read(self.folder, job))
            self.last_word(job, Standing.UNDONE)
            return Undone.HAD_NOT_BEGUN
        journal = self.admit(job, name=name)
        if journal is None:
            raise missing(job)
        was_undone = journal.slot.standing == Standing.UNDONE
        self.take_back(journal, watch)
        return Undone.BEFORE if was_undone else Undone.NOW

    def take_back(self, journal: Journal, watch: Watch) -> None:
        """Put back what a job has changed, compare it, forget the journal. Raises MediumError, JobError, Stopped."""
        if journal.slot.standing != Standing.UNDONE:
            self.walk_back(journal, 0, Standing.BACK, watch)
            self.card.drop_cache()
            if wrong := misfits(journal, self.card, 0, 0):
                raise JobError("What was put back does not read back as it was: "
                               f"{_listed(wrong)}. The card may be failing. The journal is kept; try again, or put a "
                               "backup onto another card.")
            journal.forget_behind(0)
            journal.put_slot(standing=Standing.UNDONE, low=0, high=0, ends=(), steps=journal.head.first_step)
        self._uncover(journal.head)
        self.last_word(journal.head.job, Standing.UNDONE)

    def go_on(self, job: str, watch: Watch, *, name: str) -> Journal | None:
        """Take a job back to where its last step ended, so that it can run on; its slot says how many steps are done.

        None where it has no journal, or had changed nothing: it begins anew then, over what is there now.
        Raises what `admit` does, MediumError, Stopped.
        """
        journal = self.admit(job, name=name)
        if journal is not None and journal.slot.groups:
            self.to_last_step(journal, watch)
        if journal is not None and not journal.slot.groups:
            self.must_be_free(name=name)
            self.drop(journal)
            return None
        return journal

    def to_last_step(self, journal: Journal, watch: Watch) -> None:
        """Take a job back to where its last step ended."""
        slot, first = journal.slot, journal.head.first_step
        ends = tuple(end for end in slot.ends if end <= slot.low)
        lost = slot.steps - first - len(slot.ends) if ends else 0      # ends that are too far back to be noted
        target = ends[-1] if ends else 0
        self.records.mark(journal.head.job, Standing.OPEN)      # before a slot says so: see `said`
        self.walk_back(journal, target, Standing.BACK, watch)
        journal.forget_behind(target)
        steps = first + lost + len(ends)
        journal.put_slot(standing=Standing.OPEN, low=target, high=target, ends=ends, steps=steps,
                         is_free_unclaimed=journal.head.version < 3)

    def walk_back(self, journal: Journal, target: int, standing: Standing, watch: Watch) -> None:
        """From wherever the card is down to an earlier state, group by group; can be cut anywhere and begun again."""
        low, high = journal.slot.low, journal.slot.high
        total, spans = high, spans_of(journal.groups)
        while high > target:
            low = low if low < high else self._next_below(journal, high, target)
            low = max(low, target)
            journal.put_slot(standing=standing, low=low, high=high)
            for span in spans:
                layers = [layer for layer in span.layers if low < layer.group <= high]
                for piece in span.pieces() if layers else ():
                    now = self.card.read(piece.start, piece.length)
                    old = taken_back(journal, layers, piece.start, now)
                    if old != now:
                        self.card.write(piece.start, old)
            self.card.flush()
            high = low
            journal.put_slot(standing=standing, low=low, high=high)
            watch.progress("Taking back", total - high, total)

    def settle_done(self, journal: Journal, now: Seen | None = None, *, with_free: bool = False,
                    watch: Watch = QUIET) -> str:
        """Compare all that was put over something else with the card itself, and say that the job is done.

        `now` is the card as it is seen now; `with_free` what was put into free room is compared too. Returns why the
        job could not be taken back, "" where it could. Raises JobError, MediumError, Stopped.
        """
        self.card.drop_cache()
        state = journal.slot.high
        if wrong := misfits(journal, self.card, state, state, with_free=with_free, watch=watch):
            raise JobError(f"What was written does not read back: {_listed(wrong)}. The card may be failing; take the "
                           "job back, or put a backup onto another card.")
        journal.put_slot(standing=Standing.DONE, left=(now or self.seen(self.card)).digest)
        journal.release()
        return self._why_not_back(journal)

    def last_word(self, job: str, standing: Standing) -> None:
        """Tell the record, then let the journal go where it is not needed. Without room the slot says it."""
        with suppress(JobError):
            self.records.mark(job, standing)
            if standing != Standing.DONE:
                self.folder.remove(job, JOURNAL)

    # --- writing over as a whole -----------------------------------------------------------------

    def close_all(self, *, but: str) -> None:
        """Before a card is written over: no job that shows on it, nor any below such, can be taken back any more."""
        closed = {job for job in self.folder.jobs() if job != but and self.said(job) in LIVE
                  and self.relation(job) != Relation.OTHER}
        while below := {b for job in closed for b in self.below(job)} - closed - {but}:
            closed |= below
        for job in sorted(closed):
            self.close(job)

    def close(self, job: str) -> None:
        """A job that can neither be taken back nor finished any more."""
        journal = Journal.glance(self.folder, job)
        if journal is not None:
            journal.put_slot(standing=Standing.CLOSED)
        self.records.mark(job, Standing.CLOSED)

    # --- within ----------------------------------------------------------------------------------

    def _why_not_back(self, journal: Journal) -> str:
        """Whether the card, seen through the journal of a job that is done, is the one from before with its files.

        What was let go must be free there as well, by the tables that come back.
        """
        before = self.seen(AsBefore(self.card, journal))
        if before.digest != journal.head.seen:
            return "the card, seen through the journal, is not the one from before"
        saved, put = saved_and_put(journal.groups)
        taken = put - saved - before.free
        return f"{counted(taken.bytes, 'byte')} were overwritten that were in use before" if taken else ""

    def _wrong(self, journal: Journal) -> list[Extent]:
        """Places that no allowed state has; the whole card where its files are not as the job left or found them."""
        slot, put = journal.slot, saved_and_put(journal.groups)[1]
        if wrong := misfits(journal, self.card, slot.low, slot.high, with_free=put.bytes <= MOST_COMPARED):
            return wrong
        return [] if self._is_as_left(journal) and self._is_as_before(journal) else [Extent(0, self.card.size)]

    def _is_as_left(self, journal: Journal, now: Seen | None = None) -> bool:
        """Whether the card is the one that the job left; of one that is not done, nothing is known."""
        slot = journal.slot
        return slot.standing != Standing.DONE or not slot.left or (now or self.seen(self.card)).digest == slot.left

    def _is_as_before(self, journal: Journal) -> bool:
        """Whether the card, seen through the journal, is the one from before the job."""
        return self.seen(AsBefore(self.card, journal)).digest == journal.head.seen

    def _must_be_uppermost(self, job: str, name: str) -> None:
        above = self.all_above(job)
        if above:
            lost = [j for j in above if self.said(j) is None]
            if lost:
                raise GuardRefusal(f"Job {lost[0]} lies on {job}, and what is known of it is lost. {name} stays as it "
                                   "is.")
            them = ", then ".join(above)
            lie = "lies" if len(above) == 1 else "lie"
            raise GuardRefusal(f"{counted(len(above), 'later change')} of {name} {lie} on job {job}. "
                               f"Take back {them} first; nothing was written.")

    def had_not_begun(self, job: str) -> bool:
        """Whether a job has a journal and has changed nothing."""
        slot = Journal.slot_of(self.folder, job)
        return slot is not None and slot.standing == Standing.OPEN and slot.groups == 0

    def _next_below(self, journal: Journal, high: int, target: int) -> int:
        """The state below one; groups that only filled free room are passed over with the next."""
        low = high - 1
        while low > target and all(x.holds == Holds.LET_GO for x in journal.groups[low].stretches):
            low -= 1
        return low

    def _cover(self, job: str, above: str) -> None:
        if self.folder.has(job, JOURNAL):
            journal = Journal.read(self.folder, job)
            journal.put_slot(above=above, is_free_unclaimed=journal.head.version < 3)
        else:
            self.records.cover(job, above)

    def _uncover(self, head: Head) -> None:
        """One that is damaged stays covered, and is refused for that."""
        for other in head.below:
            with suppress(JobError):
                if self.folder.has(other, JOURNAL):
                    journal = Journal.read(self.folder, other)
                    if journal.slot.above == head.job:
                        journal.put_slot(above="")
                elif self.records.above(other) == head.job:
                    self.records.cover(other, "")


def _listed(wrong: Sequence[Extent]) -> str:
    shown = ", ".join(f"{extent.length:,} bytes at {extent.start:,}" for extent in wrong[:3])
    return shown + (" and more places" if len(wrong) > 3 else "")
