"""Keep a whole medium in the crate, verified by reading back."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.errors import FitError
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.step import Shop, Step, Which
from mosscrate.core.sheet.steps.card.write import at_most, in_use
from mosscrate.core.watch import Watch


class KeepCard(Step, tag="keep", frozen=True):
    """See above."""

    which: Which = Which.SOURCE

    changes: ClassVar[bool] = False
    is_in_place: ClassVar[bool] = False
    is_undone_exactly: ClassVar[bool] = True
    needs_target: ClassVar[bool] = False

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        seen = source if self.which == Which.SOURCE else card
        if seen is None:
            raise FitError(f"The sheet has no {self.which} to keep.")
        held = min(seen.layout.used + seen.layout.unknown, at_most(seen))
        return Decision(f"Keep {seen.name} in the crate and read the backup back", seen.size + held, held, in_use(seen))

    def carry_out(self, shop: Shop, watch: Watch) -> Done:
        """See Step."""
        return shop.keep(self.which, watch)
