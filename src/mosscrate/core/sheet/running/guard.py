"""The guard: the single door for writing to what a person owns.

It compares the target with what was planned for, refuses what must not be written at all, and
opens the medium only when its tag was typed. No other module opens a medium for writing.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.fingerprint import State
from mosscrate.core.errors import GuardRefusal, InProof, MossError
from mosscrate.core.images import packed_in
from mosscrate.core.sheet.sheet import MediumRef
from mosscrate.core.slots import Medium, Source
from mosscrate.core.slots.files import file_on
from mosscrate.core.slots.service import Service
from mosscrate.core.slots.storage import storage_of
from mosscrate.core.slots.uses import System

CHANGED = ("It is not the card that was planned for, or it was changed since. Plan again with what is there now.",
           "The same card as when planned")


@dataclass(frozen=True)
class Check:
    """One thing the guard looked at. A check that failed cannot be confirmed away."""

    is_good: bool
    sentence: str


def inspect(medium: Medium, planned: MediumRef, source: MediumRef | None) -> tuple[Check, ...]:
    """Everything the guard looks at before it would open the target for writing.

    Args:
        medium: the target as it is now.
        planned: the target as it was when the sheet was made.
        source: what is written from, if anything.
    """
    checks = tuple(_without_contents(medium, source))
    try:
        with medium.open() as blocks:
            medium.must_hold_contents(blocks)
            return (*checks, _answer(not is_as_planned(medium, State(blocks), planned), *CHANGED))
    except InProof as error:
        return (*checks, Check(is_good=False, sentence=str(error)))
    except MossError as error:
        return (*checks, Check(is_good=False, sentence=f"It cannot be read: {error}"))


def admit(medium: Medium, planned: MediumRef, source: MediumRef | None, typed_tag: str) -> State:
    """Open the target for writing, locked, and the card that was planned for: as it stands, on its open blocks.

    Raises GuardRefusal, MediumError; nothing was written then.
    """
    target = admit_again(medium, source, {medium.tag, planned.tag} if medium.key == planned.key else {medium.tag},
                         typed_tag)
    try:
        state = State(target)
        if not is_as_planned(medium, state, planned):
            raise GuardRefusal(f"{medium.name} will not be written. {CHANGED[0]} Nothing was changed.")
    except BaseException:
        target.close()
        raise
    return state


def admit_again(medium: Medium, source: MediumRef | None, tags: set[str], typed_tag: str) -> Blocks:
    """Open a target whose contents an earlier job has changed; whether it is its card, the job itself compares.

    Raises GuardRefusal, MediumError, and InProof where marks of a proof stand in place of its contents.
    """
    blocks = admit_to_prove(medium, source, tags, typed_tag)
    try:
        medium.must_hold_contents(blocks)
    except BaseException:
        blocks.close()
        raise
    blocks.refuse_marks()
    return blocks


def admit_to_prove(medium: Medium, source: MediumRef | None, tags: set[str], typed_tag: str) -> Blocks:
    """Open a card for a proof, or for putting back what one has left. Raises GuardRefusal, MediumError."""
    failed = [c.sentence for c in _without_contents(medium, source) if not c.is_good]
    if failed:
        raise GuardRefusal(f"{medium.name} will not be written. {' '.join(failed)} Nothing was changed.")
    if typed_tag.strip().upper() not in tags:
        given = f"“{typed_tag}” is not it" if typed_tag else "it was not given"
        raise GuardRefusal(f"{medium.name} is only written when its tag is typed: {medium.tag}; {given}. "
                           "Nothing was changed.")
    return medium.open_for_guard()


def is_as_planned(medium: Medium, state: State, planned: MediumRef) -> bool:
    """Whether an open medium is the one that was planned with, and holds what it held then. Raises MediumError."""
    is_same = medium.key == planned.key and (state.blocks.size == planned.size or packed_in(state.blocks) is not None)
    return is_same and state.digest.hex() == planned.fingerprint


def _without_contents(medium: Medium, source: MediumRef | None) -> Iterator[Check]:
    """What can be told of a target before it is opened."""
    system = System(view=Service().view())
    yield _answer(system.is_own(system.number_at(medium.path)), "This is one of the computer's own disks.",
                  "Not one of the computer's own disks")
    use = _use(medium, system)
    yield _answer(bool(use), f"It is in use: {use}.", "Not mounted, not in use")
    yield _answer(medium.is_write_protected, "It is write-protected: by its switch, or by its permissions.",
                  "Not write-protected")
    yield _answer(medium.source == Source.BACKUP, "It is a kept backup. Backups are never written over.",
                  "Not a kept backup")
    if source:
        yield _answer(_is_same(medium, source), "It is the source itself.", "Not the source")


def _use(medium: Medium, system: System) -> str:
    if medium.in_use:
        return medium.in_use
    try:
        return system.of(medium.storage(), medium.path)
    except MossError:
        return ""                                # that it is not there is said when it is opened


def _is_same(medium: Medium, source: MediumRef) -> bool:
    """Whether both stand on one storage, whatever they are called."""
    if source.backup:
        return medium.backup == source.backup
    try:
        return medium.storage().meets(storage_of(file_on(path := Path(source.path)) or path))
    except (OSError, MossError):
        return False


def _answer(failed: bool, bad: str, good: str) -> Check:  # noqa: FBT001 - a verdict, not a mode
    return Check(not failed, bad if failed else good)
