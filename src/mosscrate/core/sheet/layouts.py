"""What a layout looks like after a step: the same decisions as in `changes`, on pure data."""

from __future__ import annotations

from dataclasses import replace

from mosscrate.core.contents.layout import Layout, PartitionLook, VolumeLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.straight import SWAPPED
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, mbr, without_map
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.bringing import NOT_BLANK, placed
from mosscrate.core.sheet.steps import (
    CHANGES,
    CHANGES_VOLUME,
    AddPartition,
    BringCode,
    CopyFiles,
    CopyPartition,
    EmptyCard,
    FillWithDrives,
    FormatPartition,
    GrowPartition,
    LabelPartition,
    MovePartition,
    NewMap,
    RebuildBitmap,
    RebuildPartition,
    RemovePartition,
    ShrinkPartition,
    Step,
    SwapBytes,
    WriteFitted,
    WriteImage,
)
from mosscrate.core.sheet.swapping import UNKNOWN
from mosscrate.core.sizes import binary, exact
from mosscrate.core.volumes import longest_name, shown_kind


def after(step: Step, source: Layout | None, target: Layout | None) -> Layout | None:
    """The target's layout once a step is done. Raises FitError."""
    if isinstance(step, WriteImage | WriteFitted):
        if source is None or target is None:
            raise FitError("Writing needs a source and a target.")
        if source.cut and not (isinstance(step, WriteImage) and step.cut):
            raise FitError(is_cut(source))
        if isinstance(step, WriteImage):
            return _written(_swapped(source) if step.swap else source, target)
        return _fitted(source, target)
    if target is None or not isinstance(step, CHANGES):
        return target
    if isinstance(step, CHANGES_VOLUME):
        _must_be_sound(target, step.partition)
    match step:
        case GrowPartition(partition=index, size=size):
            return _grown(target, index, size)
        case ShrinkPartition():
            return _shrunk(target, step)
        case EmptyCard():
            blank = without_map(target.size, target.sector)
            look = PartitionLook(blank.partitions[0], None, Role.UNKNOWN, "nothing is on it")
            return replace(target, map=blank, map_kind=MapKind.NONE, map_id="", partitions=(look,), is_blank=True,
                           findings=())
        case SwapBytes():
            return _swapped(target)
        case NewMap():
            made = arranging.remapped(step, target.as_map, target.size)
            return replace(target, map=made, map_kind=made.kind, map_id=made.id, partitions=(), is_blank=False,
                           findings=())
        case AddPartition():
            map_, made_partition = arranging.added(step, target.as_map, target.size)
            kind = arranging.kind_for(step.kind, made_partition.length)
            return _with_map(target, map_, {made_partition.start: _fresh(made_partition, kind, step.label)})
        case FillWithDrives():
            map_, drives = arranging.drives_that_fit(target.as_map, target.size, step)
            fresh = {d.start: _fresh(d, arranging.kind_for(step.kind, d.length), f"{step.label}{n}")
                     for n, d in enumerate(drives, start=1)}
            return _with_map(target, map_, fresh)
        case FormatPartition(partition=index):
            map_ = arranging.remapped(step, target.as_map, target.size)
            partition = map_.partition(index)
            kind = arranging.kind_for(step.kind, partition.length)
            return _with_map(target, map_, {partition.start: _fresh(partition, kind, step.label)})
        case RebuildPartition(partition=index, kind=kind):
            return _rebuilt(target, step)
        case LabelPartition(partition=index, label=label):
            look = _look(target, index)
            changed = look if look.volume is None else replace(look, volume=replace(look.volume, label=label))
            return _with_map(target.with_partition(changed), arranging.remapped(step, target.as_map, target.size))
        case CopyPartition():
            return _brought(source, target, step)
        case BringCode():
            if source is None:
                raise FitError("Bringing file-system code over needs a source.")
            return _with_map(target, arranging.with_code_of(step, source.as_map, target.as_map)[0], by_index=True)
        case CopyFiles():
            return _filled(source or target, target, step)
        case RebuildBitmap(partition=index):
            look = _look(target, index)
            mended = look if look.volume is None else replace(look, volume=replace(look.volume, unsound=""))
            return target.with_partition(mended)
        case MovePartition() | RemovePartition():
            return _with_map(target, arranging.remapped(step, target.as_map, target.size), by_index=isinstance(
                step, MovePartition))
        case _:
            return _with_map(target, arranging.remapped(step, target.as_map, target.size), by_index=True)


def _must_be_sound(target: Layout, index: int) -> None:
    """The run asks the volume itself; here it is told before."""
    look = _look(target, index)
    if look.volume is not None and look.volume.unsound:
        raise FitError(f"{look.name} is left as it is: {look.volume.unsound}")


def is_cut(source: Layout) -> str:
    """What is said of a source that ends before its own contents do."""
    return (f"The source is cut short: it has {exact(source.size)}, its own contents count on {binary(source.cut)} "
            "more. It may be one part of several, or a broken download. Nothing was written.")


