"""What a sheet does to the target, before anything is done: layouts, sentences, bytes."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import accumulate

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.sights import Planned, planned
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.room import LEAST, used_of_look

READ_RATE, WRITE_RATE = 60e6, 25e6         # bytes a second of an ordinary card, until a job has measured
MARKED = 1.06                              # marks and heads of a journal on top of what is kept


@dataclass(frozen=True)
class StepLine:
    """A step in words, with the bytes that it will read and write at most; `decided` is None where it does not fit.

    `frees` is how much of what the card held may be free afterwards, at most.
    """

    step: Step
    sentence: str
    reads: int
    writes: int
    note: str = ""
    decided: Decision | None = None
    frees: int = 0

    @property
    def seconds(self) -> float:
        """A first guess."""
        return self.reads / READ_RATE + self.writes / WRITE_RATE


@dataclass(frozen=True)
class Forecast:
    """The target as it will be, every step in words, and what stands against it; `card` has its files, too."""

    layout: Layout | None
    lines: tuple[StepLine, ...]
    problems: tuple[Finding, ...]
    card: Planned | None = None

    @property
    def seconds(self) -> float:
        """Of all steps."""
        return sum(line.seconds for line in self.lines)

    @property
    def settled(self) -> tuple[Step, ...]:
        """The steps with what they left open filled in as it was told."""
        return tuple(line.step if line.decided is None else line.step.settled(line.decided) for line in self.lines)

    @property
    def journal(self) -> int:
        """Bytes that the journal of all steps may have to hold; what stands where an earlier one freed room too."""
        lines = [line for line in self.lines if line.decided is not None and line.step.is_in_place]
        own = sum(LEAST + round(line.decided.journal * MARKED) for line in lines if line.decided is not None)
        freed = accumulate((line.frees for line in lines), initial=0)
        return own + round(MARKED * sum(min(line.writes, room) for line, room in zip(lines, freed, strict=False)))

    def of_first_change(self, first: int) -> dict[int, Decision]:
        """What was decided of the first step that changes the card, by its number, where that serves the run.

        `first` is the number of the first step that was followed.
        """
        found = next(((k, line) for k, line in enumerate(self.lines, first) if line.step.changes), None)
        if found is None or found[1].decided is None or not found[1].step.is_decided_once:
            return {}
        return {found[0]: found[1].decided}

    @property
    def put(self) -> int:
        """Bytes that steps may put into room that is free."""
        return sum(line.writes for line in self.lines if line.decided is not None and line.step.is_in_place)


def forecast(sheet: JobSheet, source: Layout | None, target: Layout | None, *, source_blocks: Blocks | None = None,
             target_blocks: Blocks | None = None) -> Forecast:
    """Follow the steps through the layouts. Steps that do not fit become problems, not errors.

    Args:
        sheet: the steps.
        source: as it is, where the sheet has one.
        target: as it is.
        source_blocks: its bytes, where they are at hand: then names and single files count too.
        target_blocks: the same.
    """
    came = planned(source, sheet.source.name if sheet.source else "the source", source_blocks) if source else None
    card = planned(target, sheet.target.name if sheet.target else "the card", target_blocks) if target else None
    lines, problems = [], []
    for step in sheet.steps:
        try:
            made = decided(step, came, card)
            before, card = card, card.after(made, came) if card is not None and step.changes else card
            frees = max(0, _used(before) - _used(card) + made.writes) if step.is_in_place else 0
            lines.append(StepLine(step, made.sentence, made.reads, made.writes, made.note, made, frees))
        except MossError as error:
            lines.append(StepLine(step, "This step does not fit.", 0, 0))
            problems.append(Finding(Severity.PROBLEM, str(error)))
    return Forecast(card.layout if card else None, tuple(lines), tuple(problems), card)


def _used(card: Planned | None) -> int:
    return 0 if card is None else sum(used_of_look(look) for look in card.layout.partitions)


def decided(step: Step, source: Planned | None, target: Planned | None) -> Decision:
    """What a step will do. Raises FitError where the sheet lacks a medium that it needs."""
    if step.needs_source and source is None:
        raise FitError("This step needs a source.")
    card = target or (None if step.needs_target else source)
    if card is None:
        raise FitError("This step needs a target.")
    return step.decide(card, source)


def after(step: Step, source: Layout, target: Layout) -> Layout:
    """The target's layout once a step is done. Raises FitError."""
    came, card = planned(source, "the source"), planned(target, "the card")
    return card.after(decided(step, came, card), came).layout
