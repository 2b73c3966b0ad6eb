"""The jobs of one card, which lie on one another: who may begin, be finished, be taken back, and in what order.

Nothing is written to the card before it was compared: every sector of the job has to be what one of the states has
there that its newest slot allows, and the card seen through the journal has to be the one from before.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from mosscrate.core.blocks.base import Blocks, Extent
from mosscrate.core.errors import GuardRefusal, JobError
from mosscrate.core.sheet.running.journal.journal import Journal, missing
from mosscrate.core.sheet.running.journal.states import AsBefore, misfits, shows, spans_of, taken_back
from mosscrate.core.sheet.running.journal.store import JOURNAL, Folder
from mosscrate.core.sheet.running.journal.structures import Head, Holds, Standing
from mosscrate.core.sizes import counted
from mosscrate.core.watch import Watch

Fingerprint = Callable[[Blocks], bytes]
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

    def relation(self, job: str, card: Blocks, seen: Fingerprint) -> Relation:
        """How a card looks to a job without a journal."""

    def is_whole(self, job: str) -> bool:
        """Whether a job wrote its card over as a whole, or began to."""

    def is_stamped(self, job: str, card: Blocks) -> bool:
        """Whether the job is writing the card over as a whole, as the card itself says."""


@dataclass
class Stack:
    """The jobs in a folder, and the card at hand, which is open and locked."""

    folder: Folder
    records: Records
    card: Blocks
    seen: Fingerprint

    def settle(self) -> None:
        """Sync what killed processes may have left in memory; nothing is relied on before."""
        for job in self.folder.jobs():
            if self.folder.has(job, JOURNAL) or self.records.standing(job) not in (Standing.UNDONE, Standing.CLOSED):
                self.folder.sync(job)
        self.card.flush()

    # --- what is known of a job ------------------------------------------------------------------

    def said(self, job: str) -> Standing | None:
        """How a job stands: its slot where there is a journal, else its record; None where nothing is known of it."""
        slot = Journal.slot_of(self.folder, job)
        return slot.standing if slot else self.records.standing(job)

    def relation(self, job: str) -> Relation:
        """How the card at hand looks to a job. Raises MediumError."""
        if not self.folder.has(job, JOURNAL) or self.records.is_stamped(job, self.card):
            return self.records.relation(job, self.card, self.seen)
        journal = Journal.glance(self.folder, job)
        if journal is None or journal.head.card_size != self.card.size:
            return Relation.OTHER
        is_whole = len(journal.groups) == journal.slot.groups
        if is_whole and not self._wrong(journal):
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

    def begin(self, job: str, *, room: int, first_step: int = 0, seen: bytes | None = None) -> Journal:
        """The journal of a new job, noted on those that it lies on. Raises JobError, then nothing was written.

        `seen` is the card's fingerprint, where it is known as it is now.
        """
        below = tuple(other for other in self.folder.jobs() if other != job and self.said(other) == Standing.DONE
                      and not self.above(other) and self.relation(other) == Relation.SAME)
        head = Head(job, 0, self.card.size, self.card.sector, seen or self.seen(self.card), below, first_step)
        journal = Journal.create(self.folder, head, room)
        self.records.mark(job, Standing.OPEN)
        for other in below:
            self._cover(other, job)
        return journal

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
                raise GuardRefusal(f"{name} is not as job {job} left it: it is another card, or somebody else has "
                                   "written to it since. Nothing was written.")
            return None
        journal = Journal.read(self.folder, job)
        if journal.head.card_size != self.card.size:
            raise GuardRefusal(f"{name} is another card than that of job {job}: it has {self.card.size} bytes, that "
                               f"one has {journal.head.card_size}. Nothing was written.")
        if journal.slot.standing != Standing.UNDONE and (wrong := self._wrong(journal)):
            raise GuardRefusal(f"{name} is not as job {job} left it: {self._places(journal, wrong)} It is another "
                               "card, or somebody else has written to it since. Nothing was written.")
        return journal

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
        self.walk_back(journal, target, Standing.BACK, watch)
        journal.forget_behind(target)
        steps = first + lost + len(ends)
        journal.put_slot(standing=Standing.OPEN, low=target, high=target, ends=ends, steps=steps,
                         is_free_unclaimed=True)

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

    def settle_done(self, journal: Journal) -> None:
        """Compare all that was put over something else with the card itself, and say that the job is done."""
        self.card.drop_cache()
        state = journal.slot.high
        if wrong := misfits(journal, self.card, state, state, with_free=False):
            raise JobError(f"What was written does not read back: {_listed(wrong)}. The card may be failing; take the "
                           "job back, or put a backup onto another card.")
        journal.put_slot(standing=Standing.DONE)
        journal.release()

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

    def _wrong(self, journal: Journal) -> list[Extent]:
        """Places that no allowed state has, or the whole card where it is another one behind the job's changes."""
        slot = journal.slot
        if wrong := misfits(journal, self.card, slot.low, slot.high):
            return wrong
        return [] if self._is_as_before(journal) else [Extent(0, self.card.size)]

    def _is_as_before(self, journal: Journal) -> bool:
        """Whether the card, seen through the journal, is the one from before the job."""
        return self.seen(AsBefore(self.card, journal)) == journal.head.seen

    def _places(self, journal: Journal, wrong: list[Extent]) -> str:
        if wrong == [Extent(0, self.card.size)]:
            return "its map, files or contents beside what this job changed are others."
        return f"{_listed(wrong)}."

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
            Journal.read(self.folder, job).put_slot(above=above, is_free_unclaimed=True)
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


def _listed(wrong: list[Extent]) -> str:
    shown = ", ".join(f"{extent.length:,} bytes at {extent.start:,}" for extent in wrong[:3])
    return shown + (" and more places" if len(wrong) > 3 else "")
