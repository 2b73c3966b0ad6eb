"""Groups and the resize inode as they are laid out when a volume is made, grown or shrunk."""

from __future__ import annotations

import numpy as np

from mosscrate.core.volumes.ext.allocation import Bits
from mosscrate.core.volumes.ext.filesystem import Filesystem
from mosscrate.core.volumes.ext.inodes import record_of
from mosscrate.core.volumes.ext.structures import BLOCK_UNINIT, INODE, INODE_UNINIT, RESIZE
from mosscrate.core.volumes.ext.writer import Writer, put_block_count

DOUBLE = 13                           # slot of i_block that leads to the double-indirect block


def overhead_of(fs: Filesystem, group: int) -> int:
    """Blocks that a group with its own tables cannot give to files."""
    return fs.base_blocks(group) + 2 + fs.table_blocks


def dress_group(writer: Writer, group: int) -> None:
    """Give a new group its bitmaps and inode table, behind its share of superblock and descriptors."""
    fs = writer.fs
    first = fs.group_start(group) + fs.base_blocks(group)
    for field, place in (("block_bitmap", first), ("inode_bitmap", first + 1), ("inode_table", first + 2)):
        fs.put(field, group, place)
    fs.put("free_blocks_count", group, fs.group_length(group) - overhead_of(fs, group))
    fs.put("free_inodes_count", group, fs.inodes_per_group)
    fs.put("used_dirs_count", group, 0)
    if fs.has_group_checksums:
        fs.put("itable_unused", group, fs.inodes_per_group)
        fs.desc["flags"][group] = INODE_UNINIT | BLOCK_UNINIT
    else:
        fs.blocks.zero((first + 2) * fs.block, fs.table_blocks * fs.block)
        fs.desc["flags"][group] = 0
        writer.bitmaps._inodes[group] = np.zeros(fs.inodes_per_group, bool)
        writer.bitmaps._blocks[group] = _implied(writer, group)
        writer.bitmaps.changed_inodes.add(group)
        writer.bitmaps.changed_blocks.add(group)
    if group == fs.groups - 1:
        writer.bitmaps.block_bits(group)
        writer.bitmaps.changed_blocks.add(group)             # its padding must be there


def _implied(writer: Writer, group: int) -> Bits:
    bits = writer.bitmaps._implied(group)
    bits[writer.fs.group_length(group):] = True
    return bits


def write_resize_inode(writer: Writer) -> None:
    """Let the resize inode lead to every reserved descriptor block and its copies.

    Its double-indirect block lists the reserved blocks behind the first superblock, each of which
    lists its copies in the groups that have one.
    """
    fs = writer.fs
    per, raw = fs.block // 4, writer.raw(RESIZE)
    inode = record_of(raw)
    slots = np.frombuffer(inode["block"].tobytes(), "<u4").copy()
    if not slots[DOUBLE]:
        slots[DOUBLE] = writer.allocator.take_one()
    groups = np.array(fs.super_groups()[1:], np.int64)
    double = np.zeros(per, "<u4")
    for number in range(fs.reserved_gdt):
        block = fs.first_data + 1 + fs.desc_blocks + number
        double[(fs.desc_blocks + number) % per] = block
        copies = np.zeros(per, "<u4")
        copies[:len(groups)] = block + groups * fs.per_group
        writer.pending[block] = copies.tobytes()
    writer.pending[int(slots[DOUBLE])] = double.tobytes()
    size = (per * per + per + 12) * fs.block
    inode["block"] = np.void(slots.tobytes())
    inode["size_lo"], inode["size_high"] = size & 0xFFFFFFFF, size >> 32
    put_block_count(fs, inode, 1 + fs.reserved_gdt * (1 + len(groups)))
    writer.put_inode(RESIZE, inode.tobytes()[:len(raw)] + raw[INODE.itemsize:])
