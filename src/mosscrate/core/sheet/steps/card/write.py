"""Write the source (its backup, when this sheet made one) onto the target from its first byte."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.step import Shop, Step
from mosscrate.core.sheet.steps.card.swap import swapped_layout
from mosscrate.core.sheet.steps.shared.whole import must_be_whole, write_image
from mosscrate.core.sizes import binary, counted, exact
from mosscrate.core.watch import Watch


class WriteImage(Step, tag="write", frozen=True):
    """See above.

    `verify` reads back at once (a Verify step at the end does more), `swap` exchanges the two bytes of every word on
    the way, `cut` writes what there is of a source that is cut short.
    """

    verify: bool = False
    swap: bool = False
    cut: bool = False

    is_in_place: ClassVar[bool] = False
    can_be_left_out: ClassVar[bool] = False
    writes_all: ClassVar[bool] = True
    does_away: ClassVar[bool] = True
    needs_source: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        if source is None:
            raise FitError("Writing needs a source and a target.")
        if not self.cut:
            must_be_whole(source.layout)
        layout = swapped_layout(source.layout) if self.swap else source.layout
        self._must_fit(card, source)
        note = self._about_what_is_cut(card, source)
        layout = on_medium(layout, card)
        tail = ", the two bytes of every word swapped" if self.swap else ""
        tail += " and read it back" if self.verify else ""
        indexes = frozenset(p.index for p in layout.partitions)
        length = min(source.size, card.size)
        return Decision(f"Write {what_of(layout)} onto {card.name}{tail}", length * (1 + self.verify), at_most(source),
                        "; ".join(filter(None, (in_use(source), note))),
                        whole=layout,
                        brought={i: i for i in indexes}, exact=indexes)

    @staticmethod
    def _must_fit(card: Sight, source: Sight) -> None:
        layout = source.layout
        end = max((p.partition.end for p in layout.partitions), default=0)
        needed = layout.least
        if layout.is_size_known and (end > card.size or layout.map_kind in (MapKind.NONE, MapKind.GPT)):
            needed = layout.size
        if needed > card.size:
            raise FitError(f"The source has {exact(needed)}, the target {exact(card.size)}: "
                           f"{binary(needed - card.size)} too few.")

    @staticmethod
    def _about_what_is_cut(card: Sight, source: Sight) -> str:
        """What becomes of the end of a source that is a little too large. Raises FitError."""
        excess = source.size - card.size
        if excess <= 0:
            return ""
        if not source.layout.is_size_known:
            return "nobody knows yet where it ends: if more than zeros lies behind the end of the card, the job stops"
        if not source.holds_data_behind(card.size):
            return f"the last {binary(excess)} of it are empty and left out"
        raise FitError(f"The source has {exact(source.size)}, the target {exact(card.size)}, and what would be cut "
                       "is not empty, though it belongs to no partition. Take a larger card.")

    def carry_out(self, shop: Shop, watch: Watch) -> Done:
        """See Step."""
        target, source = shop.target, shop.source
        if source is None:
            raise JobError("The sheet has no source.")
        self.decide(target, source)
        blocks = SwappedBlocks(source.raw) if self.swap else source.raw
        notes = shop.before_whole_write(as_it_stands=not self.swap)
        length = write_image(blocks, target.raw, watch, verify=self.verify, notes=notes,
                             length=min(source.size, target.size))               # what is cut was decided
        return Done(f"{binary(length)} written onto {target.name}.", length)


def on_medium(layout: Layout, card: Sight) -> Layout:
    """A layout once it stands on a card of another size. Raises FitError where its volume would not be found."""
    layout = replace(layout, size=card.size, sector=card.sector, packing=None, is_size_known=True, is_read_through=True)
    if layout.map_kind != MapKind.NONE or not layout.partitions:
        return layout
    look = layout.partitions[0]
    volume, facts = look.volume, look.volume.facts if look.volume else None
    most = facts.longest_tail if facts else None
    if volume is not None and facts is not None and most is not None and card.size - volume.size > most:
        raise FitError(f"{look.name} is found by its length: on {card.name}, with {binary(card.size)}, its machine "
                       "would not see it. Bring the partition over instead, so that it is made anew.")
    return layout.with_partition(replace(look, partition=replace(look.partition, length=card.size)))


def in_use(source: Sight) -> str:
    """How much of a source is in use."""
    if any(look.is_unread for look in source.layout.partitions):
        return f"{binary(source.size)} as far as it is known; what is in use has not been read yet"
    layout = source.layout
    size = binary(source.size) if layout.is_size_known else f"{binary(source.size)}, as far as that is known,"
    if layout.unknown and not layout.used:
        return f"nobody knows what of its {size} is in use"
    more = f", and what of {binary(layout.unknown)} more nobody knows" if layout.unknown else ""
    return f"{binary(layout.used)} of {size} in use{more}"


def at_most(source: Sight) -> int:
    """Bytes of a source that may not be zeros, also what is left in its free room: only holes of a file are known."""
    return source.size if source.layout.is_unread else min(source.size, source.data)


def what_of(layout: Layout) -> str:
    """What is written of a source."""
    count = counted(len(layout.partitions), "partition")
    return f"{count}, map and disk id" if layout.map_kind != MapKind.NONE else "all of it"
