"""A card as a step sees it before it decides: one that is planned, or the card itself."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import ClassVar

import numpy as np

from mosscrate.core.blocks import Blocks, Overlay, Window
from mosscrate.core.blocks.streaming import chunks
from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.straight import SWAPPED, straight
from mosscrate.core.contents.survey import has_blank_ends, look_at, partition_window, survey
from mosscrate.core.errors import FitError, FormatError, MossError, Unsound
from mosscrate.core.images.packing import ends_in_footer
from mosscrate.core.maps import (
    MapKind,
    Partition,
    PartitionMap,
    can_be_arranged,
    edits,
    map_format,
    read_map,
    without_map,
)
from mosscrate.core.maps.mbr_sector import geometry_of
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.volumes import Editor, Facts, Seat, Volume, edit, open_volume


class Sight:
    """What a step may ask. Sizes in bytes."""

    name: str
    is_planned: ClassVar[bool]

    @property
    def size(self) -> int:
        """Of the medium."""
        raise NotImplementedError

    @property
    def sector(self) -> int:
        """Of the medium."""
        raise NotImplementedError

    @property
    def layout(self) -> Layout:
        """All of it."""
        raise NotImplementedError

    @property
    def map(self) -> PartitionMap:
        """Its map."""
        raise NotImplementedError

    @property
    def map_or_none(self) -> PartitionMap:
        """The same; one that cannot be read at all counts as none."""
        return self.map

    @property
    def is_blank(self) -> bool:
        """Whether nothing is on it."""
        raise NotImplementedError

    @property
    def is_swapped(self) -> bool:
        """Whether the two bytes of its words are swapped."""
        raise NotImplementedError

    def must_be_known(self, facts: Facts) -> None:
        """Raises FitError where a volume of a kind would not be known again on it."""
        if self.is_swapped and self.map.kind == MapKind.NONE and not facts.is_known_swapped:
            raise FitError(f"The bytes of {self.name} are swapped: without a map, a volume of {facts.name} would not "
                           "be known again. Swap its bytes first.")

    @property
    def data(self) -> int:
        """What it may hold that is not a hole."""
        raise NotImplementedError

    def look(self, index: int) -> PartitionLook:
        """One partition. Raises FitError where there is none of that number."""
        raise NotImplementedError

    def holds_data_behind(self, size: int) -> bool:
        """Whether something else than zeros lies behind a byte, as far as that is known. Raises MediumError."""
        raise NotImplementedError

    def window(self, index: int) -> Blocks | None:
        """The bytes of a partition as they will be; None where only the layout is known."""
        raise NotImplementedError

    def files(self, index: int) -> Volume | None:
        """A volume with the files that a partition will hold; None where only the layout is known."""
        raise NotImplementedError

    def sound(self, index: int) -> PartitionLook:
        """A partition whose volume may be changed. Raises FitError, Unsound."""
        look = self.look(index)
        if look.volume is not None and look.volume.unsound:
            raise Unsound(f"{look.name} is left as it is: {look.volume.unsound}")
        return look

    def editor(self, index: int) -> Editor | None:
        """An editor for a partition; None where only the layout is known. Raises FitError."""
        window = self.window(index)
        return None if window is None else editor_of(window, self.look(index).name)

    def trial(self, index: int) -> Overlay | None:
        """A view of a partition on which a change may be tried out; None where only the layout is known."""
        window = self.window(index)
        return None if window is None else Overlay(window)

    def likely(self, index: int) -> Overlay | None:
        """A view with the names that a partition will hold, whatever its size is by then."""
        return self.trial(index)

    @property
    def can_be_arranged(self) -> bool:
        """Whether its map can be changed here."""
        return can_be_arranged(self.map)

    @property
    def unit(self) -> int:
        """The grid on which its partitions lie."""
        return edits.room(self.map, self.size).unit if self.can_be_arranged else self.sector

    def outer(self, index: int) -> bool:
        """Whether a partition only holds the logical drives."""
        return map_format(self.map.kind).serves(self.map.partition(index))

    def room_behind(self, index: int) -> int:
        """What a partition could have without moving anything. Raises FitError."""
        partition = self.look(index).partition
        if self.map.kind == MapKind.NONE:
            return self.size
        if self.can_be_arranged:
            return edits.bounds(self.map, index, self.size)[1] - partition.start
        return partition.length

    def seat(self, partition: Partition) -> Seat:
        """Where a partition lies, as its boot sector notes it."""
        if not partition.index:
            return Seat()
        return Seat(partition.start // self.map.sector, geometry_of(self.map) if self.map.heads else None)


@dataclass(frozen=True)
class Planned(Sight):
    """A card as it will be when the steps before have run.

    Attributes:
        seen: the layout.
        name: for sentences.
        bytes: {number: bytes of a partition} as they will be, as far as that is known without doing the work.
        before: the same for partitions of which only the files stay as they are.
        raw: all bytes as they stand before the first step.
        held: bytes that it may hold that are not a hole; None where that is not known.
    """

    is_planned: ClassVar[bool] = True

    seen: Layout
    name: str
    bytes: Mapping[int, Blocks] = field(default_factory=dict)
    before: Mapping[int, Blocks] = field(default_factory=dict)
    raw: Blocks | None = None
    held: int | None = None

    @property
    def size(self) -> int:
        """See Sight."""
        return self.seen.size

    @property
    def sector(self) -> int:
        """See Sight."""
        return self.seen.sector

    @property
    def layout(self) -> Layout:
        """See Sight."""
        return self.seen

    @property
    def map(self) -> PartitionMap:
        """See Sight."""
        return self.seen.as_map

    @property
    def is_blank(self) -> bool:
        """See Sight."""
        return self.seen.is_blank

    @property
    def is_swapped(self) -> bool:
        """See Sight."""
        return self.seen.container == SWAPPED

    @property
    def data(self) -> int:
        """See Sight."""
        return self.seen.size if self.held is None else self.held

    def look(self, index: int) -> PartitionLook:
        """See Sight."""
        try:
            return self.seen.partition(index)
        except KeyError:
            raise FitError(f"There is no partition {index} on this medium.") from None

    def window(self, index: int) -> Blocks | None:
        """See Sight."""
        return self.bytes.get(index)

    def holds_data_behind(self, size: int) -> bool:
        """See Sight."""
        return self.raw is not None and holds_data_behind(self.raw, size)

    def files(self, index: int) -> Volume | None:
        """See Sight."""
        blocks = self.bytes.get(index) or self.before.get(index)
        with suppress(FormatError):
            return None if blocks is None else open_volume(blocks)
        return None

    def likely(self, index: int) -> Overlay | None:
        """See Sight."""
        blocks = self.bytes.get(index) or self.before.get(index)
        return None if blocks is None else Overlay(blocks)

    def after(self, made: Decision, source: Planned | None = None) -> Planned:
        """The card once a step has done what it decided."""
        layout = self._layout_after(made)
        twins = {p.index: self._was(p) for p in layout.partitions}
        fresh = {look.index for look in made.looks}
        stays = {i for i in twins if (made.whole is None and i not in fresh) or i in made.kept}
        bytes_ = {i: self.bytes[twins[i]] for i in stays if twins[i] in self.bytes} | dict(made.bytes)
        before = {i: self.before[twins[i]] for i in stays if twins[i] in self.before}
        for i in made.same_files - made.kept - made.bytes.keys():
            blocks = self.bytes.get(i) or self.before.get(i)
            before |= {i: blocks} if blocks is not None else {}
        for i, came in made.brought.items() if source else ():
            exact = source.bytes.get(came) if source else None
            there = exact or (source.before.get(came) if source else None)
            if exact is not None and i in made.exact:
                bytes_[i] = exact
            elif there is not None:
                before[i] = there
        held = source.data if source is not None and made.brought and made.whole is not None else self.held
        return replace(self, seen=layout, bytes=bytes_, before=before | dict(made.before), held=held)

    def _layout_after(self, made: Decision) -> Layout:
        if made.whole is not None:
            return replace(made.whole, findings=())
        map_ = self.map if made.map is None else made.map
        fresh = {look.index: look for look in made.looks}
        looks = []
        for partition in map_.partitions:
            is_outer = map_.kind == MapKind.MBR and map_format(map_.kind).serves(partition)
            if partition.index in fresh and not is_outer:
                looks.append(replace(fresh[partition.index], partition=partition))
                continue
            twin = self._twin(partition.index, partition.start)
            looks.append(PartitionLook(partition, None, Role.UNKNOWN, "it only holds the logical drives" if is_outer
                                       else "nothing is on it yet") if twin is None else
                         replace(twin, partition=partition))
        return replace(self.seen, map=map_, map_kind=map_.kind, map_id=map_.id, partitions=tuple(looks), findings=(),
                       is_blank=self.seen.is_blank and made.map is None)

    def _twin(self, index: int, start: int) -> PartitionLook | None:
        """What stood at the place of a partition, whatever its number was."""
        same = [p for p in self.seen.partitions if p.partition.start == start]
        return next((p for p in same if p.index == index), same[0] if same else None)

    def _was(self, look: PartitionLook) -> int:
        twin = self._twin(look.index, look.partition.start)
        return look.index if twin is None else twin.index


def planned(layout: Layout, name: str, blocks: Blocks | None = None) -> Planned:
    """A card as it is now; `blocks` are its bytes, where they are at hand. Raises MediumError."""
    found: dict[int, Blocks] = {}
    if blocks is not None:
        whole = straight(blocks)
        for look in layout.partitions:
            with suppress(MossError):
                found[look.index] = partition_window(whole, look.partition)
    held = None if blocks is None else data_of(blocks)
    return Planned(layout, name, found, raw=blocks, held=held)


def holds_data_behind(blocks: Blocks, size: int) -> bool:
    """Whether something else than zeros lies behind a byte. Raises MediumError."""
    behind = blocks.size - size
    pieces = chunks(Window(blocks, size, behind), behind) if behind > 0 else ()
    return any(np.frombuffer(data, np.uint8).any() and not ends_in_footer(blocks, data, size + start, size)
               for chunk in pieces for start, data in chunk.data_runs())


def data_of(blocks: Blocks) -> int:
    """Bytes that are no hole."""
    return sum(extent.length for extent in blocks.extents() if not extent.is_hole)


def editor_of(window: Blocks, name: str) -> Editor:
    """An editor for a volume. Raises FitError."""
    try:
        return edit(window)
    except FormatError as error:
        raise FitError(f"{name} cannot be changed: {error}") from error


class Card(Sight):
    """The medium that a run works on; what was read of it holds for one step.

    Attributes:
        raw: its blocks as they stand.
        blocks: as its machine sees them.
    """

    is_planned = False

    def __init__(self, raw: Blocks, name: str = "", layout: Layout | None = None) -> None:
        """`layout` is that of the same moment, where it is at hand."""
        self.raw, self.blocks = raw, straight(raw)
        self.name = name or raw.name or "the card"
        self._layout = layout
        self._looks = {look.index: look for look in layout.partitions} if layout else dict[int, PartitionLook]()

    @property
    def size(self) -> int:
        """See Sight."""
        return self.raw.size

    @property
    def sector(self) -> int:
        """See Sight."""
        return self.raw.sector

    @cached_property
    def layout(self) -> Layout:
        """See Sight."""
        return self._layout or survey(self.raw)

    @cached_property
    def map(self) -> PartitionMap:
        """See Sight. Raises FormatError."""
        return read_map(self.blocks)

    @property
    def map_or_none(self) -> PartitionMap:
        """The same; one that cannot be read at all counts as none."""
        with suppress(FormatError):
            return self.map
        return without_map(self.size, self.sector)

    @cached_property
    def is_blank(self) -> bool:
        """See Sight."""
        return self.map.kind == MapKind.NONE and has_blank_ends(self.blocks)

    @property
    def is_swapped(self) -> bool:
        """See Sight."""
        return self.blocks.container == SWAPPED

    @property
    def data(self) -> int:
        """See Sight."""
        return data_of(self.raw)

    def look(self, index: int) -> PartitionLook:
        """See Sight."""
        if index not in self._looks:
            self._looks[index] = look_at(self.blocks, self.map, self.map.partition(index))
        return self._looks[index]

    def window(self, index: int) -> Window:
        """See Sight. Raises MediumError."""
        return partition_window(self.blocks, self.map.partition(index))

    def holds_data_behind(self, size: int) -> bool:
        """See Sight."""
        return holds_data_behind(self.raw, size)

    def files(self, index: int) -> Volume | None:
        """See Sight."""
        with suppress(FormatError):
            return open_volume(self.window(index))
        return None

    def place(self, start: int, length: int) -> Window:
        """A stretch of the card, where a partition will be."""
        return Window(self.blocks, start, length)

