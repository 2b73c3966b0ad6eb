"""Write the map again as it was read, both copies of it."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap
from mosscrate.core.sheet.steps.shared.places import must_be_arranged


class MendMap(ChangesMap, tag="mend map", frozen=True):
    """See above."""

    command: ClassVar[str] = "mend"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        must_be_arranged(card)
        return Decision(f"Write the partition map of {card.name} again, both copies of it", 0, map=card.map)

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return "The partition map was written again."
