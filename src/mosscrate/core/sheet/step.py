"""What every step is: data that decides once, on a layout or on a card, and acts on what it decided."""

from __future__ import annotations

import sys
from enum import StrEnum
from inspect import cleandoc
from typing import ClassVar, Protocol

import msgspec

from mosscrate.core.sheet.asking import asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.notes import Notes
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.watch import Watch


class Which(StrEnum):
    """One of the two media of a sheet."""

    SOURCE = "source"
    TARGET = "target"


class Existing(StrEnum):
    """What happens to a file that is there already."""

    REFUSE = "refuse"
    KEEP_BOTH = "keep both"            # the old one stays under a dated name
    KEEP_DIFFERENT = "differing"       # the same contents stay as they are, else as above
    REPLACE = "replace"


EXISTING = asked("A file that is there already: refuse, keep it under a dated name, the same where it differs, or "
                 "replace it.")


class Shop(Protocol):
    """Where a run or a rehearsal carries out its steps."""

    def over(self) -> Card:
        """The target for a step that changes it in place. Raises JobError before anything is written."""

    @property
    def source(self) -> Card | None:
        """What is written from: the backup that this job made, so that what is kept is what is written."""

    @property
    def target(self) -> Card:
        """The target as it is, not to be changed. Raises JobError where there is none."""

    @property
    def decided(self) -> Decision | None:
        """What was decided of the step that is at work, where the card is still what that was decided on."""

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """What has to be noted before the target is written over, by the source as it stands or by a view of it."""

    def keep(self, which: Which, watch: Watch) -> Done:
        """Keep a medium in the crate."""


class Step(msgspec.Struct, frozen=True):
    """One planned action. `decide` is pure and is the only place that refuses.

    Attributes:
        command: what a shell calls it; "" for steps that only come with others.
        is_about_files: whether a shell has it beside `files`, and runs it at once.
        changes: whether the target is changed.
        is_in_place: whether it is changed over a journal, where it is.
        writes_all: whether it is written over from its first byte.
        reads_parts: whether parts or a view of the source are used, rather than all of it as it stands.
        is_undone_exactly: whether the journal saves all that is overwritten; the others leave out free room.
        does_away: whether something is lost that the card holds.
        begins_anew: whether it takes the place of writing all of a source.
        carries_files: whether files go into another volume, and may lose something on their way.
        is_by_file: whether it reads single files of its source, not whole volumes.
        is_decided_once: whether a decision holds nothing of the view that it was made on, so that it serves the run.
        needs_source, needs_target: whether a sheet has to have one.
        can_be_left_out: whether a sheet makes sense without it.
    """

    command: ClassVar[str] = ""
    is_about_files: ClassVar[bool] = False
    changes: ClassVar[bool] = True
    is_in_place: ClassVar[bool] = True
    writes_all: ClassVar[bool] = False
    reads_parts: ClassVar[bool] = False
    is_undone_exactly: ClassVar[bool] = False
    does_away: ClassVar[bool] = False
    begins_anew: ClassVar[bool] = False
    carries_files: ClassVar[bool] = False
    is_by_file: ClassVar[bool] = False
    is_decided_once: ClassVar[bool] = False
    needs_source: ClassVar[bool] = False
    needs_target: ClassVar[bool] = True
    can_be_left_out: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """What will be done to a card that is seen. Raises FitError with what stands against it."""
        raise NotImplementedError

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """Do exactly that. Raises MossError."""
        raise NotImplementedError

    @classmethod
    def about(cls) -> str:
        """What it does, in a sentence or two: its own words, or those of its file."""
        own = cleandoc(cls.__doc__ or "").partition("\n")[0]
        return (sys.modules[cls.__module__].__doc__ or "").strip() if own.startswith("See above") else own

    def settled(self, decided: Decision) -> Step:
        """The same step with what it left open filled in as it was decided."""
        return self

    def carry_out(self, shop: Shop, watch: Watch) -> Done:
        """Decide on what is there, and do it. Raises MossError; a refusal comes before the first write."""
        card = shop.over()
        return self.act(card, shop.decided or self.decide(card, shop.source), watch, shop.source)
