"""Take a partition out of the map; its bytes stay until something else is put there."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.maps import edits
from mosscrate.core.sheet.asking import PARTITION
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap
from mosscrate.core.sheet.steps.shared.places import must_be_arranged


class RemovePartition(ChangesMap, tag="remove", frozen=True):
    """See above."""

    partition: Annotated[int, PARTITION]

    command: ClassVar[str] = "remove"
    is_undone_exactly: ClassVar[bool] = True
    does_away: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        return Decision(f"Take {look.name} out of the map", 0, map=edits.removed(card.map, self.partition))

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return f"{name} is no longer in the map."
