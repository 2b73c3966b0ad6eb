"""Put an empty partition map in place of whatever is there."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar

from mosscrate.core.contents.straight import map_is_known_swapped
from mosscrate.core.errors import FitError
from mosscrate.core.maps import edits, write_map, written_kinds
from mosscrate.core.sheet.asking import asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.places import clear_edges
from mosscrate.core.sheet.steps.shared.room import MIB
from mosscrate.core.watch import Watch


class NewMap(Step, tag="map", frozen=True):
    """See above: "mbr", "gpt", "rdb" or "ahdi".

    `heads` and `sectors` of a track are the geometry of an RDB, or what CHS fields of an MBR are counted in; 0 takes
    the usual one.
    """

    kind: Annotated[str, asked("The kind of map.", is_first=True, choices=tuple(map(str, written_kinds())))]
    heads: Annotated[int, asked("Heads, for an RDB or an MBR; as its machines count the drive when left out.")] = 0
    sectors: Annotated[int, asked("Sectors of a track.")] = 0

    command: ClassVar[str] = "map"
    does_away: ClassVar[bool] = True
    begins_anew: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        kind = next((k for k in written_kinds() if k == self.kind), None)
        if kind is None:
            raise FitError(f"A map is {' or '.join(f'“{k}”' for k in written_kinds())}, not “{self.kind}”.")
        made = edits.new_map(kind, card.size, card.map_or_none.sector, heads=self.heads, sectors=self.sectors)
        if card.is_swapped and not map_is_known_swapped(made):
            raise FitError(f"The bytes of {card.name} are swapped: an empty {self.kind.upper()} map would not be known "
                           "again on it. Swap its bytes first.")
        layout = replace(card.layout, map=made, map_kind=made.kind, map_id=made.id, partitions=(),
                         is_blank=False, cut=0)
        return Decision(f"Put an empty {self.kind.upper()} map on {card.name}", whole=layout,
                        journal=(2 + 2 * len(card.map_or_none.partitions)) * MIB, chosen=made)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        clear_edges(card, watch)
        write_map(card.blocks, decided.chosen)
        card.blocks.flush()
        return Done(f"{card.name} has an empty {self.kind.upper()} map.")