def _swapped(target: Layout) -> Layout:
    """The same in the other byte order; what is on it has to be known again afterwards."""
    bare = target.partitions[0].volume if target.map_kind == MapKind.NONE and target.partitions else None
    is_known = not target.is_closed if target.map_kind != MapKind.NONE else \
        bare is not None and bare.kind.startswith(("fat", "exfat", "gemdos", "ofs", "ffs"))
    if not is_known:
        raise FitError(UNKNOWN)
    return replace(target, container="raw" if target.container == SWAPPED else SWAPPED)


def room_behind(layout: Layout, index: int) -> int:
    """Bytes a partition could have without moving anything. Raises FitError."""
    partition = _look(layout, index).partition
    if layout.map_kind == MapKind.NONE:
        return layout.size
    if layout.can_be_arranged:
        return edits.bounds(layout.as_map, index, layout.size)[1] - partition.start
    return partition.length


def grown_length(layout: Layout, index: int, size: int | None) -> tuple[int, str]:
    """The length a partition will get, and the limit that stands there. Raises FitError."""
    room = room_behind(layout, index)
    look = layout.partition(index)
    unit = edits.room(layout.as_map, layout.size).unit if layout.can_be_arranged else layout.sector
    wanted = (room if size is None else size) // unit * unit
    if wanted > room:
        raise FitError(f"{look.name} can have {binary(room)} at most, {binary(wanted)} were asked for.")
    if look.volume is None or not look.volume.largest:
        because = look.volume.largest_because if look.volume and look.volume.largest_because else look.role_reason
        raise FitError(f"{look.name} cannot be grown: {because.rstrip('.')}.")
    if wanted > look.volume.largest:
        return max(look.volume.largest, look.partition.length), look.volume.largest_because
    return wanted, ""


