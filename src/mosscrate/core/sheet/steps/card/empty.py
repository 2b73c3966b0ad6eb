"""Clear every map and the signature of every volume, those that the desktop cannot see included."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.straight import SWAPPED
from mosscrate.core.maps import MapKind, without_map
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.places import clear_edges
from mosscrate.core.sheet.steps.shared.room import MIB
from mosscrate.core.watch import Watch


class EmptyCard(Step, tag="empty", frozen=True):
    """See above."""

    command: ClassVar[str] = "empty"
    is_undone_exactly: ClassVar[bool] = True
    does_away: ClassVar[bool] = True
    begins_anew: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        blank = without_map(card.size, card.sector)
        look = PartitionLook(blank.partitions[0], None, Role.UNKNOWN, "nothing is on it")
        layout = card.layout
        bare = replace(layout, map=blank, map_kind=MapKind.NONE, map_id="", partitions=(look,), is_blank=True,
                       trace=None, cut=0, container="raw" if layout.container == SWAPPED else layout.container)
        return Decision(f"Empty {card.name} of every map and every signature", whole=bare,
                        journal=(2 + 2 * len(layout.partitions)) * MIB)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        clear_edges(card, watch)
        card.blocks.flush()
        return Done(f"{card.name} is empty: no map, no partition, no signature.")
