"""Which function carries out which in-place step."""

from __future__ import annotations

from contextlib import suppress

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, JobError
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import arranging, bringing, changes, filling, swapping
from mosscrate.core.sheet.changes import Done, Grown
from mosscrate.core.sheet.steps import (
    CHANGES_VOLUME,
    AddPartition,
    BringCode,
    CopyFiles,
    CopyPartition,
    EmptyCard,
    FillWithDrives,
    FlagPartition,
    FormatPartition,
    GrowPartition,
    InPlace,
    LabelPartition,
    MakeFolder,
    MendMap,
    MovePartition,
    NewMap,
    PutFiles,
    RebuildBitmap,
    RebuildPartition,
    RemoveCode,
    RemoveFiles,
    RemovePartition,
    RenameFile,
    ReplayJournal,
    SetTraits,
    ShrinkPartition,
    SwapBytes,
    TunePartition,
    TypePartition,
)
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import Volume, format_of, must_be_sound, open_volume
from mosscrate.core.volumes.fat import FatVolume
from mosscrate.core.watch import Watch

_STEPS = {
    EmptyCard: changes.empty_card, NewMap: changes.new_map, MendMap: changes.mend_map,
    AddPartition: changes.add_partition, RemovePartition: changes.remove_partition,
    FillWithDrives: changes.fill_with_drives, FlagPartition: changes.change_map, TypePartition: changes.change_map,
    TunePartition: changes.change_map, RemoveCode: changes.change_map,
    MovePartition: changes.move_partition, FormatPartition: changes.format_partition,
    LabelPartition: changes.label_partition, ReplayJournal: changes.replay_journal,
    RebuildBitmap: filling.rebuild_bitmap,
    RebuildPartition: filling.rebuild_partition, PutFiles: filling.put_files, RemoveFiles: filling.remove_files,
    RenameFile: filling.rename_file, MakeFolder: filling.make_folder, SetTraits: filling.set_traits}


def perform(step: InPlace, blocks: Blocks, source: Blocks | None, watch: Watch) -> Done:
    """Carry out a step on the whole medium `blocks`. Raises MossError; a refusal comes before the first write."""
    if isinstance(step, SwapBytes):
        return swapping.swap_bytes(blocks, watch)          # of what stands on the card
    blocks = straight(blocks)
    if isinstance(step, CHANGES_VOLUME):
        partition = read_map(blocks).partition(step.partition)
        must_be_sound(partition_window(blocks, partition), name=f"Partition {step.partition}")
    source = None if source is None else straight(source)
    match step:
        case GrowPartition() | ShrinkPartition() if _is_resized_anew(blocks, step):
            map_ = read_map(blocks)
            if isinstance(step, GrowPartition):
                length = arranging.wanted_length(step, map_, blocks.size)
                length = min(length, _volume(blocks, step.partition).largest()[0])
            else:
                least = _volume(blocks, step.partition).smallest()[0]
                length = arranging.shorter_length(step, map_, blocks.size, least)
            return filling.resize_anew(blocks, step.partition, length, watch)
        case GrowPartition(partition=index, size=size):
            grown = changes.grow_partition(blocks, index, size, watch)
            return Done(_resized(index, grown, "grown"), grown.after - grown.before)
        case ShrinkPartition(partition=index, size=size):
            shrunk = changes.shrink_partition(blocks, index, size, watch)
            return Done(_resized(index, shrunk, "shrunk"), shrunk.before - shrunk.after)
        case CopyFiles():
            return filling.copy_files(blocks if source is None else source, blocks, step, watch)
        case CopyPartition() | BringCode():
            if source is None:
                raise JobError("The sheet has no source to copy from.")
            if isinstance(step, BringCode):
                return bringing.bring_code(source, blocks, step, watch)
            return bringing.copy_partition(source, blocks, step, watch)
        case _:
            return _STEPS[type(step)](blocks, step, watch)          # type: ignore[operator, no-any-return]


def _is_resized_anew(blocks: Blocks, step: GrowPartition | ShrinkPartition) -> bool:
    """Whether the structure of a volume depends on its size: its root lies in the middle, or its sectors grow too."""
    with suppress(FormatError):
        map_ = read_map(blocks)
        if format_of(partition_window(blocks, map_.partition(step.partition))).IS_RESIZED_ANEW:
            return True
        volume = _volume(blocks, step.partition)
        if isinstance(step, GrowPartition) and isinstance(volume, FatVolume) and volume.variant == "gemdos":
            return arranging.wanted_length(step, map_, blocks.size) > volume.largest_in_place()[0]
    return False


def _volume(blocks: Blocks, index: int) -> Volume:
    return open_volume(partition_window(blocks, read_map(blocks).partition(index)))


def _resized(index: int, change: Grown, word: str) -> str:
    stop = f" It stops there: {change.limit}." if change.limit else ""
    return f"Partition {index} has {word} from {binary(change.before)} to {binary(change.after)}.{stop}"
