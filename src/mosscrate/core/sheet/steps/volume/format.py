"""Put a fresh volume on a partition; what is on it is lost."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.contents.fresh import fresh_look
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.places import fresh_bytes, make_volume
from mosscrate.core.sheet.steps.shared.room import largest_tables
from mosscrate.core.volumes import Making, facts_for, kind_for, kind_name
from mosscrate.core.watch import Watch


class FormatPartition(Step, tag="format", frozen=True):
    """See above."""

    partition: Annotated[int, PARTITION]
    kind: Annotated[str, asked("The file system.", is_first=True)]
    label: Annotated[str, asked("Label of the volume.")] = ""
    block: Annotated[int | None, asked("Size of a cluster or block, such as 32KiB.", Form.SIZE)] = None

    command: ClassVar[str] = "format"
    does_away: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        if card.outer(self.partition):
            raise FitError(f"{look.name} holds the logical drives; a volume goes onto one of them.")
        kind = kind_for(self.kind, look.partition.length)
        card.must_be_known(facts_for(kind))
        map_ = edits.with_block(edits.retyped(card.map, self.partition, kind), self.partition, self.block)
        partition = map_.partition(self.partition)
        making = Making(kind, self.label, self.block, seat=card.seat(partition))
        fresh = fresh_look(partition, making, card.sector)
        return Decision(f"Put a fresh {kind_name(kind)} volume on {look.name}; what is on it is lost", 0, map=map_,
                        looks=(fresh,), bytes=fresh_bytes(card, (fresh,), (making,)),
                        journal=largest_tables(partition.length), chosen=making)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        make_volume(card, decided.map.partition(self.partition), decided.chosen)
        if card.map.kind != MapKind.NONE:
            write_map(card.blocks, decided.map)
        card.blocks.flush()
        return Done(f"{card.look(self.partition).name} holds a fresh {kind_name(decided.chosen.kind)} volume.")
