"""Steps that change files on a volume: put, removed, renamed; and volumes made anew with their files."""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from msgspec.structs import replace

from mosscrate.core.blocks import Blocks, Extent, Overlay, Window
from mosscrate.core.contents.naming import proposed_name
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.contents.transfer import copy_tree, ensure_folder, must_fit, plan_passage
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.maps import MapKind, edits, read_map, write_map
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.changes import Done
from mosscrate.core.sheet.likeness import making_like
from mosscrate.core.sheet.passing import copied_from, plan_put
from mosscrate.core.sheet.steps import (
    CopyFiles,
    Existing,
    MakeFolder,
    PutFiles,
    RebuildBitmap,
    RebuildPartition,
    RemoveFiles,
    RenameFile,
    SetTraits,
)
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Editor, Kind, Traits, Volume, edit, format_for, format_of, kind_name, open_volume
from mosscrate.core.volumes.base import Retraits
from mosscrate.core.volumes.ffs import FfsEditor, protection_of
from mosscrate.core.watch import Watch

PIECE = 4 << 20


def put_files(blocks: Blocks, step: PutFiles, watch: Watch) -> Done:
    """Put files and folders of this computer onto a volume; names that cannot stand there are changed.

    Raises FitError, MediumError before anything is written.
    """
    if step.name and (len(step.paths) != 1 or Path(step.paths[0]).is_dir()):
        raise FitError("Another name can be given to a single file only.")
    window = _window(blocks, step.partition)
    volume = open_volume(window)
    putting = plan_put(volume, step)
    passage = putting.passage
    must_fit(passage)
    editor = edit(window)
    ensure_folder(editor, step.folder, Traits(int(time.time())))
    total, done, count = sum(e.size for e in putting.entries), 0, 0
    for entry in putting.entries:
        to = f"{step.folder}/{passage.path(entry)}".strip("/")
        if entry.kind == Kind.FOLDER:
            editor.add_folder(to, entry.traits)
            continue
        make_way(editor, to, step.existing, volume)
        editor.add_file(to, _pieces(putting.places[entry.path]), entry.traits, size=entry.size)
        done, count = done + entry.size, count + 1
        watch.progress("Putting files", done, total)
    editor.commit()
    names = len(passage.changed_names)
    said = f" {counted(names, 'name')} had to change: {passage.findings[0].sentence}" if names else ""
    return Done(f"{counted(count, 'file')} put onto partition {step.partition}, {binary(done)}.{said}", done)


def remove_files(blocks: Blocks, step: RemoveFiles, watch: Watch) -> Done:
    """Remove files and folders."""
    editor = edit(_window(blocks, step.partition))
    for path in step.paths:
        editor.remove(path)
        watch.check()
    editor.commit()
    return Done(f"Removed from partition {step.partition}: {', '.join(step.paths)}.")


def rename_file(blocks: Blocks, step: RenameFile, watch: Watch) -> Done:
    """Give something another name or another folder."""
    editor = edit(_window(blocks, step.partition))
    editor.rename(step.path, step.new)
    editor.commit()
    return Done(f"“{step.path}” is “{step.new}” now.")


def _ffs_editor(blocks: Blocks, index: int, why: str) -> FfsEditor:
    """An editor for an OFS or FFS volume. Raises FitError for other kinds, with `why`."""
    window = _window(blocks, index)
    editor = edit(window)
    if not isinstance(editor, FfsEditor):
        raise FitError(f"Partition {index} holds {kind_name(open_volume(window).kind)}: only OFS and FFS {why}.")
    return editor


def set_traits(blocks: Blocks, step: SetTraits, watch: Watch) -> Done:
    """Comment, protection bits, date of something on OFS or FFS. Raises FitError for other kinds."""
    editor = _ffs_editor(blocks, step.partition, "keep comments and protection bits")
    entry = editor.volume.tree().find(step.path)
    old = entry.protection or 0 if entry else 0
    bits = None if step.protection is None else protection_of(step.protection, old)
    editor.retrait(step.path, Retraits(step.modified, bits, step.comment))
    editor.commit()
    return Done(f"“{step.path}” has its comment, protection and date as they were set.")


def make_folder(blocks: Blocks, step: MakeFolder, watch: Watch) -> Done:
    """Make a folder, and those above it."""
    editor = edit(_window(blocks, step.partition))
    ensure_folder(editor, step.path, Traits(int(time.time())))
    editor.commit()
    return Done(f"The folder “{step.path}” is there.")


def copy_files(source: Blocks, blocks: Blocks, step: CopyFiles, watch: Watch) -> Done:
    """Files of a source's partition, or of another one of the same card, into a volume. Raises FitError."""
    if source is blocks and step.source == step.partition:
        raise FitError("These files are on it already; they can be copied to another partition.")
    volume, window = open_partition(source, step.source), _window(blocks, step.partition)
    target = open_volume(window)
    entries, passage = copied_from(volume, target, step)
    must_fit(passage)
    editor = edit(window)
    ensure_folder(editor, step.folder, Traits(int(time.time())))
    done = copy_tree(volume, entries, editor, passage, watch, folder=step.folder,
                     make_way=lambda path: make_way(editor, path, step.existing, target))
    editor.commit()
    return Done(f"{counted(len(entries), 'entry', 'entries')} copied to partition {step.partition}, {binary(done)}.",
                done)


