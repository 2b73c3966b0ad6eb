"""What steps do to a medium. Every function writes to blocks that the guard opened and that have a journal below."""

from __future__ import annotations

from dataclasses import dataclass

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, mbr, rdb, read_map, write_map
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.steps import (
    AddPartition,
    EmptyCard,
    FillWithDrives,
    FlagPartition,
    FormatPartition,
    GrowPartition,
    LabelPartition,
    MendMap,
    MovePartition,
    NewMap,
    RemoveCode,
    RemovePartition,
    ReplayJournal,
    TunePartition,
    TypePartition,
    tuning_of,
)
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Making, edit, ext, format_for, format_of, kind_name, must_be_sound, open_volume
from mosscrate.core.volumes.signatures import FIRST_BYTES
from mosscrate.core.watch import Watch

EDGE = 1 << 20
PIECE = 4 << 20


@dataclass(frozen=True)
class Grown:
    """Lengths of a partition in bytes, and the limit that stopped it short of what was asked."""

    before: int
    after: int
    limit: str = ""


@dataclass(frozen=True)
class Done:
    """What a step did: a sentence and the bytes that it moved or compared."""

    sentence: str
    bytes: int = 0


# --- maps ----------------------------------------------------------------------------------------


def empty_card(blocks: Blocks, step: EmptyCard, watch: Watch) -> Done:
    """Clear both ends of the medium, and both ends of every partition that a map names."""
    try:
        partitions = read_map(blocks).partitions
    except FormatError:
        partitions = ()
    edge = min(EDGE, blocks.size)
    stretches = [(0, edge), (blocks.size - edge, edge)]
    for p in partitions:
        if p.start < blocks.size:
            length = min(p.length, blocks.size - p.start)
            stretches += [(p.start, min(EDGE, length)), (p.start + max(0, length - EDGE), min(EDGE, length))]
    for start, length in stretches:
        blocks.zero(start, length)
        watch.check()
    blocks.flush()
    return Done(f"{blocks.name} is empty: no map, no partition, no signature.")


def new_map(blocks: Blocks, step: NewMap, watch: Watch) -> Done:
    """An empty map; whatever map or bare volume was there is cleared first."""
    made = arranging.remapped(step, read_map_or_none(blocks), blocks.size)
    empty_card(blocks, EmptyCard(), watch)
    write_map(blocks, made)
    blocks.flush()
    return Done(f"{blocks.name} has an empty {step.kind.upper()} map.")


def mend_map(blocks: Blocks, step: MendMap, watch: Watch) -> Done:
    """Write the map as it was read."""
    write_map(blocks, read_map(blocks))
    blocks.flush()
    return Done("The partition map was written again.")


def add_partition(blocks: Blocks, step: AddPartition, watch: Watch) -> Done:
    """Make the partition in the map, then the volume on it."""
    map_, made = arranging.added(step, read_map(blocks), blocks.size)
    kind = arranging.kind_for(step.kind, made.length)
    _forgo(blocks, made)
    if kind:
        _format(blocks, map_, made, kind, step.label, step.block)
    else:
        clear_signatures(Window(blocks, made.start, made.length))
    write_map(blocks, map_)
    blocks.flush()
    return Done(f"Partition {made.index} made: {binary(made.length)}{f', {kind_name(kind)}' if kind else ''}.")


def remove_partition(blocks: Blocks, step: RemovePartition, watch: Watch) -> Done:
    """Take it out of the map; its bytes stay."""
    write_map(blocks, edits.removed(read_map(blocks), step.partition))
    blocks.flush()
    return Done(f"Partition {step.partition} is no longer in the map.")


def fill_with_drives(blocks: Blocks, step: FillWithDrives, watch: Watch) -> Done:
    """Logical drives in the free room, each formatted and labelled."""
    map_, drives = arranging.drives_that_fit(read_map(blocks), blocks.size, step)
    for number, drive in enumerate(drives, start=1):
        _forgo(blocks, drive)
        label = f"{step.label}{number}" if step.label else ""
        _format(blocks, map_, drive, arranging.kind_for(step.kind, drive.length), label, None)
        watch.progress("Formatting drives", number, len(drives))
    write_map(blocks, map_)
    blocks.flush()
    return Done(f"{counted(len(drives), 'logical drive')} made, {binary(sum(d.length for d in drives))} together.")


