"""How much the journal of a sheet may have to hold: an upper bound, known before anything is written. Bytes."""

from __future__ import annotations

from contextlib import suppress

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.errors import MossError
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.fit import after
from mosscrate.core.sheet.steps import (
    IN_PLACE,
    CopyPartition,
    EmptyCard,
    FormatPartition,
    GrowPartition,
    MovePartition,
    NewMap,
    RebuildPartition,
    ShrinkPartition,
    Step,
    SwapBytes,
)

MIB = 1 << 20
MARKED = 1.06                          # marks and heads on top of what is kept
LEAST = 2 * MIB                        # maps, and what every change writes


def journal_room(steps: tuple[Step, ...], source: Layout | None, target: Layout, *, data: int) -> int:
    """For all steps that change a card in place; `data` is what the card may hold that is not a hole."""
    need = 0
    for step in steps:
        if isinstance(step, IN_PLACE):
            need += LEAST + round(_room(step, target, data) * MARKED)
        with suppress(MossError):
            target = after(step, source, target) or target
    return need


def _room(step: Step, layout: Layout, data: int) -> int:
    look = _look(layout, getattr(step, "partition", -1))
    match step:
        case SwapBytes():
            return data // 24                                # two marks a sector
        case EmptyCard() | NewMap():
            return (2 + 2 * len(layout.partitions)) * MIB
        case MovePartition() if look:
            start = look.partition.start
            with suppress(MossError):
                start = arranging.start_after_move(step, layout.as_map, layout.size)
            overlap = max(0, look.partition.length - abs(start - look.partition.start))
            return min(overlap, _used(look)) + _tables(look, look.partition.length)
        case RebuildPartition() if look:
            return _used(look) + 2 * _tables(look, look.partition.length)
        case GrowPartition(size=size) if look:
            return _used_if_anew(look) + 4 * _tables(look, size or layout.size - look.partition.start)
        case ShrinkPartition(size=size) if look:
            behind = look.partition.length - (size or 0)
            return _used_if_anew(look) + min(_used(look), behind) + 2 * _tables(look, look.partition.length)
        case FormatPartition() if look:
            return _largest_tables(look.partition.length)
        case CopyPartition(size=size):
            return _largest_tables(size or 0)
        case _:
            return _tables(look, look.partition.length) if look else LEAST


def _used(look: PartitionLook) -> int:
    """What a partition may hold."""
    volume = look.volume
    return look.partition.length if volume is None or volume.used is None or not volume.is_clean else volume.used


def _used_if_anew(look: PartitionLook) -> int:
    """A volume that is made anew on its way is overwritten where it is in use."""
    is_anew = look.variant.startswith(("ofs", "ffs", "gemdos"))
    return _used(look) if is_anew else 0


def _tables(look: PartitionLook, length: int) -> int:
    """Tables, bitmaps and folders of a volume of that length."""
    volume = look.volume
    if volume is None or not volume.block:
        return _largest_tables(length)
    entries = max(1, volume.files) * 1024
    if volume.kind.startswith("ext"):
        return length // 48 + length // volume.block // 4 + entries * 4 + LEAST
    return length // volume.block * 8 + length // volume.block // 4 + entries + LEAST


def _largest_tables(length: int) -> int:
    """The same for a volume of whatever kind, in its usual allocation units."""
    return length // 40 + LEAST


def _look(layout: Layout, index: int) -> PartitionLook | None:
    return next((p for p in layout.partitions if p.index == index), None)
