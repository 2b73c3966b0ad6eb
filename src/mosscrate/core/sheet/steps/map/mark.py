"""Set or clear a flag of a partition, or set its type."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.maps import edits
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap
from mosscrate.core.sheet.steps.shared.places import must_be_arranged


class FlagPartition(ChangesMap, tag="flag", frozen=True):
    """Set or clear a flag of a partition: "active", "hidden" ..."""

    partition: int
    flag: str
    is_set: bool = True

    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        return Decision(f"{'Mark' if self.is_set else 'No longer mark'} {look.name} as {self.flag}", 0,
                        map=edits.flagged(card.map, self.partition, self.flag, is_set=self.is_set))

    def said(self, decided: Decision) -> str:
        """See ChangesMap."""
        return f"Partition {self.partition}: “{self.flag}” {'set' if self.is_set else 'cleared'}."


class TypePartition(ChangesMap, tag="type", frozen=True):
    """Set the type of a partition as its map writes it."""

    partition: int
    code: str

    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        return Decision(f"Give {look.name} the type {self.code}", 0,
                        map=edits.typed(card.map, self.partition, self.code))

    def said(self, decided: Decision) -> str:
        """See ChangesMap."""
        return f"Partition {self.partition}: type {self.code}."
