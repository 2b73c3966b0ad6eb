"""Carrying out single steps on the blocks that a run or a rehearsal was given."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Protocol

from mosscrate.core.blocks import Blocks, open_blocks
from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.contents import describe, survey
from mosscrate.core.errors import JobError, MediumError
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.changes import Done
from mosscrate.core.sheet.job import StepDone
from mosscrate.core.sheet.opened import Opened
from mosscrate.core.sheet.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import (
    FROM_SOURCE,
    CopyFiles,
    Eject,
    InPlace,
    KeepCard,
    Step,
    Verify,
    Which,
    WriteFitted,
    WriteImage,
)
from mosscrate.core.sheet.verifying import verify_copy
from mosscrate.core.sheet.writing import Notes, write_fitted, write_image
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch


class Changes(Protocol):
    """How the target may be changed: over a journal, noted as a whole write; a rehearsal does neither."""

    def over(self, number: int) -> Blocks:
        """The target for a step that changes it in place. Raises JobError before anything is written."""

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """What has to be noted before the target is written over, by the source as it stands or by a view of it."""

    def kept(self, which: Which, image: str) -> None:
        """A medium was kept."""


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

    def kept(self, which: Which, image: str) -> None:
        """See Changes."""


@dataclass
class Workshop:
    """The media of a sheet, open. `kept` maps "source" and "target" to the images that this job kept."""

    bench: Bench
    sheet: JobSheet
    source: Medium | None
    target: Medium | None
    source_blocks: Blocks | None
    target_blocks: Blocks | None
    changes: Changes
    is_rehearsal: bool = False
    kept: dict[str, str] = field(default_factory=dict)
    opened: Opened = field(default_factory=Opened)

    def run(self, number: int, step: Step, watch: Watch) -> StepDone:
        """One step. Raises MossError."""
        watch.step = number
        begun = time.monotonic()
        sentence, moved = self._carry_out(number, step, watch)
        return StepDone(sentence, moved, round(time.monotonic() - begun, 3))

    def _carry_out(self, number: int, step: Step, watch: Watch) -> tuple[str, int]:
        match step:
            case KeepCard(which=which):
                return self._keep(which, watch)
            case WriteImage(verify=verify, swap=swap):
                target = self._need_target()
                source = SwappedBlocks(self._source()) if swap else self._source()
                notes = self.changes.before_whole_write(as_it_stands=not swap)
                length = write_image(source, target, watch, verify=verify, notes=notes)
                return f"{binary(length)} written onto {target.name}.", length
            case WriteFitted():
                notes = self.changes.before_whole_write(as_it_stands=False)
                done = write_fitted(self._source(), self._need_target(), watch, notes)
                return done.sentence, done.bytes
            case Verify():
                proof = verify_copy(self._source(), self._need_target(), watch)
                return proof.sentence, proof.bytes
            case Eject():
                self._need_target().flush()
                return f"{self._need_target().name} may be pulled.", 0
            case _:
                done = self._in_place(number, step, watch)
                return done.sentence, done.bytes

    def _keep(self, which: Which, watch: Watch) -> tuple[str, int]:
        medium, blocks = ((self.source, self.source_blocks) if which == Which.SOURCE
                          else (self.target, self.target_blocks))
        if medium is None or blocks is None:
            raise JobError(f"The sheet has no {which} to keep.")
        if self.is_rehearsal:
            self.bench.crate.check_room(blocks)
            return f"{medium.name} would be kept; there is room for it.", 0
        backup = self.bench.crate.keep(card_of(medium), blocks, watch, layout=describe(survey(blocks)))
        if not backup.record.is_complete:
            places = counted(len(backup.record.unreadable), "place")
            raise MediumError(f"{medium.name} could not be read in {places}, first at byte "
                              f"{backup.record.unreadable[0][0]}. What was read is kept as {backup.path.name}, named "
                              "incomplete; the sheet stops here and the target is untouched.")
        self.kept[which] = str(backup.path)
        self.changes.kept(which, str(backup.path))
        return f"{medium.name} kept as {backup.path.name}.", backup.record.length

    def _in_place(self, number: int, step: InPlace, watch: Watch) -> Done:
        is_here = isinstance(step, CopyFiles) and self.sheet.source is None
        source = self._source() if isinstance(step, FROM_SOURCE) and not is_here else None
        return perform(step, self.changes.over(number), source, watch)

    def _source(self) -> Blocks:
        """What is written from: the backup that this job made, so that what is kept is what is written."""
        if Which.SOURCE in self.kept:
            return self.opened.add(open_blocks(self.kept[Which.SOURCE]))
        if self.source_blocks is None:
            raise JobError("The sheet has no source.")
        return self.source_blocks

    def _need_target(self) -> Blocks:
        if self.target_blocks is None:
            raise JobError("The sheet has no target.")
        return self.target_blocks