def change_map(blocks: Blocks, step: FlagPartition | TypePartition | TunePartition | RemoveCode, watch: Watch) -> Done:
    """A flag, a type, how drivers take a partition, embedded code that goes."""
    write_map(blocks, arranging.remapped(step, read_map(blocks), blocks.size))
    blocks.flush()
    match step:
        case FlagPartition(partition=index, flag=flag, is_set=is_set):
            return Done(f"Partition {index}: “{flag}” {'set' if is_set else 'cleared'}.")
        case TypePartition(partition=index, code=code):
            return Done(f"Partition {index}: type {code}.")
        case TunePartition(partition=index):
            return Done(f"Partition {index}: {tuning_of(step)}.")
        case RemoveCode(dos_type=type):
            return Done(f"The file-system code for {rdb.dos_type_name(rdb.dos_type_of(type))} is out of the map.")


def move_partition(blocks: Blocks, step: MovePartition, watch: Watch) -> Done:
    """Move what is in use, from the end where it overlaps behind itself, then the map."""
    map_ = read_map(blocks)
    old, start = map_.partition(step.partition), arranging.start_after_move(step, map_, blocks.size)
    if start == old.start:
        return Done(f"Partition {old.index} stays where it is.")
    changed = edits.placed(map_, old.index, blocks.size, start=start)
    new = changed.partition(old.index)
    window = Window(blocks, old.start, old.length)
    used = used_of(window)
    # What lies outside of the old place belongs to nobody: a journal need not save it.
    for first, last in ((new.start, min(new.end, old.start)), (max(new.start, old.end), new.end)):
        if last > first:
            blocks.forgo([Extent(first, last - first)])
    moved = _copy_within(blocks, used, old.start, new.start, watch)
    write_map(blocks, changed)
    rebase(blocks, new)
    blocks.flush()
    return Done(f"Partition {old.index} moved from {binary(old.start)} to {binary(new.start)}.", moved)


# --- volumes -------------------------------------------------------------------------------------


