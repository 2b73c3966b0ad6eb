"""Bringing a partition over from another medium: exactly, or made anew as another kind."""

from __future__ import annotations

from dataclasses import replace

from mosscrate.core.blocks import Blocks, Extent, MemoryBlocks, Window
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.contents.transfer import copy_tree, must_fit, plan_passage
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.findings import Finding
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, mbr, rdb, read_map, write_map
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.changes import PIECE, Done, rebase, used_of
from mosscrate.core.sheet.filling import variant_of
from mosscrate.core.sheet.steps import BringCode, CopyPartition, RebuildPartition
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import FORMATS, Making, Volume, edit, format_for, format_of, open_volume, volume_kind
from mosscrate.core.watch import Watch


def placed(step: CopyPartition, came: Partition, came_kind: str, map: PartitionMap,
           size: int) -> tuple[PartitionMap, Partition]:
    """The map with the partition that arrives, and that partition. Raises FitError."""
    align = arranging.alignment_for(size)
    length = came.length if step.size is None else step.size
    if not step.kind and length < came.length:
        raise FitError(f"An exact copy needs {binary(came.length)}; a smaller one can be made anew with its files.")
    kind = arranging.kind_for(step.kind, length) or came_kind
    if not step.kind:
        unit = edits.room(map, size).unit
        length = -(-length // unit) * unit               # an RDB counts in cylinders: a few more, never fewer
    kind = "" if map.kind == MapKind.RDB and came.environment is not None and not step.kind else kind
    result, made = edits.added(map, size, start=None, length=length, kind=kind, label=came.label, alignment=align)
    kept = made if step.kind else _as_it_was(came, made, map)
    result = replace(result, partitions=tuple(kept if p.index == made.index else p for p in result.partitions))
    return result, kept


def _as_it_was(came: Partition, made: Partition, map: PartitionMap) -> Partition:
    """What a map of the same kind said of a partition, which goes with it: type, flags, environment, name."""
    match map.kind:
        case MapKind.MBR if came.type.startswith("0x") and len(came.type) == 4:
            return mbr.retyped(mbr.with_type(made, came.type), mbr.geometry_of(map), sector=map.sector)
        case MapKind.RDB if came.environment is not None:
            return replace(made, type=came.type, type_name=came.type_name, flags=came.flags,
                           label=rdb.free_name(map, came.label), environment=came.environment)
        case MapKind.AHDI if len(came.type) == 3:
            return replace(made, type=came.type, type_name=came.type_name, flags=came.flags)
        case _:
            return made


def is_made_anew(step: CopyPartition, came_kind: str, came: Partition, made: Partition) -> bool:
    """Whether files are carried over one by one: as asked, or as a volume that has its root in the middle needs it."""
    return bool(step.kind) or (came.length != made.length and
                               any(came_kind in m.KINDS and m.IS_RESIZED_ANEW for m in FORMATS))


def copy_partition(source: Blocks, blocks: Blocks, step: CopyPartition, watch: Watch) -> Done:
    """Make the partition, bring the volume, then write the map. Raises FitError before anything is written."""
    came = read_map(source).partition(step.source)
    window = partition_window(source, came)
    came_kind = volume_kind(window)
    map_, made = placed(step, came, came_kind, read_map(blocks), blocks.size)
    is_anew = is_made_anew(step, came_kind, came, made)
    new = Window(blocks, made.start, made.length)
    blocks.forgo([Extent(made.start, made.length)])
    done = _anew(window, new, step, made, watch) if is_anew else _exactly(window, new, watch)
    if not is_anew:
        rebase(blocks, made)
        if made.length > came.length:
            format_of(new).grow(new, made.length, watch, hidden_sectors=made.start // blocks.sector)
    write_map(blocks, map_)
    blocks.flush()
    how = f"anew as {open_volume(new).kind}" if is_anew else "exactly"
    return Done(f"Partition {step.source} of the source is partition {made.index} now, copied {how}.", done)


def bring_code(source: Blocks, blocks: Blocks, step: BringCode, watch: Watch) -> Done:
    """Embedded file-system code from one RDB into another. Raises FitError, FormatError before anything is written."""
    map_, names = arranging.with_code_of(step, read_map(source), read_map(blocks))
    write_map(blocks, map_)
    blocks.flush()
    return Done(f"The map holds the file-system code {', '.join(names)} now.")


def what_is_lost(source: Blocks, step: CopyPartition | RebuildPartition) -> tuple[Finding, ...]:
    """What a volume loses when it is made anew as another kind, told before anything is done. Raises MossError."""
    source = straight(source)
    index = step.source if isinstance(step, CopyPartition) else step.partition
    partition = read_map(source).partition(index)
    if not step.kind:
        return ()
    kind = arranging.kind_for(step.kind, partition.length)
    volume = open_volume(partition_window(source, partition))
    found = plan_passage(volume.tree().entries, kind, _like(kind)).findings
    shown = found[:6]
    more = len(found) - len(shown)
    return (*shown, *((replace(shown[-1], sentence=f"{counted(more, 'more name')} change in the same way."),)
                      if more else ()))


def _like(kind: str) -> Volume:
    """A small volume of a kind, to be asked about names."""
    sizes = {"fat12": 1 << 20, "gemdos": 4 << 20, "fat16": 9 << 20, "fat32": 36 << 20}
    blocks = MemoryBlocks(bytes(sizes.get(kind, 8 << 20)))
    format_for(kind).make(blocks, Making(kind, block=512 if kind.startswith("fat") else None))
    return open_volume(blocks)


def _exactly(window: Window, new: Window, watch: Watch) -> int:
    pieces = [(e.start + at, min(PIECE, e.length - at)) for e in used_of(window) for at in range(0, e.length, PIECE)]
    total, done = sum(length for _, length in pieces), 0
    for start, length in pieces:
        new.write(start, window.read(start, length))
        done += length
        watch.progress("Copying the partition", done, total)
    return done


def _anew(window: Window, new: Window, step: CopyPartition, made: Partition, watch: Watch) -> int:
    try:
        old = open_volume(window)
    except FormatError as error:
        raise FitError(f"Its files cannot be read, so it can only be copied exactly: {error}") from error
    kind = arranging.kind_for(step.kind, made.length) if step.kind else variant_of(old)
    entries = old.tree().entries
    must_fit(plan_passage(entries, kind, None))
    label = old.label[:11] if kind.startswith("fat") or kind == "exfat" else old.label
    block = None if step.kind else old.block
    format_for(kind).make(new, Making(kind, label, block, hidden_sectors=made.start // new.sector))
    passage = plan_passage(entries, kind, open_volume(new))
    editor = edit(new)
    done = copy_tree(old, entries, editor, passage, watch)
    editor.commit()
    return done
