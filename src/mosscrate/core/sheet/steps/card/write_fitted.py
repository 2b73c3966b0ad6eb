"""Write a source that is larger than the target: its last volume is shrunk on a view first."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.blocks import Overlay, Window
from mosscrate.core.contents.straight import straight
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Planned, Sight
from mosscrate.core.sheet.step import Shop, Step
from mosscrate.core.sheet.steps.card.write import at_most, in_use, on_medium, what_of
from mosscrate.core.sheet.steps.shared.whole import must_be_whole, write_image
from mosscrate.core.sheet.steps.volume.shrink import ShrinkPartition
from mosscrate.core.sizes import binary
from mosscrate.core.watch import Watch


class WriteFitted(Step, tag="write fitted", frozen=True):
    """See above."""

    is_in_place: ClassVar[bool] = False
    can_be_left_out: ClassVar[bool] = False
    writes_all: ClassVar[bool] = True
    reads_parts: ClassVar[bool] = True
    does_away: ClassVar[bool] = True
    needs_source: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        if source is None:
            raise FitError("Writing needs a source and a target.")
        layout = source.layout
        must_be_whole(layout)
        last = layout.last()
        if last is None or layout.map_kind not in (MapKind.MBR, MapKind.GPT, MapKind.NONE):
            raise FitError("The source has no partition that could be shrunk to make it fit.")
        end = edits.room(layout.as_map, card.size).end if layout.can_be_arranged else card.size
        shrinking = ShrinkPartition(last.index, end - last.partition.start) if last.partition.end > end else None
        if shrinking is not None:
            made = shrinking.decide(source)
            layout = Planned(layout, source.name).after(made).layout
        indexes = frozenset(p.index for p in layout.partitions)
        how = ", its last volume shrunk until all of it fits" if shrinking is not None else ""
        return Decision(f"Write {what_of(layout)} onto {card.name}{how}",
                        source.size, min(at_most(source), card.size), in_use(source),
                        whole=on_medium(layout, card), brought={i: i for i in indexes},
                        exact=indexes - {last.index}, chosen=shrinking)

    def carry_out(self, shop: Shop, watch: Watch) -> Done:
        """See Step."""
        target, source = shop.target, shop.source
        if source is None:
            raise JobError("The sheet has no source.")
        shrinking: ShrinkPartition | None = self.decide(target, source).chosen
        notes = shop.before_whole_write(as_it_stands=False)
        with Overlay(source.raw) as view:
            if shrinking is not None:
                card = Card(view, source.name)
                shrinking.act(card, shrinking.decide(card), watch)
            short = Window(view, 0, min(target.size, view.size))
            if source.map.kind == MapKind.GPT:
                write_map(straight(short), Card(view).map)
            length = write_image(short, target.raw, watch, verify=False, notes=notes)
        said = "" if shrinking is None else "; the last partition was shrunk to fit"
        return Done(f"{binary(length)} written onto {target.name}{said}.", length)
