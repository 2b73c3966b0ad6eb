"""Set or clear a flag of a partition, or set its type."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.maps import edits, map_format
from mosscrate.core.sheet.asking import PARTITION, asked
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap
from mosscrate.core.sheet.steps.shared.places import must_be_arranged


class FlagPartition(ChangesMap, tag="flag", frozen=True):
    """Set or clear a flag of a partition: "active", "hidden" ..."""

    partition: Annotated[int, PARTITION]
    flag: Annotated[str, asked("active or bootable, hidden, and for a GPT required, read-only …", is_first=True)]
    is_set: Annotated[bool, asked("Clear the flag instead of setting it.", flag="--off")] = True

    command: ClassVar[str] = "flag"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        format = map_format(card.map.kind)
        word = format.flag_word(format.flag_of(self.flag))
        return Decision(f"{'Mark' if self.is_set else 'No longer mark'} {look.name} as {word}", 0, chosen=word,
                        map=edits.flagged(card.map, self.partition, self.flag, is_set=self.is_set))

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return f"{name}: “{decided.chosen}” {'set' if self.is_set else 'cleared'}."


class TypePartition(ChangesMap, tag="type", frozen=True):
    """Set the type of a partition as its map writes it."""

    partition: Annotated[int, PARTITION]
    code: Annotated[str, asked("0x0c for an MBR, a GUID or its name for a GPT.", is_first=True)]

    command: ClassVar[str] = "type"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        return Decision(f"Give {look.name} the type {self.code}", 0,
                        map=edits.typed(card.map, self.partition, self.code))

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return f"{name}: type {self.code}."
