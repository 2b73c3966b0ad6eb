"""Move a partition with what is on it."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar

import msgspec

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import FitError
from mosscrate.core.maps import edits, logical, map_format, write_map
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.moving import PIECE, used_of
from mosscrate.core.sheet.steps.shared.places import alignment_for, must_be_arranged, rebase
from mosscrate.core.sheet.steps.shared.room import LEAST, tables, used_of_look
from mosscrate.core.sizes import binary, exact, precise
from mosscrate.core.watch import Watch


class MovePartition(Step, tag="move", frozen=True):
    """See above; `start` None takes it to the end of the room behind it."""

    partition: Annotated[int, PARTITION]
    start: Annotated[int | None, asked("Where it starts then, such as 4GiB; as far back as possible when left out.",
                                       Form.SIZE)] = None

    command: ClassVar[str] = "move"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        if card.outer(self.partition):
            return self._front(card)
        start, used = self._start(card), used_of_look(look) if look.volume is None or look.volume.used is None \
            else look.volume.used
        map_ = edits.placed(card.map, self.partition, card.size, start=start)
        moved = replace(look, partition=map_.partition(self.partition))
        overlap = max(0, look.partition.length - abs(start - look.partition.start))
        rounded = self.start is not None and start != self.start
        return Decision(f"Move {look.name} to {binary(start)}, with all that is on it", used, used, map=map_,
                        note=f"it starts at {exact(start)}, a multiple of {exact(card.unit)}" if rounded else "",
                        looks=(moved,), kept=frozenset({self.partition}),
                        journal=min(overlap, used_of_look(look)) + tables(look, look.partition.length), chosen=start)

    def _front(self, card: Sight) -> Decision:
        """The front of an extended partition alone: its end and its drives stay."""
        outer, drives = card.map.partition(self.partition), logical.drives(card.map)
        low = edits.bounds(card.map, self.partition, card.size)[0]
        high = drives[0].start - card.sector if drives else outer.end - card.sector
        start = high if self.start is None else -(-self.start // card.unit) * card.unit
        if not low <= start <= high:
            raise FitError(f"The extended partition can begin between {binary(low)} and {binary(high)}; "
                           f"{binary(start)} is not there.")
        map_ = edits.placed(card.map, self.partition, card.size, start=start, length=outer.end - start)
        return Decision(f"Let the extended partition begin at {binary(start)}; its drives stay", 0, map=map_,
                        kept=frozenset(p.index for p in drives), journal=LEAST, chosen=start)

    def settled(self, decided: Decision) -> Step:
        """See Step."""
        return msgspec.structs.replace(self, start=decided.chosen)

    def _start(self, card: Sight) -> int:
        """Where it starts then. Raises FitError where that is not free."""
        map_, size = card.map, card.size
        partition = map_.partition(self.partition)
        low, high = edits.bounds(map_, self.partition, size)
        unit = card.unit
        align = unit if map_format(map_.kind).is_on_grid else alignment_for(size)
        start = self.start
        if start is None:
            start = (high - partition.length) // align * align
            if start <= partition.start:
                start = (high - partition.length) // unit * unit
        else:
            start = -(-start // unit) * unit
        if start < low or start + partition.length > high:
            raise FitError(f"Partition {self.partition} can lie between {binary(low)} and {binary(high)}; at "
                           f"{binary(start)} it would run into something else.")
        return start

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """Move what is in use, from the end where it overlaps behind itself, then the map."""
        assert decided.map is not None, "it was decided"
        blocks, old, new = card.blocks, card.map.partition(self.partition), decided.map.partition(self.partition)
        if card.outer(self.partition):
            write_map(blocks, decided.map)
            blocks.flush()
            return Done(f"The extended partition begins at {precise(new.start)} now; its drives stay.")
        if new.start == old.start:
            return Done(f"{card.look(old.index).name} stays where it is.")
        used = used_of(card.place(old.start, old.length))
        # What lies outside of the old place belongs to nobody: a journal need not save it.
        for first, last in ((new.start, min(new.end, old.start)), (max(new.start, old.end), new.end)):
            if last > first:
                blocks.forgo([Extent(first, last - first)])
        moved = _copy_within(blocks, used, old.start, new.start, watch)
        write_map(blocks, decided.map)
        rebase(card, new)
        blocks.flush()
        return Done(f"{card.look(old.index).name} moved from {binary(old.start)} to {precise(new.start)}.",
                    moved)


def _copy_within(blocks: Blocks, extents: tuple[Extent, ...], old: int, new: int, watch: Watch) -> int:
    """Copy stretches to another start of the same medium, in the order that an overlap asks for."""
    pieces = [(e.start + at, min(PIECE, e.length - at)) for e in extents for at in range(0, e.length, PIECE)]
    total, done = sum(length for _, length in pieces), 0
    for start, length in reversed(pieces) if new > old else pieces:
        blocks.write(new + start, blocks.read(old + start, length))
        done += length
        watch.progress("Moving the partition", done, total)
    return done
