"""Carrying out single steps on the blocks that a run or a rehearsal was given."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import Layout
from mosscrate.core.crate.lacking import files_lacking
from mosscrate.core.errors import JobError, MediumError
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.notes import Notes
from mosscrate.core.sheet.running.job import StepDone
from mosscrate.core.sheet.running.opened import Opened
from mosscrate.core.sheet.sheet import JobSheet, MediumRef
from mosscrate.core.sheet.sights import Card
from mosscrate.core.sheet.step import Step, Which
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch


class Changes(Protocol):
    """How the target may be changed: over a journal, noted as a whole write; a rehearsal does neither."""

    def over(self, number: int) -> Blocks:
        """The target for a step that changes it in place. Raises JobError before anything is written."""

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """What has to be noted before the target is written over, by the source as it stands or by a view of it."""

    def kept(self, which: Which, backup: str) -> None:
        """A medium was kept; `backup` is the id of it."""


class OnView:
    """Changes of a view that is thrown away."""

    def __init__(self, view: Blocks) -> None:
        self.view = view

    def over(self, number: int) -> Blocks:
        """See Changes."""
        return self.view

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """See Changes."""
        return Notes()

    def kept(self, which: Which, backup: str) -> None:
        """See Changes."""


@dataclass
class Workshop:
    """The media of a sheet, open.

    Attributes:
        layout: of the target as it was opened, until the first step that changes it.
        kept: "source" and "target", and the ids of what this job kept.
        foreseen: what was decided of a step, by its number, on the card as it was opened.
    """

    bench: Bench
    sheet: JobSheet
    source_medium: Medium | None
    target_medium: Medium | None
    source_blocks: Blocks | None
    target_blocks: Blocks | None
    changes: Changes
    layout: Layout | None = None
    is_rehearsal: bool = False
    kept: dict[str, str] = field(default_factory=dict)
    opened: Opened = field(default_factory=Opened)
    foreseen: Mapping[int, Decision] = field(default_factory=dict)
    number: int = 0
    _source: Card | None = None

    def run(self, number: int, step: Step, watch: Watch) -> StepDone:
        """One step. Raises MossError."""
        watch.step = self.number = number
        begun = time.monotonic()
        done = step.carry_out(self, watch)
        return StepDone(done.sentence, done.bytes, round(time.monotonic() - begun, 3), done.is_proof)

    def over(self) -> Card:
        """See Shop."""
        layout, self.layout = self.layout, None
        return Card(self.changes.over(self.number), self._name(self.sheet.target), layout)

    @property
    def decided(self) -> Decision | None:
        """See Shop."""
        return self.foreseen.get(self.number)

    @property
    def source(self) -> Card | None:
        """See Shop."""
        if self._source is None and self.source_blocks is not None:
            self._source = Card(self.source_blocks, self._name(self.sheet.source))
        return self._source

    @property
    def target(self) -> Card:
        """See Shop."""
        if self.target_blocks is None:
            raise JobError("The sheet has no target.")
        return Card(self.target_blocks, self._name(self.sheet.target))

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """See Shop."""
        self.layout = None
        return self.changes.before_whole_write(as_it_stands=as_it_stands)

    def keep(self, which: Which, watch: Watch) -> Done:
        """See Shop."""
        medium, blocks = ((self.source_medium, self.source_blocks) if which == Which.SOURCE
                          else (self.target_medium, self.target_blocks))
        if medium is None or blocks is None:
            raise JobError(f"The sheet has no {which} to keep.")
        if self.is_rehearsal:
            self.bench.crate.check_room(blocks)
            return Done(f"{medium.name} would be kept; there is room for it.")
        # what is going to be written over comes back to the last byte
        backup = self.bench.crate.keep(card_of(medium), blocks, watch, every_byte=which == Which.TARGET)
        if not backup.record.is_complete:
            places = counted(len(backup.record.unreadable), "place")
            raise MediumError(f"{medium.name} could not be read in {places}, first at byte "
                              f"{backup.record.unreadable[0][0]}. {files_lacking(backup)} What was read is kept as "
                              f"{backup.path.name}, named incomplete; the sheet stops here and the target is "
                              "untouched.", backup.record.unreadable[0][0])
        self.kept[which] = backup.id
        self.changes.kept(which, backup.id)
        if which == Which.SOURCE:                            # what is kept is what is written
            self.source_blocks, self._source = self.opened.add(self.bench.crate.open(backup.id)), None
        return Done(f"{medium.name} kept as {backup.path.name}.", backup.record.length)

    @staticmethod
    def _name(ref: MediumRef | None) -> str:
        return ref.name if ref else ""