def rebuild_partition(blocks: Blocks, step: RebuildPartition, watch: Watch) -> Done:
    """Make a volume anew and put its files back.

    The new one is made on a view over the old one, so that the old files can be read until all are in
    it; only then is it written, over a journal that saves what was in use.
    """
    map_ = read_map(blocks)
    partition = map_.partition(step.partition)
    window = partition_window(blocks, partition)
    old = open_volume(window)
    kind = arranging.kind_for(step.kind, partition.length) or old.variant
    hidden = 0 if map_.kind == MapKind.NONE else partition.start // map_.sector
    making = making_like(old, window, kind, block=step.block or None, hidden_sectors=hidden)
    entries = old.tree().entries
    passage = plan_passage(entries, kind, None)
    must_fit(passage)
    with Overlay(window) as view:
        format_for(kind).make(view, making)
        passage = plan_passage(entries, kind, open_volume(view))
        editor = edit(view)
        done = copy_tree(old, entries, editor, passage, watch)
        editor.commit()
        blocks.forgo([Extent(partition.start + e.start, e.length) for e in _free(old, window.size)])
        _apply(view, window, watch)
    changed = arranging.remapped(replace(step, kind=kind), map_, blocks.size)
    if changed != map_:
        write_map(blocks, changed)
    blocks.flush()
    said = "".join(f" {f.sentence}" for f in passage.findings[:3])
    return Done(f"Partition {step.partition} was made anew as {kind_name(kind)} and {binary(done)} of files put "
                f"back.{said}", done)


def rebuild_bitmap(blocks: Blocks, step: RebuildBitmap, watch: Watch) -> Done:
    """Make the tables of a volume agree with its files. Raises FitError where the files contradict one another."""
    window = _window(blocks, step.partition)
    said = format_of(window).mend(window)
    blocks.flush()
    return Done(f"Partition {step.partition}: {said[0].lower()}{said[1:]}")


def resize_anew(blocks: Blocks, index: int, length: int, watch: Watch) -> Done:
    """Give a volume whose structure depends on its size another length: it is made anew with its files.

    Raises FitError before anything is written.
    """
    map_ = read_map(blocks)
    partition = map_.partition(index)
    old = open_volume(partition_window(blocks, partition))
    changed = edits.placed(map_, index, blocks.size, length=length)
    window = Window(blocks, partition.start, max(length, partition.length))
    making = making_like(old, window, old.variant)
    entries = old.tree().entries
    with Overlay(window) as view:
        fresh = Window(view, 0, length)
        format_for(making.kind).make(fresh, making)
        editor = edit(fresh)
        done = copy_tree(old, entries, editor, plan_passage(entries, old.kind, None), watch)
        editor.commit()
        _apply(view, window, watch)
    write_map(blocks, changed)
    blocks.flush()
    return Done(f"Partition {index} was made anew with {binary(length)} and its files put back.", done)


def make_way(editor: Editor, path: str, existing: Existing, volume: Volume) -> None:
    """Deal with what is there already under a name. Raises FitError where it must stay."""
    if not editor.has(path):
        return
    match existing:
        case Existing.REFUSE:
            raise FitError(f"“{path}” is there already. Replace it, or keep both; nothing was changed.")
        case Existing.REPLACE:
            editor.remove(path)
        case Existing.KEEP_BOTH:
            editor.rename(path, dated(path, editor, volume))


def dated(path: str, editor: Editor, volume: Volume) -> str:
    """The name under which an old file stays: with today's date before its ending, as far as names go there."""
    folder, _, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    stem, ending = (stem, f".{ending}") if dot and stem else (name, "")
    today = f"{datetime.now():%Y-%m-%d}"
    tried: set[str] = set()
    for number in range(1, 1000):
        name = f"{stem} {today}{f' {number}' if number > 1 else ''}{ending}"
        name = proposed_name(name, tried, volume) if volume.why_not(name) else name
        candidate = f"{folder}/{name}".lstrip("/")
        if not editor.has(candidate):
            return candidate
        tried.add(name.lower())
    raise JobError(f"No name is left for the old “{path}”.")


def _window(blocks: Blocks, index: int) -> Window:
    return partition_window(blocks, read_map(blocks).partition(index))


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while piece := file.read(PIECE):
            yield piece


def _free(volume: Volume, size: int) -> Iterator[Extent]:
    at = 0
    for used in volume.used_extents():
        if used.start > at:
            yield Extent(at, used.start - at)
        at = max(at, used.end)
    if at < size:
        yield Extent(at, size - at)


def _apply(view: Overlay, window: Blocks, watch: Watch) -> None:
    """Write what a view has changed onto the medium behind it."""
    changes = list(view.changes())
    total, done = sum(e.length for e in changes), 0
    for extent in changes:
        for at in range(extent.start, extent.end, PIECE):
            length = min(PIECE, extent.end - at)
            if extent.is_hole:
                window.zero(at, length)
            else:
                window.write(at, view.read(at, length))
            done += length
            watch.progress("Writing the new volume", done, total)