def shrunk_length(layout: Layout, step: ShrinkPartition) -> int:
    """The length a partition will get. Raises FitError."""
    look = _look(layout, step.partition)
    if look.volume is None or not look.volume.smallest:
        because = look.volume.smallest_because if look.volume and look.volume.smallest_because else look.role_reason
        raise FitError(f"{look.name} cannot be shrunk: {because.rstrip('.')}.")
    wanted = look.volume.smallest if step.size is None else step.size
    if wanted < look.volume.smallest:
        raise FitError(f"{look.name} cannot be smaller than {binary(look.volume.smallest)}: "
                       f"{look.volume.smallest_because}.")
    unit = edits.room(layout.as_map, layout.size).unit if layout.can_be_arranged else layout.sector
    return min(look.partition.length, -(-wanted // unit) * unit)


def _written(source: Layout, target: Layout) -> Layout:
    end = max((p.partition.end for p in source.partitions), default=0)
    if source.size > target.size and (end > target.size or source.map_kind in (MapKind.NONE, MapKind.GPT)):
        raise FitError(f"The source has {exact(source.size)}, the target {exact(target.size)}: "
                       f"{binary(source.size - target.size)} too few.")
    return replace(source, size=target.size, sector=target.sector, findings=())


def _fitted(source: Layout, target: Layout) -> Layout:
    last = source.last()
    if last is None:
        raise FitError("The source has no partition that could be shrunk to make it fit.")
    end = edits.room(source.as_map, target.size).end if source.can_be_arranged else target.size
    if last.partition.end > end:
        source = _shrunk(source, ShrinkPartition(last.index, end - last.partition.start))
    return replace(source, size=target.size, sector=target.sector, findings=())


def _grown(layout: Layout, index: int, size: int | None) -> Layout:
    length, _ = grown_length(layout, index, size)
    look = layout.partition(index)
    assert look.volume is not None, "grown_length looked"
    if length <= look.volume.size:
        raise FitError(f"{look.name} has {binary(look.volume.size)} and cannot grow to {binary(length)}.")
    volume = replace(look.volume, size=length)
    layout = replace(layout, findings=()).with_partition(replace(look, volume=volume))
    if layout.map_kind == MapKind.NONE:
        changed = replace(look.partition, length=length)
        return layout.with_partition(replace(look, partition=changed, volume=volume))
    return _with_map(layout, edits.placed(layout.as_map, index, layout.size, length=length), by_index=True)


def _shrunk(layout: Layout, step: ShrinkPartition) -> Layout:
    length = shrunk_length(layout, step)
    look = layout.partition(step.partition)
    assert look.volume is not None, "shrunk_length looked"
    volume = replace(look.volume, size=min(look.volume.size, length))
    layout = replace(layout, findings=()).with_partition(replace(look, volume=volume))
    if layout.map_kind == MapKind.NONE:
        return layout
    return _with_map(layout, edits.placed(layout.as_map, step.partition, layout.size, length=length), by_index=True)


def _rebuilt(layout: Layout, step: RebuildPartition) -> Layout:
    look = _look(layout, step.partition)
    if look.volume is None or look.volume.used is None:
        raise FitError(f"{look.name} cannot be made anew: {look.role_reason}.")
    kind = arranging.kind_for(step.kind, look.partition.length)
    if look.volume.used > look.partition.length:
        raise FitError(f"The files of {look.name} do not fit into it once it is made anew.")
    volume = replace(_as_kind(look.volume, kind), size=look.partition.length, block=step.block or look.volume.block)
    return _with_map(layout.with_partition(replace(look, volume=volume)),
                     arranging.remapped(step, layout.as_map, layout.size), by_index=True)


def _brought(source: Layout | None, target: Layout, step: CopyPartition) -> Layout:
    if source is None:
        raise FitError("Bringing a partition over needs a source.")
    came = _look(source, step.source)
    if came.partition.end > source.size:
        raise FitError(is_cut(source))
    if not target.can_be_arranged and not target.is_blank:
        raise FitError(NOT_BLANK)
    map_, made = placed(step, came.partition, came.volume.kind if came.volume else "", target.as_map, target.size)
    if step.kind and (came.volume is None or came.volume.used is None):
        raise FitError(f"{came.name} cannot be made anew: {came.role_reason}. It can be copied exactly.")
    volume = came.volume
    if volume is not None:
        kind = arranging.kind_for(step.kind, made.length)
        if step.kind and volume.used is not None and volume.used > made.length:
            raise FitError(f"The files of {came.name} ({binary(volume.used)}) do not fit into {binary(made.length)}.")
        if not step.kind and made.length > came.partition.length and not volume.largest:
            raise FitError(f"{came.name} cannot be grown; bring it over in its own length.")
        volume = replace(_as_kind(volume, kind), size=made.length if made.length > volume.size else volume.size)
    return _with_map(target, map_, {made.start: replace(came, volume=volume)})


def _filled(source: Layout, target: Layout, step: CopyFiles) -> Layout:
    look, came = _look(target, step.partition), _look(source, step.source)
    if look.volume is None or came.volume is None or came.volume.used is None:
        raise FitError("Copying files needs a volume to take them from and one to put them into.")
    if source is target and step.source == step.partition:
        raise FitError(f"Files of {look.name} are on it already; they can be copied to another partition.")
    if step.path:
        return target                                    # how much that is, the run will say
    used = came.volume.used if came.volume and came.volume.used is not None else 0
    free = look.volume.free
    if free is not None and used > free:
        raise FitError(f"The files of {came.name} ({binary(used)}) do not fit into {look.name}: {binary(free)} are "
                       "free.")
    volume = replace(look.volume, used=(look.volume.used or 0) + used, files=look.volume.files +
                     (came.volume.files if came.volume else 0), summary=came.volume.summary if came.volume else "")
    return target.with_partition(replace(look, volume=volume, role=came.role, role_reason=came.role_reason))


def _with_map(layout: Layout, map: PartitionMap, fresh: dict[int, PartitionLook] | None = None, *,
              by_index: bool = False) -> Layout:
    """The layout with another map: looks follow their partitions, by number or by where they start."""
    fresh = fresh or {}
    old = {p.index: p for p in layout.partitions} if by_index else {p.partition.start: p for p in layout.partitions}
    looks = []
    for partition in map.partitions:
        key = partition.index if by_index else partition.start
        is_outer = map.kind == MapKind.MBR and mbr.is_extended(partition)
        if partition.start in fresh and not is_outer:
            looks.append(replace(fresh[partition.start], partition=partition))
        elif key in old:
            looks.append(replace(old[key], partition=partition))
        else:
            looks.append(PartitionLook(partition, None, Role.UNKNOWN, "it only holds the logical drives" if is_outer
                                       else "nothing is on it yet"))
    return replace(layout, map=map, map_kind=map.kind, map_id=map.id, partitions=tuple(looks), findings=(),
                   is_blank=False)


def _fresh(partition: Partition, kind: str, label: str) -> PartitionLook:
    if not kind:
        return PartitionLook(partition, None, Role.UNKNOWN, "nothing is on it yet")
    volume = VolumeLook(shown_kind(kind), label, "", 0, partition.length, 0, summary="empty", largest=partition.length,
                        variant=kind)
    return PartitionLook(partition, volume, Role.STORAGE, "it holds no files yet")


def _as_kind(volume: VolumeLook, kind: str) -> VolumeLook:
    """The same volume made anew as a kind, its names shortened to what stands there; "" leaves it as it is."""
    if not kind:
        return volume
    return replace(volume, kind=shown_kind(kind), variant=kind, longest_name=volume.longest_name[:longest_name(kind)])


def _look(layout: Layout, index: int) -> PartitionLook:
    try:
        return layout.partition(index)
    except KeyError:
        raise FitError(f"There is no partition {index} on this medium.") from None
