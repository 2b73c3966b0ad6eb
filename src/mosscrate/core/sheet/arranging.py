"""What steps do to a partition map: pure, so that a forecast and a run come out the same."""

from __future__ import annotations

from dataclasses import replace

from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, rdb, rdb_code, without_map
from mosscrate.core.maps.base import Environment
from mosscrate.core.sheet.steps import (
    AddPartition,
    BringCode,
    EmptyCard,
    FillWithDrives,
    FlagPartition,
    FormatPartition,
    GrowPartition,
    LabelPartition,
    MovePartition,
    NewMap,
    RebuildPartition,
    RemoveCode,
    RemovePartition,
    ShrinkPartition,
    Step,
    TunePartition,
    TypePartition,
)
from mosscrate.core.sizes import GIB, MIB, binary

SMALL_CARD = 256 * MIB                 # below this, room is worth more than erase blocks


def kind_for(kind: str, size: int) -> str:
    """The file system that a wish means: "fat" picks the type by size, everything else is itself."""
    if kind != "fat":
        return kind
    return "fat12" if size < 16 * MIB else "fat16" if size < 512 * MIB else "fat32"


def alignment_for(size: int) -> int:
    """Where partitions of a card of `size` bytes start by default."""
    return edits.ALIGNMENT if size >= SMALL_CARD else MIB if size >= 16 * MIB else edits.TRACK


def added(step: AddPartition, map: PartitionMap, size: int) -> tuple[PartitionMap, Partition]:
    """The map with the step's partition, and that partition. Raises FitError."""
    align = step.alignment or alignment_for(size)
    length = step.size
    if length is None:
        _, length = edits.free_room(map, size, alignment=align, is_logical=step.is_logical)
    kind = kind_for(step.kind, length)
    result, made = edits.added(map, size, start=step.start, length=step.size, kind=kind, label=step.label,
                               is_logical=step.is_logical, alignment=align)
    return (edits.with_block(result, made.index, step.block), made) if step.block else (result, made)


def start_after_move(step: MovePartition, map: PartitionMap, size: int) -> int:
    """Where a moved partition starts. Raises FitError where that is not free."""
    partition = map.partition(step.partition)
    low, high = edits.bounds(map, step.partition, size)
    unit = edits.room(map, size).unit
    align = alignment_for(size) if map.kind != MapKind.RDB else unit
    start = step.start
    if start is None:
        start = (high - partition.length) // align * align
        if start <= partition.start:
            start = (high - partition.length) // unit * unit
    if start % unit:
        raise FitError(f"A partition starts on a multiple of {unit} bytes here; {start} is none.")
    if start < low or start + partition.length > high:
        raise FitError(f"Partition {step.partition} can lie between {binary(low)} and {binary(high)}; at "
                       f"{binary(start)} it would run into something else.")
    return start


def remapped(step: Step, map: PartitionMap, size: int) -> PartitionMap:
    """The map after a step; lengths of grown and shrunk partitions are the caller's to know. Raises FitError."""
    match step:
        case EmptyCard():
            return without_map(size, map.sector)
        case NewMap(kind=kind):
            if kind not in ("mbr", "gpt", "rdb", "ahdi"):
                raise FitError(f"A map is “mbr”, “gpt”, “rdb” or “ahdi”, not “{kind}”.")
            return edits.new_map(MapKind(kind), size, map.sector, heads=step.heads, sectors=step.sectors)
        case AddPartition():
            return added(step, map, size)[0]
        case RemovePartition(partition=index):
            return edits.removed(map, index)
        case MovePartition(partition=index):
            return edits.placed(map, index, size, start=start_after_move(step, map, size))
        case FlagPartition(partition=index, flag=flag, is_set=is_set):
            return edits.flagged(map, index, flag, is_set=is_set)
        case TypePartition(partition=index, code=type):
            return edits.typed(map, index, type)
        case TunePartition():
            return tuned(step, map)
        case RemoveCode(dos_type=text):
            _must_be_rdb(map)
            try:
                return rdb_code.without_code(map, rdb.dos_type_of(text))
            except FormatError as error:
                raise FitError(f"The embedded code cannot be followed: {error}") from error
        case LabelPartition(partition=index, label=label):
            return edits.named(map, index, label)
        case FormatPartition(partition=index, kind=kind, block=block):
            map = edits.retyped(map, index, kind_for(kind, map.partition(index).length))
            return edits.with_block(map, index, block)
        case RebuildPartition(partition=index, kind=kind, block=block):
            map = edits.retyped(map, index, kind_for(kind, map.partition(index).length)) if kind else map
            return edits.with_block(map, index, block) if kind or block else map
        case FillWithDrives(each=each, until=until, kind=kind):
            return edits.fill_with_drives(map, size, each=each, until=until, kind=kind)[0]
        case _:
            return map


