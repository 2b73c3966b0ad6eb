"""Making room for a partition: what lies behind it gives way, no further than it must, in gaps where there are some."""

from __future__ import annotations

from collections.abc import Sequence

from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, Partition, edits, logical, map_format
from mosscrate.core.maps.mbr import PRIMARIES
from mosscrate.core.sheet.steps import AnyStep, GrowPartition, MovePartition
from mosscrate.core.sheet.steps.shared.places import alignment_for
from mosscrate.core.sizes import binary


def growth_with_room(layout: Layout, index: int, size: int | None = None) -> tuple[AnyStep, ...]:
    """Move what lies behind a partition, the last one first, then grow it.

    With a size, the others move as far as that needs; without one, to the end of the card. Raises FitError where even
    that does not make room for it.
    """
    unit = edits.room(layout.as_map, layout.size).unit
    usual = unit if map_format(layout.map_kind).is_on_grid else max(unit, alignment_for(layout.size))
    for align in (usual, unit):                            # as the card likes it, else as close as the map allows
        giving_way = _GivingWay(layout, align)
        short = giving_way.by_all(index) if size is None else giving_way.for_size(index, -(-size // unit) * unit)
        if short <= 0:
            return (*giving_way.moves(), GrowPartition(index, size))
    look = layout.partition(index)
    raise FitError(f"{look.name} cannot have {binary(size or 0)}, also when all that lies behind it gives way: "
                   f"{binary(short)} are missing.")


class _GivingWay:
    """Where everything starts then; `starts` has {number: byte}, of an extended partition where its front will be."""

    def __init__(self, layout: Layout, align: int) -> None:
        self.map, self.size, self.align = layout.as_map, layout.size, align
        self.format = map_format(layout.map_kind)
        self.room = edits.room(self.map, self.size)
        self.outer = logical.container(self.map) if layout.map_kind == MapKind.MBR else None
        self.starts: dict[int, int] = {}

    def moves(self) -> tuple[AnyStep, ...]:
        """The steps, in the order in which each finds its place free."""
        old = {p.index: p.start for p in self.map.partitions}
        order = sorted((i for i, start in self.starts.items() if start > old[i]), key=lambda i: old[i], reverse=True)
        return tuple(MovePartition(i, self.starts[i]) for i in order)

    def for_size(self, index: int, size: int) -> int:
        """Room for `size` bytes; returns how many are missing."""
        me = self.map.partition(index)
        end = self._pushed(self._behind(me), me.start + size)
        if self._is_inside(me) and self.outer is not None:
            beyond = [p for p in self._outermost() if p.start >= self.outer.end]
            end = max(end, self._pushed(beyond, end))
        return end - self.room.end

    def by_all(self, index: int) -> int:
        """All the room that there is; returns 0."""
        me, limit = self.map.partition(index), self.room.end
        if self._is_inside(me) and self.outer is not None:
            limit = self._gathered([p for p in self._outermost() if p.start >= self.outer.end], limit)
        self._gathered(self._behind(me), limit)
        return 0

    def _outermost(self) -> list[Partition]:
        return sorted((p for p in self.map.partitions if not self._is_inside(p)), key=lambda p: p.start)

    def _behind(self, me: Partition) -> list[Partition]:
        beside = logical.drives(self.map) if self._is_inside(me) else self._outermost()
        return [p for p in beside if p.start >= me.end]

    def _is_inside(self, p: Partition) -> bool:
        return self.outer is not None and p.index > PRIMARIES

    def _own(self, p: Partition) -> int:
        return self.format.own(self.map, p)

    def _pushed(self, behind: Sequence[Partition], end: int) -> int:
        """Partitions shifted to behind byte `end`, as far as they are in the way; returns where the last one ends."""
        for p in behind:
            if edits.front(self.map, p) >= end:
                return max(q.end for q in behind)
            start = _up(end + self._own(p), self.align)
            self.starts[p.index] = start
            end = start + p.length
            if self.outer is not None and p.index == self.outer.index:
                end = max(p.end, self._pushed(logical.drives(self.map), start), start + self.align)
        return end

    def _gathered(self, behind: Sequence[Partition], limit: int) -> int:
        """Partitions close to byte `limit`; returns where the first of them begins."""
        for p in reversed(behind):
            if self.outer is not None and p.index == self.outer.index:
                drives = logical.drives(self.map)
                front = self._gathered(drives, limit) - (drives[0].start - self._own(drives[0]) - p.start) \
                    if drives else limit - self.align
                start = max(p.start, front)
            else:
                start = max(p.start, (limit - p.length) // self.align * self.align)
            self.starts[p.index] = start
            limit = start - self._own(p)
        return limit


def _up(value: int, step: int) -> int:
    return -(-value // step) * step