def grow_partition(blocks: Blocks, index: int, size: int | None, watch: Watch) -> Grown:
    """Grow a partition and the volume on it.

    Args:
        blocks: the whole medium, with a journal below.
        index: number of the partition; 0 is a volume without a map.
        size: bytes wanted; None takes all the room behind it.
        watch: is told while things move.

    Raises:
        FitError: there is no room, or the volume cannot grow. Nothing was written.
        FormatError: the volume is damaged. Nothing was written.
    """
    map_ = read_map(blocks)
    partition = map_.partition(index)
    length = arranging.wanted_length(GrowPartition(index, size), map_, blocks.size)
    if map_.kind == MapKind.MBR:
        length = min(length, mbr.LARGEST * blocks.sector - partition.start)
    window = Window(blocks, partition.start, max(length, partition.length))
    volume = open_volume(Window(blocks, partition.start, min(partition.length, window.size)))
    before = partition.length if index else volume.size
    most, limit = volume.largest()
    if not most:
        raise FitError(f"Partition {index} cannot be grown: {limit}")
    after = max(min(length, most // blocks.sector * blocks.sector), partition.length)
    if map_.kind == MapKind.NONE:
        after = length
    changed = edits.placed(map_, index, blocks.size, length=after)       # refuses before anything is written
    grown = format_of(window).grow(window, length, watch, hidden_sectors=_hidden(map_, partition))
    if grown.limit and map_.kind != MapKind.NONE:
        after = max(partition.length, -(-grown.size // blocks.sector) * blocks.sector)
        changed = edits.placed(map_, index, blocks.size, length=after)
    write_map(blocks, changed)
    blocks.flush()
    return Grown(before, after, grown.limit)


def shrink_partition(blocks: Blocks, index: int, size: int | None, watch: Watch) -> Grown:
    """Shrink a volume and then its partition. Raises FitError, FormatError before anything is written."""
    map_ = read_map(blocks)
    partition = map_.partition(index)
    window = partition_window(blocks, partition)
    must_be_sound(window, name=f"Partition {index}")
    low, because = open_volume(window).smallest()
    if not low:
        raise FitError(f"Partition {index} cannot be shrunk: {because}")
    wanted = low if size is None else size
    if wanted < low:
        raise FitError(f"Partition {index} cannot be smaller than {binary(low)}: {because}.")
    shrunk = format_of(window).shrink(window, wanted, watch)
    kept = max(shrunk.size, wanted if size is not None else 0)
    after = min(partition.length, -(-kept // blocks.sector) * blocks.sector)
    if size is not None:
        after = min(after, max(size, shrunk.size) // blocks.sector * blocks.sector)
    if map_.kind != MapKind.NONE:
        write_map(blocks, edits.placed(map_, index, blocks.size, length=after))
    blocks.flush()
    return Grown(partition.length, after)


def format_partition(blocks: Blocks, step: FormatPartition, watch: Watch) -> Done:
    """A fresh volume, and a type that follows it."""
    map_ = arranging.remapped(step, read_map(blocks), blocks.size)
    partition = map_.partition(step.partition)
    kind = arranging.kind_for(step.kind, partition.length)
    _format(blocks, map_, partition, kind, step.label, step.block)
    write_map(blocks, map_)
    blocks.flush()
    return Done(f"Partition {step.partition} holds a fresh {kind_name(kind)} volume.")


def label_partition(blocks: Blocks, step: LabelPartition, watch: Watch) -> Done:
    """The volume's label, and the partition's name where the map has names."""
    map_ = read_map(blocks)
    editor = edit(partition_window(blocks, map_.partition(step.partition)))
    editor.relabel(step.label)
    changed = edits.named(map_, step.partition, step.label)
    editor.commit()
    if changed != map_:
        write_map(blocks, changed)
    blocks.flush()
    return Done(f"Partition {step.partition} is called “{step.label}” now.")


def replay_journal(blocks: Blocks, step: ReplayJournal, watch: Watch) -> Done:
    """Carry out what an ext volume's own journal holds."""
    window = partition_window(blocks, read_map(blocks).partition(step.partition))
    count = ext.replay(window)
    return Done(f"{counted(count, 'transaction')} of the journal carried out.")


def clear_signatures(window: Blocks) -> None:
    """Remove the marks by which file systems are recognised."""
    window.zero(0, min(FIRST_BYTES, window.size))


def read_map_or_none(blocks: Blocks) -> PartitionMap:
    """The map, or none where it cannot be read at all."""
    from mosscrate.core.maps import without_map
    try:
        return read_map(blocks)
    except FormatError:
        return without_map(blocks.size, blocks.sector)


def _format(blocks: Blocks, map_: PartitionMap, partition: Partition, kind: str, label: str,
            block: int | None) -> None:
    window = Window(blocks, partition.start, partition.length)
    making = Making(kind, label, block, hidden_sectors=_hidden(map_, partition) or 0)
    format_for(kind).make(window, making)


def _forgo(blocks: Blocks, partition: Partition) -> None:
    """What lies where a new partition will be belongs to nobody."""
    blocks.forgo([Extent(partition.start, partition.length)])


def _hidden(map_: PartitionMap, partition: Partition) -> int | None:
    """Sectors before a partition, as its boot sector notes them; logical drives count from their record."""
    if map_.kind == MapKind.NONE:
        return None
    return partition.start // map_.sector


def rebase(blocks: Blocks, partition: Partition) -> None:
    """Let a volume note where its partition starts now; an unknown one is left exactly as it is."""
    window = Window(blocks, partition.start, partition.length)
    try:
        format_of(window).rebase(window, partition.start // blocks.sector)
    except FormatError:
        return


def used_of(window: Window) -> tuple[Extent, ...]:
    """What of a partition has to be moved: its used extents, or all of it where they are not known."""
    try:
        volume = open_volume(window)
        if not volume.is_clean or volume.soundness(volume.tree()).because:
            return (Extent(0, window.size),)
        used = volume.used_extents()
    except FormatError:
        return (Extent(0, window.size),)
    tail = window.size - volume.size
    return (*used, Extent(volume.size, tail)) if 0 < tail <= EDGE else used


def _copy_within(blocks: Blocks, extents: tuple[Extent, ...], old: int, new: int, watch: Watch) -> int:
    """Copy stretches to another start of the same medium, in the order that an overlap asks for."""
    pieces = [(e.start + at, min(PIECE, e.length - at)) for e in extents for at in range(0, e.length, PIECE)]
    total, done = sum(length for _, length in pieces), 0
    for start, length in reversed(pieces) if new > old else pieces:
        blocks.write(new + start, blocks.read(old + start, length))
        done += length
        watch.progress("Moving the partition", done, total)
    return done
