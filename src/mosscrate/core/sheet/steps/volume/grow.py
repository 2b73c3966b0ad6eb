"""Grow one partition of the target in place, with the volume on it."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar

import msgspec

from mosscrate.core.contents.layout import PartitionLook, VolumeLook
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import SMALL, Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.holding import must_hold_together
from mosscrate.core.sheet.steps.shared.resizing import ResizedAnew, resized_anew, tried_in_place
from mosscrate.core.sheet.steps.shared.room import tables, used_of_look
from mosscrate.core.sizes import binary, precise
from mosscrate.core.volumes import format_of
from mosscrate.core.watch import Watch

UNREAD_SHARE = 256                     # one in so many bytes of a volume is a table, at most
SLACK = 500                            # one in so many bytes may be missing from what was asked for without a word


class GrowPartition(Step, tag="grow", frozen=True):
    """See above; `size` None fills the room behind it."""

    partition: Annotated[int, PARTITION]
    size: Annotated[int | None, asked("Its new size, such as 6GiB; all the room behind it when left out.",
                                      Form.SIZE)] = None

    command: ClassVar[str] = "grow"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.sound(self.partition)
        if look.is_unread:
            return self._waiting(card, look)
        volume, length, limit = self.length(card, look)
        is_bare = card.map.kind == MapKind.NONE
        before = volume.size if is_bare else look.partition.length
        map_ = card.map if is_bare else edits.placed(card.map, self.partition, card.size, length=length)
        partition = map_.partition(self.partition)
        grown = replace(look, partition=partition, volume=replace(volume, size=length))
        anew, need, bytes_ = None, 0, {}
        if is_made_anew(volume, length):
            anew = resized_anew(card, look, partition)
            grown, need, bytes_ = anew.look, 2 * used_of_look(look), anew.bytes
        else:
            tried = tried_in_place(card, partition, lambda view: format_of(view).grow(view, length, Watch()))
            grown, bytes_ = (tried[0], {self.partition: tried[1]}) if tried else (grown, bytes_)
        return Decision(f"Grow {look.name} from {binary(before)} to {binary(length)}; its files stay",
                        SMALL, 2 * SMALL, f"stops there: {limit}" if limit else "", map=map_, looks=(grown,),
                        same_files=frozenset({self.partition}), passage=anew.passage if anew else None,
                        bytes=bytes_,
                        journal=need + 4 * tables(look, length), chosen=(before, length, anew))

    def length(self, card: Sight, look: PartitionLook) -> tuple[VolumeLook, int, str]:
        """The volume, the length that its partition gets, and the limit that stands there. Raises FitError."""
        volume, room, unit = look.volume, card.room_behind(self.partition), card.unit
        wanted = (room if self.size is None else self.size) // unit * unit
        if wanted > room:
            raise FitError(f"{look.name} can have {binary(room)} at most, {binary(wanted)} were asked for. What lies "
                           "behind it can be moved first.")
        if volume is None or not volume.largest:
            because = volume.largest_because if volume and volume.largest_because else look.role_reason
            raise FitError(f"{look.name} cannot be grown: {because.rstrip('.')}.")
        if self.size is not None and volume.largest < wanted - wanted // SLACK and _could_have(volume, wanted):
            raise FitError(f"{look.name} ends at {binary(volume.largest)} in place: {volume.largest_because}. Made "
                           f"anew with its files it can have {binary(wanted)}.")
        length = wanted if wanted <= volume.largest else max(volume.largest // unit * unit, look.partition.length)
        limit = volume.largest_because if length < wanted else ""
        if length <= volume.size:
            because = f": {limit}" if limit else ""
            raise FitError(f"{look.name} has {binary(volume.size)} and cannot grow to {binary(length)}{because}.")
        if length - volume.size < volume.block:
            raise FitError(f"{look.name} would gain {length - volume.size} bytes, and its allocation units have "
                           f"{volume.block}: that gives it nothing.")
        return volume, length, limit

    def _waiting(self, card: Sight, look: PartitionLook) -> Decision:
        """What is on it is known once it stands on the card."""
        room, unit = card.room_behind(self.partition), card.unit
        wanted = (room if self.size is None else self.size) // unit * unit
        if not look.partition.length < wanted <= room:
            raise FitError(f"{look.name} has {binary(look.partition.length)} and can have {binary(room)} at most.")
        map_ = edits.placed(card.map, self.partition, card.size, length=wanted)
        grown = replace(look, partition=map_.partition(self.partition))
        before = binary(look.partition.length)
        return Decision(f"Grow {look.name} from {before} to {binary(wanted)}, or as far as it can", SMALL, 2 * SMALL,
                        "what is on it has not been read yet: that is decided on the card", map=map_,
                        looks=(grown,), same_files=frozenset({self.partition}), journal=wanted // UNREAD_SHARE)

    def settled(self, decided: Decision) -> Step:
        """See Step."""
        if decided.chosen is None:
            return self
        return msgspec.structs.replace(self, size=decided.chosen[1])

    @staticmethod
    def _chosen(decided: Decision) -> tuple[int, int, ResizedAnew | None]:
        """Lengths before and after, and how it is made anew."""
        before, length, anew = decided.chosen
        return before, length, anew

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        before, length, anew = self._chosen(decided)
        new = decided.map.partition(self.partition)
        if anew is not None:
            return anew.put(card, decided.map, new, watch)
        window = card.place(new.start, new.length)
        hidden = card.seat(new).first_sector if self.partition else None
        format_of(window).grow(window, length, watch, hidden_sectors=hidden)
        must_hold_together(window, card.look(self.partition).name)
        if card.map.kind != MapKind.NONE:
            write_map(card.blocks, decided.map)
        card.blocks.flush()
        stop = f" It {decided.note}." if decided.note else ""
        return Done(f"{card.look(self.partition).name} has grown from {binary(before)} to {precise(length)}.{stop}",
                    length - before)


def _could_have(volume: VolumeLook, size: int) -> bool:
    """Whether one of its kind could have a size, made anew in larger clusters."""
    facts = volume.facts
    return facts is not None and facts.most is not None and size <= facts.most


def is_made_anew(volume: VolumeLook, length: int) -> bool:
    """Whether the structure of a volume depends on its size: its root lies in the middle, or its sectors grow too."""
    return length > volume.in_place
