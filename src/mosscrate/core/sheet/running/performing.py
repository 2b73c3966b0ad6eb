"""A step carried out on blocks that need no journal: an image that is being made, a view."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import JobError
from mosscrate.core.sheet.decision import Done
from mosscrate.core.sheet.notes import Notes
from mosscrate.core.sheet.sights import Card
from mosscrate.core.sheet.step import Step, Which
from mosscrate.core.watch import Watch


class Bare:
    """A shop with nothing in it but the blocks; see `step.Shop`."""

    decided = None

    def __init__(self, blocks: Blocks, source: Blocks | None) -> None:
        self.blocks = blocks
        self.source = None if source is None else Card(source)

    def over(self) -> Card:
        """See Shop."""
        return Card(self.blocks)

    @property
    def target(self) -> Card:
        """See Shop."""
        return Card(self.blocks)

    def before_whole_write(self, *, as_it_stands: bool) -> Notes:
        """See Shop."""
        return Notes()

    def keep(self, which: Which, watch: Watch) -> Done:
        """See Shop. Raises JobError: there is no crate."""
        raise JobError("Nothing is kept here.")


def perform(step: Step, blocks: Blocks, source: Blocks | None, watch: Watch) -> Done:
    """Decide and act on the whole medium `blocks`. Raises MossError; a refusal comes before the first write."""
    return step.carry_out(Bare(blocks, source), watch)
