"""Make a volume anew and put its files back; also with all the room behind it, or in larger clusters."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, ClassVar

import msgspec

from mosscrate.core.contents.layout import PartitionLook, VolumeLook
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, Partition, edits, write_map
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.anew import Anew, forgo_free, made_anew, put_anew
from mosscrate.core.sheet.steps.shared.likeness import making_that_fits
from mosscrate.core.sheet.steps.shared.room import tables, used_of_look
from mosscrate.core.sizes import binary, precise
from mosscrate.core.volumes import facts_for, facts_of, kind_for, kind_name, open_volume
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Rebuilding:
    """What was decided: where it will be, and the volume."""

    partition: Partition
    anew: Anew


class RebuildPartition(Step, tag="rebuild", frozen=True, omit_defaults=True):
    """See above: `kind` "" and `block` None keep those it has, as far as its size allows."""

    partition: Annotated[int, PARTITION]
    kind: Annotated[str, asked("Another file system; its own when left out.")] = ""
    block: Annotated[int | None, asked("Another size of clusters or blocks, such as 32KiB.", Form.SIZE)] = None
    size: Annotated[int | None, asked("Another size, such as 2GiB.", Form.SIZE)] = None
    fills: Annotated[bool, asked("Give it all the room behind it, as far as its file system goes.",
                                 flag="--fill")] = False

    command: ClassVar[str] = "rebuild"
    carries_files: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.sound(self.partition)
        if look.volume is None or look.volume.used is None:
            raise FitError(f"{look.name} cannot be made anew: {look.role_reason}.")
        length = self.length(card, look)
        is_resized = length != look.partition.length and card.map.kind != MapKind.NONE
        map_ = edits.placed(card.map, self.partition, card.size, length=length) if is_resized else card.map
        kind = kind_for(self.kind, length)
        map_ = edits.retyped(map_, self.partition, kind) if kind else map_
        if kind or self.block:
            map_ = edits.with_block(map_, self.partition, self.block)
        partition = map_.partition(self.partition)
        making = making_that_fits(look.volume, kind or look.variant, length, card.sector, block=self.block or None,
                                  seat=card.seat(partition))
        card.must_be_known(facts_for(making.kind))
        anew = made_anew(look, partition, making, card.files(self.partition), card)
        used, what = used_of_look(look), f" as {kind_name(kind)}" if kind else ""
        grown = f" with {binary(length)}" if is_resized else ""
        return Decision(f"Make {look.name} anew{what}{grown} and put its files back", 2 * used, 2 * used,
                        note=_told(look.volume, anew.look.volume), map=map_,
                        looks=(anew.look,), same_files=frozenset({self.partition}), passage=anew.passage,
                        bytes=anew.bytes, journal=used + 2 * tables(look, max(length, look.partition.length)),
                        chosen=Rebuilding(partition, anew))

    def length(self, card: Sight, look: PartitionLook) -> int:
        """Bytes of its partition afterwards. Raises FitError."""
        if not self.fills and self.size is None:
            return look.partition.length
        room, unit = card.room_behind(self.partition), card.unit
        facts = facts_of(self.kind or look.variant)
        most = room if facts is None or facts.most is None or not self.fills else min(room, facts.most)
        wanted = (most if self.fills or self.size is None else self.size) // unit * unit
        if wanted > room:
            raise FitError(f"{look.name} can have {binary(room)} at most, {binary(wanted)} were asked for. What lies "
                           "behind it can be moved first.")
        if wanted <= 0 or (card.map.kind == MapKind.NONE and wanted != card.size):
            raise FitError(f"{look.name} cannot have {binary(wanted)}: without a map it fills its medium.")
        return wanted

    def settled(self, decided: Decision) -> Step:
        """See Step."""
        made: Rebuilding = decided.chosen
        return self if not self.fills else msgspec.structs.replace(self, fills=False, size=made.partition.length)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        made: Rebuilding = decided.chosen
        anew, length = made.anew, made.partition.length
        window = card.window(self.partition)
        old = open_volume(window)
        room = card.place(made.partition.start, max(length, window.size))
        forgo_free(old, window)
        done = put_anew(old, window, room, anew.making, length, watch)
        if decided.map != card.map:
            write_map(card.blocks, decided.map)
        card.blocks.flush()
        said = "".join(f" {f.sentence}" for f in anew.passage.findings[:3]) if anew.passage else ""
        size = f" with {precise(length)}" if length != window.size else ""
        return Done(f"{card.look(self.partition).name} was made anew as {kind_name(anew.making.kind)}{size} and "
                    f"{binary(done)} of files put back.{decided.noted}{said}", done)


def _told(old: VolumeLook, new: VolumeLook | None) -> str:
    """What is otherwise with the new one, and why."""
    if new is None or new.kind != old.kind or new.block == old.block:
        return ""
    unit = new.facts.unit if new.facts else "blocks"
    because = f": with those of {binary(old.block)} it would end at {binary(old.largest)}" \
        if old.largest and old.largest < new.size else ""
    return f"{unit} of {binary(new.block)}{because}"
