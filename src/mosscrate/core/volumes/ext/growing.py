"""Growing an ext volume in place: the last group is filled up, new groups follow.

Descriptors of new groups go into the blocks that the resize inode keeps free for them; where those
are used up, or there is no resize inode, the later descriptors go into the groups themselves
(meta_bg), as the kernel does it. Nothing that is on the volume moves.
"""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.base import Resized
from mosscrate.core.volumes.ext.filesystem import Filesystem, open_filesystem
from mosscrate.core.volumes.ext.inodes import record_of
from mosscrate.core.volumes.ext.layout import DOUBLE, dress_group, overhead_of, write_resize_inode
from mosscrate.core.volumes.ext.structures import RESIZE
from mosscrate.core.volumes.ext.writer import Writer
from mosscrate.core.watch import Watch

LEAST_IN_GROUP = 50                    # blocks that a last group must have beside its own tables


def largest(fs: Filesystem) -> tuple[int, str]:
    """Bytes that the volume can be grown to in place, and what stands there; 0 where it cannot grow."""
    try:
        fs.must_be_changeable()
    except FitError as error:
        return 0, str(error)
    if not int(fs.sb["rev_level"]):
        groups = fs.desc_blocks * fs.desc_per_block
        return (fs.first_data + groups * fs.per_group) * fs.block, \
            "a volume of the old revision has no room for more group descriptors"
    if not fs.is_64bit:
        return (2**32 - 1) * fs.block, "without the feature “64bit”, blocks are numbered in 32 bits"
    groups = (2**32 - 1) // fs.inodes_per_group
    return groups * fs.per_group * fs.block, "inodes are numbered in 32 bits"


def grow(blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> Resized:
    """Grow the volume at the start of `blocks` towards `size` bytes. Raises FitError, FormatError."""
    fs = open_filesystem(blocks)
    fs.must_be_changeable()
    most, limit = largest(fs)
    old_count, old_groups = fs.block_count, fs.groups
    count = min(size, most) // fs.block
    if count <= old_count:
        raise FitError(f"The volume has {binary(old_count * fs.block)} and cannot grow to {binary(size)}.")
    old_base = fs.old_desc_blocks
    old_reserved = fs.reserved_gdt
    _put_count(fs, count)
    freed = _make_room_for_descriptors(fs, old_base, old_reserved)
    _drop_scrap(fs, old_count)
    count = fs.block_count
    if count <= old_count:
        raise FitError(f"There is no room for another group: {binary(size)} are too few to grow to.")
    fs.desc = np.concatenate((fs.desc, np.zeros(fs.groups - old_groups, fs.desc.dtype)))
    writer = Writer(fs, forgoes_free=False)              # taking back restores every byte
    _lengthen_last(writer, old_groups - 1, old_count)
    for group in range(old_groups, fs.groups):
        dress_group(writer, group)
        watch.progress("Adding groups", group, fs.groups)
    _scale_counts(fs, old_count)
    if freed:
        _drop_resize_inode(writer)
    elif "resize_inode" in fs.features:
        write_resize_inode(writer)
    fs.sb["overhead_clusters"] = 0                      # a cached figure; the kernel counts it anew
    writer.commit(backups=True)
    return Resized(count * fs.block, limit if size > most else "")


def _put_count(fs: Filesystem, count: int) -> None:
    fs.sb["blocks_count_lo"] = count & 0xFFFFFFFF
    if fs.is_64bit:
        fs.sb["blocks_count_hi"] = count >> 32
    fs.sb["inodes_count"] = fs.groups * fs.inodes_per_group


def _make_room_for_descriptors(fs: Filesystem, old_base: int, old_reserved: int) -> bool:
    """Use reserved blocks, then meta_bg; returns whether the resize inode is given up for that."""
    if "meta_bg" in fs.features:
        return False
    needed = fs.desc_blocks - old_base
    if needed <= old_reserved:
        if "resize_inode" in fs.features:
            fs.sb["reserved_gdt_blocks"] = old_reserved - needed
        return False
    had_resize_inode = "resize_inode" in fs.features
    fs.set_feature("resize_inode", is_set=False)
    fs.set_feature("meta_bg", is_set=True)
    fs.sb["first_meta_bg"], fs.sb["reserved_gdt_blocks"] = old_base + old_reserved, 0
    return had_resize_inode


def _drop_scrap(fs: Filesystem, old_count: int) -> None:
    """Leave off a last group that could not hold its own tables."""
    last = fs.groups - 1
    if fs.group_start(last) >= old_count and fs.group_length(last) < overhead_of(fs, last) + LEAST_IN_GROUP:
        _put_count(fs, fs.group_start(last))


def _lengthen_last(writer: Writer, group: int, old_count: int) -> None:
    """The blocks behind the old end become free ones of what was the last group."""
    fs = writer.fs
    old_length, new_length = old_count - fs.group_start(group), fs.group_length(group)
    if new_length == old_length:
        return
    writer.bitmaps.block_bits(group)[old_length:new_length] = False
    writer.bitmaps.changed_blocks.add(group)
    fs.put("free_blocks_count", group, fs.get("free_blocks_count", group) + new_length - old_length)


def _scale_counts(fs: Filesystem, old_count: int) -> None:
    """The share that is reserved for the system stays the same."""
    reserved = int(fs.sb["r_blocks_count_lo"]) | (int(fs.sb["r_blocks_count_hi"]) << 32 if fs.is_64bit else 0)
    reserved = reserved * fs.block_count // old_count
    fs.sb["r_blocks_count_lo"] = reserved & 0xFFFFFFFF
    if fs.is_64bit:
        fs.sb["r_blocks_count_hi"] = reserved >> 32


def _drop_resize_inode(writer: Writer) -> None:
    """Its reserved blocks hold descriptors now; only its double-indirect block becomes free."""
    inode = record_of(writer.raw(RESIZE))
    double = int(np.frombuffer(inode["block"].tobytes(), "<u4")[DOUBLE])
    if 0 < double < writer.fs.block_count:
        writer.allocator.release(double, 1)
    writer.put_inode(RESIZE, bytes(writer.fs.inode_size))