def tuned(step: TunePartition, map: PartitionMap) -> PartitionMap:
    """The map with a partition's new name and environment. Raises FitError."""
    old = map.partition(step.partition).environment or Environment()
    wanted = {"boot_priority": step.boot_priority, "mask": step.mask, "max_transfer": step.max_transfer,
              "buffers": step.buffers}
    changed = replace(old, **{k: v for k, v in wanted.items() if v is not None})
    return edits.tuned(map, step.partition, name=step.name, environment=changed)


def with_code_of(step: BringCode, source: PartitionMap, map: PartitionMap) -> tuple[PartitionMap, tuple[str, ...]]:
    """The map with file-system code of another, and the names of what was brought. Raises FitError."""
    _must_be_rdb(source)
    _must_be_rdb(map)
    wanted = rdb.dos_type_of(step.dos_type) if step.dos_type else b""
    try:
        codes = [c for c in rdb_code.codes_in(source) if not wanted or c.dos_type == wanted]
        for code in codes:
            map = rdb_code.with_code(map, code)
    except FormatError as error:
        raise FitError(f"The embedded code cannot be followed: {error}") from error
    if not codes:
        raise FitError("The source's map has no file-system code embedded"
                       + (f" for {rdb.dos_type_name(wanted)}." if wanted else "."))
    return map, tuple(c.name for c in codes)


def _must_be_rdb(map: PartitionMap) -> None:
    if map.kind != MapKind.RDB or not map.origin:
        raise FitError("File-system code is embedded in an RDB only; both drives need one that is whole.")


def with_length(map: PartitionMap, step: GrowPartition | ShrinkPartition, size: int, length: int) -> PartitionMap:
    """The map with a partition's new length. Raises FitError."""
    return edits.placed(map, step.partition, size, length=length)


def wanted_length(step: GrowPartition, map: PartitionMap, size: int) -> int:
    """Bytes a growing partition asks for: all the room behind it, or what was typed. Raises FitError."""
    partition = map.partition(step.partition)
    if map.kind == MapKind.NONE:
        room = size
    elif map.kind in (MapKind.MBR, MapKind.GPT, MapKind.RDB, MapKind.AHDI):
        room = edits.bounds(map, step.partition, size)[1] - partition.start
    else:
        raise FitError("Partitions of this map cannot be changed here yet.")
    unit = edits.room(map, size).unit if map.kind == MapKind.RDB else map.sector
    length = (room if step.size is None else step.size) // unit * unit
    if length > room:
        raise FitError(f"Partition {step.partition} can have {binary(room)} at most, {binary(length)} were asked for. "
                       "What lies behind it can be moved first.")
    return length


def shorter_length(step: ShrinkPartition, map: PartitionMap, size: int, smallest: int) -> int:
    """Bytes a shrinking partition gets, on the map's grid. Raises FitError where its files need more."""
    unit = edits.room(map, size).unit if map.kind != MapKind.NONE else map.sector
    wanted = smallest if step.size is None else step.size
    if wanted < smallest:
        raise FitError(f"Partition {step.partition} cannot be smaller than {binary(smallest)}: its files need that "
                       "room.")
    return min(-(-wanted // unit) * unit, map.partition(step.partition).length)


def drives_that_fit(map: PartitionMap, size: int, step: FillWithDrives) -> tuple[PartitionMap, tuple[Partition, ...]]:
    """The map with its new logical drives, and those. Raises FitError."""
    if step.kind == "fat16" and step.each > 2 * GIB:
        raise FitError("A FAT16 drive has 2 GiB at most.")
    return edits.fill_with_drives(map, size, each=step.each, until=step.until, kind=step.kind)
