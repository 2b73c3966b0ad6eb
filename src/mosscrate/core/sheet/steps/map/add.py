"""Make a partition and, unless its kind is empty, a fresh volume on it."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec.structs import replace

from mosscrate.core.contents.fresh import fresh_look
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.places import (
    alignment_for,
    clear_signatures,
    forgo,
    fresh_bytes,
    make_volume,
    must_be_arranged,
)
from mosscrate.core.sheet.steps.shared.room import LEAST
from mosscrate.core.sizes import binary, exact, precise
from mosscrate.core.volumes import Making, kind_for, kind_name
from mosscrate.core.watch import Watch

SLACK = 16 << 10                       # bytes that a volume may leave of its partition without a word


class AddPartition(Step, tag="add", frozen=True):
    """See above.

    `start` and `size` None take the largest free stretch; `alignment` None what the card asks for.
    """

    kind: Annotated[str, asked("fat (by size), fat12 …, exfat, ext2 …, ofs, ffs, gemdos, none.", is_first=True)]
    size: Annotated[int | None, asked("Such as 4GiB; all of the largest free stretch when left out.", Form.SIZE)] = None
    start: Annotated[int | None, asked("Where it starts, such as 1MiB; the largest free stretch when left out.",
                                       Form.SIZE)] = None
    label: Annotated[str, asked("Label of its volume.")] = ""
    is_logical: Annotated[bool, asked("A logical drive of an MBR; in an AHDI map one of the chain.",
                                      flag="--logical")] = False
    block: Annotated[int | None, asked("Size of a cluster or block, such as 32KiB.", Form.SIZE)] = None
    alignment: Annotated[int | None, asked("Start on a multiple of this; 4 MiB on ordinary cards. 32256 is a track; "
                                           "on an MBR it ends on a cylinder then.", Form.SIZE, flag="--align")] = None

    command: ClassVar[str] = "add"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        must_be_arranged(card)
        map_, size = card.map, card.size
        align = self.alignment or alignment_for(size)
        length = self.size
        if length is None:
            _, length = edits.free_room(map_, size, alignment=align, is_logical=self.is_logical)
        kind = kind_for(self.kind, length)
        map_, made = edits.added(map_, size, start=self.start, length=self.size, kind=kind, label=self.label,
                                 is_logical=self.is_logical, alignment=align, cylinder=self._cylinder(card))
        if self.block:
            map_ = edits.with_block(map_, made.index, self.block)
        made = map_.partition(made.index)
        making = Making(kind, self.label, self.block, seat=card.seat(made))
        look = fresh_look(made, making, card.sector)
        what = "logical drive" if self.is_logical else "partition"
        called, fresh = f" {self.label}" if self.label else "", f", {kind_name(kind)}" if kind else ""
        return Decision(f"Make the {what}{called}, {binary(made.length)}{fresh}", 0,
                        note=self._rounding(look, card.unit), map=map_, looks=(look,),
                        bytes=fresh_bytes(card, (look,), (making,)),
                        journal=LEAST, chosen=making)

    def _cylinder(self, card: Sight) -> int:
        """On what it ends: who asks for a track to start on has an old machine, which expects whole cylinders."""
        is_for_old = card.map.kind == MapKind.MBR and self.alignment == edits.TRACK
        return edits.cylinder_of(card.map) if is_for_old else 0

    def _rounding(self, look: PartitionLook, unit: int) -> str:
        """What is otherwise than it was asked for, "" where nothing is."""
        made, volume, said = look.partition, look.volume, []
        if self.start is not None and made.start != self.start:
            said.append(f"it starts at {exact(made.start)}, a multiple of {exact(unit)}")
        if self.size is not None and made.length != self.size:
            said.append(f"it has {exact(made.length)}, a multiple of {exact(unit)}")
        if volume is not None and volume.kind and volume.size < made.length - SLACK:
            said.append(f"its volume ends at {exact(volume.size)}, the most that {kind_name(volume.kind)} has")
        return "; ".join(said)

    def settled(self, decided: Decision) -> Step:
        """See Step."""
        made = decided.looks[0].partition
        return replace(self, kind=decided.chosen.kind, start=made.start, size=made.length)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        made, making = decided.looks[0].partition, decided.chosen
        forgo(card.blocks, made)
        if making.kind:
            make_volume(card, made, making)
        else:
            clear_signatures(card.place(made.start, made.length))
        write_map(card.blocks, decided.map)
        card.blocks.flush()
        fresh = f", {kind_name(making.kind)}" if making.kind else ""
        return Done(f"Partition {made.index} made: {precise(made.length)} from {precise(made.start)} on{fresh}."
                    f"{decided.noted}")
