"""Make a volume anew and put its files back."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.errors import FitError
from mosscrate.core.maps import edits, write_map
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.anew import Anew, forgo_free, made_anew, put_anew
from mosscrate.core.sheet.steps.shared.likeness import making_like
from mosscrate.core.sheet.steps.shared.room import tables, used_of_look
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import facts_for, kind_for, kind_name, open_volume
from mosscrate.core.watch import Watch


class RebuildPartition(Step, tag="rebuild", frozen=True):
    """See above: `kind` "" and `block` None keep those it has."""

    partition: Annotated[int, PARTITION]
    kind: Annotated[str, asked("Another file system; its own when left out.")] = ""
    block: Annotated[int | None, asked("Another size of clusters or blocks, such as 32KiB.", Form.SIZE)] = None

    command: ClassVar[str] = "rebuild"
    carries_files: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.sound(self.partition)
        if look.volume is None or look.volume.used is None:
            raise FitError(f"{look.name} cannot be made anew: {look.role_reason}.")
        kind = kind_for(self.kind, look.partition.length)
        map_ = edits.retyped(card.map, self.partition, kind) if kind else card.map
        if kind or self.block:
            map_ = edits.with_block(map_, self.partition, self.block)
        partition = map_.partition(self.partition)
        making = making_like(look.volume, kind or look.variant, block=self.block or None,
                             seat=card.seat(partition))
        card.must_be_known(facts_for(making.kind))
        anew = made_anew(look, partition, making, card.files(self.partition), card)
        used, what = used_of_look(look), f" as {kind_name(kind)}" if kind else ""
        return Decision(f"Make {look.name} anew{what} and put its files back", 2 * used, 2 * used, map=map_,
                        looks=(anew.look,), same_files=frozenset({self.partition}), passage=anew.passage,
                        bytes=anew.bytes, journal=used + 2 * tables(look, look.partition.length), chosen=anew)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        anew: Anew = decided.chosen
        window = card.window(self.partition)
        old = open_volume(window)
        forgo_free(old, window)
        done = put_anew(old, window, window, anew.making, window.size, watch)
        if decided.map != card.map:
            write_map(card.blocks, decided.map)
        card.blocks.flush()
        said = "".join(f" {f.sentence}" for f in anew.passage.findings[:3]) if anew.passage else ""
        return Done(f"Partition {self.partition} was made anew as {kind_name(anew.making.kind)} and {binary(done)} of "
                    f"files put back.{said}", done)
