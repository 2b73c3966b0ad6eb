"""Let go of the target, so that it may be pulled."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.step import Shop, Step
from mosscrate.core.watch import Watch


class Eject(Step, tag="eject", frozen=True):
    """See above."""

    changes: ClassVar[bool] = False
    is_in_place: ClassVar[bool] = False
    can_be_left_out: ClassVar[bool] = False
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        return Decision(f"Eject {card.name}", 0, 0)

    def carry_out(self, shop: Shop, watch: Watch) -> Done:
        """See Step."""
        shop.target.raw.flush()
        return Done(f"You can take {shop.target.name} out now.")
