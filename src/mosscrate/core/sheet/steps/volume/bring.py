"""Bring a partition of the source into the free room of the target; onto a blank one as a bare volume."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, ClassVar

import msgspec

from mosscrate.core.blocks import Window
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.transfer import copy_tree, must_fit, plan_passage
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, map_format, write_map
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.anew import Anew, made_anew
from mosscrate.core.sheet.steps.shared.comparing import must_have_arrived
from mosscrate.core.sheet.steps.shared.exact import exactly
from mosscrate.core.sheet.steps.shared.likeness import making_like, with_boot_code
from mosscrate.core.sheet.steps.shared.places import alignment_for, forgo, rebase
from mosscrate.core.sheet.steps.shared.room import LEAST, largest_tables
from mosscrate.core.sheet.steps.shared.whole import must_be_whole
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import (
    edit,
    facts_for,
    facts_of,
    format_for,
    format_of,
    is_resized_anew,
    kind_for,
    kind_name,
    open_volume,
)
from mosscrate.core.watch import Watch

NOT_BLANK = ("The target has no map that a partition could be added to. Put one on it first, or empty it: then the "
             "partition becomes a bare volume, without a map.")


@dataclass(frozen=True)
class Bringing:
    """What was decided: where it goes, and how it is made anew; None where it is copied exactly."""

    partition: Partition
    anew: Anew | None


class CopyPartition(Step, tag="copy partition", frozen=True):
    """See above.

    `kind` "" copies its volume exactly, another one makes a volume of that kind and copies the files.
    `size` None keeps its length; a larger one grows it on arrival.
    """

    source: Annotated[int, asked("Number of the partition of the source.", Form.PARTITION, flag="--partition")]
    kind: Annotated[str, asked("Make it anew as this kind, with its files; copied exactly when left out.")] = ""
    size: Annotated[int | None, asked("Its size there, such as 6GiB; as it is when left out.", Form.SIZE)] = None

    command: ClassVar[str] = "bring"
    begins_anew: ClassVar[bool] = True
    carries_files: ClassVar[bool] = True
    needs_source: ClassVar[bool] = True
    reads_parts: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        if source is None:
            raise FitError("Bringing a partition over needs a source and a target.")
        came = source.look(self.source)
        if came.partition.end > source.size:
            must_be_whole(source.layout)
        if not card.can_be_arranged and not card.is_blank:
            raise FitError(NOT_BLANK)
        _must_be_read_alike(came, self.kind, card.map.kind)
        map_, made = self._placed(came, card.map, card.size)
        is_anew = bool(self.kind) or (came.partition.length != made.length and is_resized_anew(came.variant))
        anew = self._anew(card, source, came, made) if is_anew else None
        look = replace(came, partition=made) if anew is None else anew.look
        if anew is None and came.volume is not None and made.length > came.partition.length:
            if self.size is not None and made.length > came.volume.size and not came.volume.largest:
                raise FitError(f"{came.name} cannot be grown; copy it at its present size.")
            length = min(made.length, max(came.volume.largest, came.volume.size))
            look = replace(look, volume=replace(came.volume, size=length))
        used = came.partition.length if came.volume is None or came.volume.used is None else came.volume.used
        how = f"made anew as {kind_name(anew.making.kind)}" if anew else "exactly"
        is_same = anew is None and made.length == came.partition.length
        return Decision(f"Bring {came.name} over, {how}, {binary(made.length)}", 3 * used, used, map=map_,
                        looks=(look,), brought={made.index: self.source},
                        exact=frozenset({made.index}) if is_same else frozenset(),
                        passage=anew.passage if anew else None, bytes=anew.bytes if anew else {},
                        journal=largest_tables(self.size or 0) + LEAST,
                        chosen=Bringing(made, anew))

    def _anew(self, card: Sight, source: Sight, came: PartitionLook, made: Partition) -> Anew:
        if came.volume is None or came.volume.used is None:
            raise FitError(f"{came.name} cannot be made anew: {came.role_reason}. It can be copied exactly.")
        kind = kind_for(self.kind, made.length) or came.variant
        making = making_like(came.volume, kind, seat=card.seat(made))
        return made_anew(came, made, making, source.files(self.source), card)

    def _placed(self, look: PartitionLook, map: PartitionMap, size: int) -> tuple[PartitionMap, Partition]:
        """The map with the partition that arrives, and that partition. Raises FitError.

        Without a map it becomes the bare volume that fills the medium.
        """
        came, came_kind = look.partition, look.volume.variant if look.volume else ""
        if map.kind == MapKind.NONE:
            if self.size not in (None, size):
                raise FitError("Without a map a volume fills the whole medium; leave its size out.")
            if not self.kind and size < came.length:
                raise FitError(f"An exact copy needs {binary(came.length)}, there are {binary(size)}; it can be made "
                               "anew with its files.")
            return map, Partition(0, 0, size)
        length = max(came.length, _least(self.kind)) if self.size is None else self.size
        if not self.kind and length < came.length:
            raise FitError(f"An exact copy needs {binary(came.length)}; a smaller one can be made anew with its "
                           "files.")
        kind = kind_for(self.kind, length) or came_kind
        if not self.kind:
            unit = edits.room(map, size).unit
            length = -(-length // unit) * unit           # an RDB counts in cylinders: a few more, never fewer
        kind = "" if map.kind == MapKind.RDB and came.environment is not None and not self.kind else kind
        result, made = edits.added(map, size, start=None, length=length, kind=kind, label=came.label,
                                   alignment=alignment_for(size))
        kept = made if self.kind else map_format(map.kind).as_it_was(map, came, made)
        if not self.kind and look.volume is not None and came.environment is None:
            kept = map_format(map.kind).with_block(kept, look.volume.block)
        result = replace(result, partitions=tuple(kept if p.index == made.index else p for p in result.partitions))
        return result, kept

    def settled(self, decided: Decision) -> Step:
        """See Step."""
        made: Bringing = decided.chosen
        anew = made.anew
        return msgspec.structs.replace(self, kind=anew.making.kind if anew and self.kind else self.kind)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """Make the partition, bring the volume, then write the map."""
        assert source is not None, "it was decided"
        assert decided.map is not None, "it was decided"
        made, anew = decided.chosen.partition, decided.chosen.anew
        came, window, new = source.look(self.source), source.window(self.source), card.place(made.start, made.length)
        forgo(card.blocks, made)
        if anew is not None:
            done = _bring_files(window, new, anew, watch)
        else:
            done = exactly(window, new, is_mostly_room=came.volume is not None and came.volume.facts is not None
                            and came.volume.facts.is_mostly_room, watch=watch)
            rebase(card, made)                        # a bare volume starts at 0
            if made.length > came.partition.length and came.volume is not None and came.volume.largest:
                format_of(new).grow(new, made.length, watch, hidden_sectors=made.start // card.sector)
        write_map(card.blocks, decided.map)
        card.blocks.flush()
        how = f"anew as {kind_name(open_volume(new).variant)}" if anew else "exactly"
        where = f"partition {made.index} now" if made.index else "the bare volume on the card now"
        what = came.name if self.source else "The volume"
        return Done(f"{what} of the source is {where}, copied {how}, read back and equal.", done)


def _must_be_read_alike(came: PartitionLook, kind: str, map: MapKind) -> None:
    facts = came.volume.facts if came.volume else None
    if facts is not None and facts.misread and not kind and not facts.stands_under(map):
        raise FitError(f"{came.name} cannot be brought exactly under this map: {facts.misread}. It can be made anew "
                       "with its files.")


def _least(kind: str) -> int:
    facts = facts_of(kind)
    return facts.least if facts else 0


def _bring_files(window: Window, new: Window, anew: Anew, watch: Watch) -> int:
    try:
        old = open_volume(window)
    except FormatError as error:
        raise FitError(f"Its files cannot be read, so it can only be copied exactly: {error}") from error
    tree, kind = old.tree(), anew.making.kind
    entries, passage = tree.entries, plan_passage(tree.entries, facts_for(kind), unread=tree.unread())
    must_fit(passage)
    format_for(kind).make(new, with_boot_code(anew.making, old, window))
    editor = edit(new)
    done = copy_tree(old.read_file, entries, editor, passage, watch)
    editor.commit()
    new.flush()
    new.drop_cache()
    must_have_arrived(old, open_volume(new), passage, watch)
    return done
