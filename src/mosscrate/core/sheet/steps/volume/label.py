"""Give a volume, and its partition where the map has names, another label."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar

from mosscrate.core.errors import FitError
from mosscrate.core.maps import edits, write_map
from mosscrate.core.sheet.asking import PARTITION, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sheet.steps.shared.trying import tried_out
from mosscrate.core.watch import Watch


class LabelPartition(Step, tag="label", frozen=True):
    """See above."""

    partition: Annotated[int, PARTITION]
    label: Annotated[str, asked("The new one.", is_first=True)]

    command: ClassVar[str] = "label"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.sound(self.partition)
        volume = look.volume
        if volume is None or volume.used is None or volume.facts is None:
            raise FitError(f"{look.name} has no volume that could be called anything: {look.role_reason}.")
        label = volume.facts.label_of(self.label) if self.label else ""
        map_ = edits.named(card.map, self.partition, self.label)
        bytes_, editor = {}, None
        if card.is_planned:
            view = card.trial(self.partition)
            if view is not None:
                tried_out(look.partition, view, look.name, lambda e: e.relabel(self.label))
                bytes_ = {self.partition: view}
        else:
            editor = card.editor(self.partition)
            assert editor is not None, "the bytes of a card are at hand"
            editor.relabel(self.label)
        called = replace(look, partition=map_.partition(self.partition), volume=replace(volume, label=label))
        return Decision(f"Call {look.name} “{self.label}”", 0, map=map_, looks=(called,),
                        same_files=frozenset({self.partition}), bytes=bytes_,
                        journal=tables(look, look.partition.length), chosen=editor)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        decided.chosen.commit()
        if decided.map is not None and decided.map != card.map:
            write_map(card.blocks, decided.map)
        card.blocks.flush()
        return Done(f"{card.look(self.partition).name} is called “{self.label}” now.")
