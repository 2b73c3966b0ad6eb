"""Shrink one partition in place, with the volume on it."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar

import msgspec

from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.holding import must_hold_together
from mosscrate.core.sheet.steps.shared.resizing import ResizedAnew, resized_anew, tried_in_place
from mosscrate.core.sheet.steps.shared.room import tables, used_of_look
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import format_of
from mosscrate.core.watch import Watch


class ShrinkPartition(Step, tag="shrink", frozen=True):
    """See above; `size` None takes the smallest possible."""

    partition: Annotated[int, PARTITION]
    size: Annotated[int | None, asked("Its new size, such as 2GiB; as small as it can be when left out.",
                                      Form.SIZE)] = None

    command: ClassVar[str] = "shrink"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.sound(self.partition)
        volume, before = look.volume, look.partition.length
        if volume is None or not volume.smallest or volume.facts is None:
            because = volume.smallest_because if volume and volume.smallest_because else look.role_reason
            raise FitError(f"{look.name} cannot be shrunk: {because.rstrip('.')}.")
        wanted = volume.smallest if self.size is None else self.size
        if wanted < volume.smallest:
            raise FitError(f"{look.name} cannot be smaller than {binary(volume.smallest)}: {volume.smallest_because}.")
        length = min(before, -(-wanted // card.unit) * card.unit)
        is_bare = card.map.kind == MapKind.NONE
        map_ = card.map if is_bare else edits.placed(card.map, self.partition, card.size, length=length)
        partition = map_.partition(self.partition)
        shrunk = replace(look, partition=partition, volume=replace(volume, size=min(volume.size, length)))
        anew, need, bytes_ = None, 0, {}
        if volume.facts.is_resized_anew:
            anew = resized_anew(card, look, partition)
            shrunk, need, bytes_ = anew.look, 2 * used_of_look(look), anew.bytes
        else:
            tried = tried_in_place(card, partition, lambda view: format_of(view).shrink(view, length, Watch()))
            shrunk, bytes_ = (tried[0], {self.partition: tried[1]}) if tried else (shrunk, bytes_)
        moved = max(0, (before if volume.used is None else volume.used) - length // 2)
        return Decision(f"Shrink {look.name} from {binary(before)} to {binary(length)}; what lies behind moves forward",
                        moved, moved, map=map_, looks=(shrunk,), same_files=frozenset({self.partition}),
                        passage=anew.passage if anew else None,
                        bytes=bytes_,
                        journal=need + min(used_of_look(look), before - length) + 2 * tables(look, before),
                        chosen=(length, anew))

    def settled(self, decided: Decision) -> Step:
        """See Step."""
        return msgspec.structs.replace(self, size=decided.chosen[0])

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        length: int = decided.chosen[0]
        anew: ResizedAnew | None = decided.chosen[1]
        old, new = card.map.partition(self.partition), decided.map.partition(self.partition)
        if anew is not None:
            return anew.put(card, decided.map, new, watch)
        window = card.window(self.partition)
        format_of(window).shrink(window, length, watch)
        must_hold_together(window, card.look(self.partition).name)
        if card.map.kind != MapKind.NONE:
            write_map(card.blocks, decided.map)
        card.blocks.flush()
        return Done(f"{card.look(self.partition).name} has shrunk from {binary(old.length)} to {binary(length)}.",
                    old.length - length)
