"""Bringing a partition over from another medium: exactly, or made anew as another kind."""

from __future__ import annotations

from dataclasses import replace

from blake3 import blake3

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.blocks.streaming import copy, digest
from mosscrate.core.contents.survey import has_blank_ends, partition_window
from mosscrate.core.contents.transfer import copy_tree, must_fit, plan_passage
from mosscrate.core.errors import FitError, FormatError, JobError
from mosscrate.core.maps import MapKind, Partition, PartitionMap, edits, mbr, rdb, read_map, write_map
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.changes import PIECE, Done, rebase, used_of
from mosscrate.core.sheet.likeness import making_like
from mosscrate.core.sheet.steps import BringCode, CopyPartition
from mosscrate.core.sheet.verifying import must_have_arrived
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import edit, format_for, format_of, is_resized_anew, kind_name, open_volume, volume_kind
from mosscrate.core.watch import Watch

MODERN = ("fat32", "exfat", "ext2", "ext3", "ext4")       # too large, often, to copy their free room
NOT_BLANK = ("The target has no map that a partition could be added to. Put one on it first, or empty it: then the "
             "partition becomes a bare volume, without a map.")

NOT_EQUAL = "What was copied does not read back as it was. The source is untouched; take another card."


def placed(step: CopyPartition, came: Partition, came_kind: str, map: PartitionMap,
           size: int) -> tuple[PartitionMap, Partition]:
    """The map with the partition that arrives, and that partition. Raises FitError.

    Without a map it becomes the bare volume that fills the medium.
    """
    if map.kind == MapKind.NONE:
        if step.size not in (None, size):
            raise FitError("Without a map a volume fills the whole medium; leave its size out.")
        if not step.kind and size < came.length:
            raise FitError(f"An exact copy needs {binary(came.length)}, there are {binary(size)}; it can be made anew "
                           "with its files.")
        return map, Partition(0, 0, size)
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
    return bool(step.kind) or (came.length != made.length and is_resized_anew(came_kind))


def copy_partition(source: Blocks, blocks: Blocks, step: CopyPartition, watch: Watch) -> Done:
    """Make the partition, bring the volume, then write the map. Raises FitError before anything is written."""
    came = read_map(source).partition(step.source)
    window = partition_window(source, came)
    came_kind, there = volume_kind(window), read_map(blocks)
    if there.kind == MapKind.NONE and not has_blank_ends(blocks):
        raise FitError(NOT_BLANK)
    map_, made = placed(step, came, came_kind, there, blocks.size)
    is_anew = is_made_anew(step, came_kind, came, made)
    new = Window(blocks, made.start, made.length)
    blocks.forgo([Extent(made.start, made.length)])
    done = _anew(window, new, step, made, watch) if is_anew else _exactly(window, new, came_kind, watch)
    if not is_anew:
        rebase(blocks, made)                             # a bare volume starts at 0
        if made.length > came.length:
            format_of(new).grow(new, made.length, watch, hidden_sectors=made.start // blocks.sector)
    write_map(blocks, map_)
    blocks.flush()
    how = f"anew as {kind_name(open_volume(new).variant)}" if is_anew else "exactly"
    where = f"partition {made.index} now" if made.index else "the bare volume on the card now"
    what = f"Partition {step.source}" if step.source else "The volume"
    return Done(f"{what} of the source is {where}, copied {how}, read back and equal.", done)


def bring_code(source: Blocks, blocks: Blocks, step: BringCode, watch: Watch) -> Done:
    """Embedded file-system code from one RDB into another. Raises FitError, FormatError before anything is written."""
    map_, names = arranging.with_code_of(step, read_map(source), read_map(blocks))
    write_map(blocks, map_)
    blocks.flush()
    return Done(f"The map holds the file-system code {', '.join(names)} now.")


def _exactly(window: Window, new: Window, kind: str, watch: Watch) -> int:
    """Copy a partition: of large modern volumes what is in use, of all others every byte."""
    if kind not in MODERN:
        copied = copy(window, new, window.size, watch, phase="Copying the partition", zeros=new.zero)
        new.flush()
        new.drop_cache()
        if digest(new, window.size, watch, phase="Reading it back") != copied.digest:
            raise JobError(NOT_EQUAL)
        return window.size
    pieces = [(e.start + at, min(PIECE, e.length - at)) for e in used_of(window) for at in range(0, e.length, PIECE)]
    total, done = sum(length for _, length in pieces), 0
    sent, arrived = blake3(), blake3()
    for start, length in pieces:
        data = window.read(start, length)
        sent.update(data)
        new.write(start, data)
        done += length
        watch.progress("Copying the partition", done, total)
    new.flush()
    new.drop_cache()
    for start, length in pieces:
        arrived.update(new.read(start, length))
        watch.progress("Reading it back", start, window.size)
    if arrived.digest() != sent.digest():
        raise JobError(NOT_EQUAL)
    return done


def _anew(window: Window, new: Window, step: CopyPartition, made: Partition, watch: Watch) -> int:
    try:
        old = open_volume(window)
    except FormatError as error:
        raise FitError(f"Its files cannot be read, so it can only be copied exactly: {error}") from error
    kind = arranging.kind_for(step.kind, made.length) if step.kind else old.variant
    entries = old.tree().entries
    must_fit(plan_passage(entries, kind, None))
    format_for(kind).make(new, making_like(old, window, kind, hidden_sectors=made.start // new.sector))
    passage = plan_passage(entries, kind, open_volume(new))
    editor = edit(new)
    done = copy_tree(old, entries, editor, passage, watch)
    editor.commit()
    new.flush()
    new.drop_cache()
    must_have_arrived(old, open_volume(new), passage, watch)
    return done
