"""A proof of a card on a bench: through the guard, with what an earlier one left put back first, and noted."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import Layout
from mosscrate.core.errors import CrateError, GuardRefusal, JobError, MossError, Stopped
from mosscrate.core.proof.comparing import Likeness, compare
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import Soundness, read_all
from mosscrate.core.proof.size import (
    PULLED,
    Journal,
    Verdict,
    leave_marks,
    look_after_pulling,
    prove_size,
    put_back,
    take_back,
)
from mosscrate.core.proof.size.journal import PROOFS
from mosscrate.core.proof.size.proving import room_for
from mosscrate.core.proof.size.putting_back import PutBack
from mosscrate.core.proof.size.whole import prove_whole
from mosscrate.core.proof.writing import STRETCH, Wear, write_all
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running import guard
from mosscrate.core.sheet.running.recovering import interruption
from mosscrate.core.sheet.verdicts import Noted, history, note
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.slots.proofs import in_the_middle, unfinished
from mosscrate.core.watch import Watch

__all__ = ["Noted", "history", "note"]   # they lie below, for whoever tells of a card


def prove(medium: Medium, bench: Bench, watch: Watch, *, typed_tag: str) -> Verdict:
    """Prove the size of a card. Raises GuardRefusal, MediumError, JobError, Stopped; everything is put back then."""
    with _admitted(medium, bench, typed_tag) as card:
        journal = _ready(medium, card, bench, watch, room_for(card.size))
        with _ending(medium, card, journal, watch):
            verdict = prove_size(card, journal, watch)
        journal.end()
    note(medium, bench, "size", verdict.sentence(medium.name), is_good=verdict.is_good)
    return verdict


def write(medium: Medium, bench: Bench, layout: Layout | None, watch: Watch, *, typed_tag: str,
          log: DepthLog | None = None) -> Wear:
    """Write all of a card and leave its contents as they were. Raises as `prove`, JobError where it is false."""
    with _admitted(medium, bench, typed_tag) as card:
        journal = _ready(medium, card, bench, watch, max(STRETCH, room_for(card.size)))
        with _ending(medium, card, journal, watch):
            verdict = prove_size(card, journal, watch)
            if not verdict.is_false:
                journal.forget(set())
                wear = write_all(card, journal, layout, watch, log)
        if verdict.is_false:
            journal.end()
            note(medium, bench, "size", verdict.sentence(medium.name), is_good=False)
            raise JobError(f"{verdict.sentence(medium.name)} It is not written through.")
        journal.close() if wear.not_back else journal.end()
    note(medium, bench, "write", wear.sentence(medium.name), is_good=wear.is_sound, rate=wear.writes.rate)
    return wear


def prove_every_block(medium: Medium, bench: Bench, watch: Watch, *, typed_tag: str,
                      log: DepthLog | None = None) -> Verdict:
    """The full proof; all that stands on the card is held in the state folder and put back. Raises as `prove`."""
    with _admitted(medium, bench, typed_tag) as card:
        journal = _ready(medium, card, bench, watch, sum(e.length for e in card.extents() if not e.is_hole))
        with _ending(medium, card, journal, watch):
            verdict = prove_whole(card, journal, watch, nonce=journal.nonce, writes=log or DepthLog(card.size),
                                  reads=DepthLog(card.size))
        journal.end()
    note(medium, bench, "size", verdict.sentence(medium.name), is_good=verdict.is_good)
    return verdict


def give_up_and_prove(medium: Medium, bench: Bench, watch: Watch, *, typed_tag: str,
                      log: DepthLog | None = None) -> Verdict:
    """The full proof; all that stands on the card is lost. Raises as `prove`."""
    with _admitted(medium, bench, typed_tag) as card:
        _must_not_be_interrupted(medium, card, bench, watch)
        try:
            verdict = prove_whole(card, None, watch, nonce=secrets.token_bytes(16), writes=log or DepthLog(card.size),
                                  reads=DepthLog(card.size))
        except Stopped as stopped:
            raise Stopped(f"Stopped. What stood on {medium.name} is lost, as was said before; lay it out anew.") \
                from stopped
    note(medium, bench, "size", verdict.sentence(medium.name), is_good=verdict.is_good)
    return verdict


def _ready(medium: Medium, card: Blocks, bench: Bench, watch: Watch, room: int) -> Journal:
    """What an earlier proof left is put back; a new journal. Raises GuardRefusal, JobError."""
    _must_not_be_interrupted(medium, card, bench, watch)
    return Journal.begin(bench.state, medium.key, medium.name, medium.tag, card.size, room,
                         mark=medium.mark or medium.twin)


def pull(medium: Medium, bench: Bench, watch: Watch, *, typed_tag: str) -> Verdict | str:
    """Leave marks on a card that is to be taken out, or look at them when it is back. Raises as `prove`.

    Returns what to do now, else the verdict.
    """
    with _admitted(medium, bench, typed_tag) as card:
        left = unfinished_on(medium, bench)
        if left is None or left.record.stage != PULLED:
            journal = _ready(medium, card, bench, watch, 0)
            with _ending(medium, card, journal, watch):
                marks = leave_marks(card, journal, watch)
            journal.close()
            return (f"{counted(marks, 'mark')} stand on {medium.name}, and what stood there is kept aside. Take it "
                    "out, put it in again, and ask once more; use it nowhere else meanwhile.")
        with _ending(medium, card, left, watch):
            verdict = look_after_pulling(card, left, watch)
        left.end()
    note(medium, bench, "size", verdict.sentence(medium.name), is_good=verdict.is_good)
    return verdict


def is_out(medium: Medium, bench: Bench) -> bool:
    """Whether marks were left on a card that was to be taken out."""
    left = unfinished_on(medium, bench)
    return left is not None and left.record.stage == PULLED


def _must_not_be_interrupted(medium: Medium, card: Blocks, bench: Bench, watch: Watch) -> None:
    """What an earlier proof left is put back; raises GuardRefusal where a job was interrupted."""
    _put_back_on(medium, card, bench, watch)
    if (stopped := interruption(card, bench)) is not None:
        why = f"{stopped.finding.sentence} {stopped.finding.remedy}"
        raise GuardRefusal(f"{medium.name} will not be written. {why}")


@contextmanager
def _ending(medium: Medium, card: Blocks, journal: Journal, watch: Watch) -> Iterator[None]:
    """When it is stopped everything is put back; whatever else ends it, the journal stays for that."""
    try:
        yield
    except Stopped as stopped_by:
        back = take_back(card, journal, watch)
        said = f"Everything that stood on {medium.name} before its proof is back." if not back.left else \
            back.sentence(medium.name)
        raise Stopped(f"Stopped. {said}") from stopped_by
    except BaseException:
        journal.close()
        raise


def _admitted(medium: Medium, bench: Bench, typed_tag: str) -> Blocks:
    """A card for a proof; one that is in the middle of one may have had another tag then. Raises GuardRefusal."""
    left = unfinished_on(medium, bench)
    tags = {medium.tag, *((left.record.tag,) if left else ())}
    card = guard.admit_to_prove(medium, None, tags, typed_tag)
    card.write_through()
    return card


def unfinished_on(medium: Medium, bench: Bench) -> Journal | None:
    """A proof that was interrupted on a card, by what was noted of it or by the marks that it bears."""
    with suppress(MossError):
        with medium.open() as card:
            found = in_the_middle(bench.state / PROOFS, medium.key, card)
        return Journal(*found) if found else None
    noted = (each for each in unfinished(bench.state / PROOFS) if each[1].card == medium.key)
    return next((Journal(*each) for each in noted if each[1].size == medium.size), None)


def put_back_on(medium: Medium, bench: Bench, watch: Watch, *, typed_tag: str) -> str:
    """Put back what an interrupted proof has left; returns a sentence. Raises GuardRefusal, MediumError."""
    with _admitted(medium, bench, typed_tag) as card:
        back = _put_back_on(medium, card, bench, watch)
        if back is None:
            medium.must_hold_contents(card)              # marks of a proof that is not noted here
            raise JobError(f"No proof of {medium.name} is noted here as interrupted, and no mark of one was met on it. "
                           "Nothing was put back.")
    return back.sentence(medium.name)


def read(medium: Medium, bench: Bench, layout: Layout | None, watch: Watch, log: DepthLog | None = None) -> Soundness:
    """Read every byte of a card and note what came of it. Raises MediumError, Stopped."""
    with medium.open_for_job() as blocks:
        sound = read_all(blocks, layout, watch, log=log)
    with suppress(OSError):
        path = _last_log(medium, bench)
        path.parent.mkdir(parents=True, exist_ok=True)
        sound.log.save(path)
    note(medium, bench, "read", sound.sentence(medium.name), is_good=sound.is_sound, rate=sound.log.rate)
    return sound


def compare_with_kept(medium: Medium, bench: Bench, layout: Layout | None, watch: Watch) -> tuple[Likeness, str]:
    """Compare a card with its newest backup; returns what came of it and a sentence. Raises CrateError, MediumError."""
    backups = bench.crate.backups_of(medium.key)
    if not backups:
        raise CrateError(f"Nothing of {medium.name} is kept in this crate, so there is nothing to compare it with.")
    newest = max(backups, key=lambda backup: backup.kept_at)
    with medium.open_for_job() as card, newest.open() as kept:
        found = compare(card, kept, layout, watch)
    sentence = found.sentence(medium.name, f"{newest.kept_at:%d %b %Y}")
    note(medium, bench, "kept", sentence, is_good=found.is_same)
    return found, sentence


def last_log(medium: Medium, bench: Bench) -> DepthLog | None:
    """Speeds of the last time that all of a card was read."""
    log = DepthLog.load(_last_log(medium, bench))
    return log if log is not None and log.size == medium.size else None


def _last_log(medium: Medium, bench: Bench) -> Path:
    return bench.state / "proved" / f"{medium.key}.npz"


def _put_back_on(medium: Medium, card: Blocks, bench: Bench, watch: Watch) -> PutBack | None:
    found = in_the_middle(bench.state / PROOFS, medium.key, card)
    return put_back(card, Journal(*found), watch) if found else None
