"""A fresh ext volume as a current Linux makes it: superblock, groups, journal, root and lost+found.

Source: the kernel's ext4 documentation. Groups keep their own bitmaps and tables; with group
checksums, parts that hold nothing are left unwritten and marked so.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from uuid import UUID, uuid4

import numpy as np

from mosscrate.core.binary import Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import GIB, KIB, MIB, binary
from mosscrate.core.volumes.base import Making
from mosscrate.core.volumes.ext import journal
from mosscrate.core.volumes.ext.directory import Row
from mosscrate.core.volumes.ext.facts import label_of
from mosscrate.core.volumes.ext.filesystem import Filesystem
from mosscrate.core.volumes.ext.inodes import IS_FILE, IS_FOLDER
from mosscrate.core.volumes.ext.layout import dress_group, overhead_of, write_resize_inode
from mosscrate.core.volumes.ext.structures import (
    CLEAN,
    COMPAT,
    DESCRIPTOR,
    FT_FOLDER,
    GOOD_OLD_FIRST,
    INCOMPAT,
    JOURNAL,
    MAGIC,
    RESIZE,
    RO_COMPAT,
    ROOT,
    SUPERBLOCK,
)
from mosscrate.core.volumes.ext.writer import Writer, runs_from
from mosscrate.core.volumes.signatures import FIRST_BYTES

INODE_SIZE = 256
RESERVED_PERCENT = 5
LOST_FOUND_BYTES = 16 * KIB
_COMMON = ("ext_attr", "resize_inode", "dir_index", "filetype", "sparse_super", "large_file")
FEATURES = {
    "ext2": _COMMON, "ext3": (*_COMMON, "has_journal"),
    "ext4": (*_COMMON, "has_journal", "extents", "64bit", "flex_bg", "huge_file", "dir_nlink", "extra_isize",
             "metadata_csum")}
_JOURNAL_BLOCKS = ((2048, 0), (32768, 1024), (262144, 4096), (524288, 8192), (1048576, 16384), (8388608, 32768))


@dataclass(frozen=True)
class Shape:
    """The numbers that a fresh volume is made with."""

    block: int
    block_count: int
    inodes_per_group: int
    features: tuple[str, ...]
    reserved_gdt: int


def plan(size: int, making: Making) -> Shape:
    """The numbers for a volume of `size` bytes. Raises FitError where it is too small or too large."""
    features = FEATURES[making.kind]
    block = making.block or (1 * KIB if size < 512 * MIB else 4 * KIB)
    if block not in (1024, 2048, 4096):
        raise FitError(f"An ext volume has blocks of 1, 2 or 4 KiB, not {binary(block)}.")
    count = size // block
    if count < 64 or ("64bit" not in features and count > 2**32 - 1):
        raise FitError(f"An {making.kind} volume cannot be {binary(size)} large.")
    per_group, first = 8 * block, 1 if block == 1024 else 0
    groups = -(-(count - first) // per_group)
    ratio = 8 * KIB if size < 512 * MIB else 16 * KIB
    per_block = block // INODE_SIZE
    wanted = max(16, -(-size // ratio // groups))
    inodes = min(8 * block, -(-wanted // max(8, per_block)) * max(8, per_block))
    if groups * inodes >= 2**32:
        inodes = (2**32 - 1) // groups // 8 * 8
    desc_per_block = block // (64 if "64bit" in features else 32)
    desc = -(-groups // desc_per_block)
    most = min(2**32 - 1, count * 1024)
    most_groups = -(-(most - first) // per_group)
    reserved = min(-(-most_groups // desc_per_block) - desc, block // 4)
    return Shape(block, count, inodes, features, max(0, reserved))


def make(blocks: Blocks, making: Making) -> None:
    """Make an empty volume over all of `blocks`. Raises FitError before anything is written, MediumError."""
    shape = plan(blocks.size, making)
    label = label_of(making.label).encode()
    try:
        uuid = UUID(making.id).bytes if making.id else uuid4().bytes
    except ValueError:
        raise FitError(f"“{making.id}” is not a UUID.") from None
    now = int(time.time()) if making.made is None else making.made
    fs = _bare(blocks, shape, uuid, label, now)
    blocks.zero(0, min(blocks.size, FIRST_BYTES))            # an older volume must not shine through
    writer = Writer(fs, now=lambda: now)
    for group in range(fs.groups):
        dress_group(writer, group)
    _reserve_inodes(writer)
    _root(writer)
    if "resize_inode" in shape.features:
        _resize_inode(writer)
    if "has_journal" in shape.features:
        _journal(writer, uuid)
    writer.commit(backups=True)


def _bare(blocks: Blocks, shape: Shape, uuid: bytes, label: bytes, now: int) -> Filesystem:
    """A file system with groups that are not dressed yet. Raises FitError for one that has no room for them."""
    per_group, first = 8 * shape.block, 1 if shape.block == 1024 else 0
    sb = np.zeros((), SUPERBLOCK)
    groups = -(-(shape.block_count - first) // per_group)
    count = shape.block_count
    values = {
        "first_data_block": first, "log_block_size": shape.block.bit_length() - 11,
        "log_cluster_size": shape.block.bit_length() - 11, "blocks_per_group": per_group,
        "clusters_per_group": per_group, "inodes_per_group": shape.inodes_per_group, "magic": MAGIC, "state": CLEAN,
        "errors": 1, "rev_level": 1, "first_ino": GOOD_OLD_FIRST, "inode_size": INODE_SIZE, "max_mnt_count": 0xFFFF,
        "lastcheck": now, "mkfs_time": now, "wtime": now, "def_hash_version": 1, "desc_size": 0,
        "reserved_gdt_blocks": shape.reserved_gdt, "min_extra_isize": 32, "want_extra_isize": 32, "flags": 1}
    for name in shape.features:
        for field, table in (("feature_compat", COMPAT), ("feature_incompat", INCOMPAT),
                             ("feature_ro_compat", RO_COMPAT)):
            values[field] = values.get(field, 0) | table.get(name, 0)
    if "64bit" in shape.features:
        values["desc_size"] = 64
    if "flex_bg" in shape.features:
        values["log_groups_per_flex"] = 4
    if "metadata_csum" in shape.features:
        values["checksum_type"] = 1
    for field, value in values.items():
        sb[field] = value
    sb["uuid"], sb["volume_name"] = np.void(uuid), np.void(label.ljust(16, b"\0"))
    sb["hash_seed"] = np.void(uuid4().bytes)
    put_block_count(sb, count)
    fs = Filesystem.__new__(Filesystem)
    fs.blocks, fs.sb = blocks, sb
    fs.desc = np.zeros(groups, DESCRIPTOR)
    last = groups - 1
    if groups > 1 and fs.group_length(last) < overhead_of(fs, last) + 50:
        put_block_count(sb, fs.group_start(last))            # a scrap that could not hold its own tables
        groups -= 1
        fs.desc = fs.desc[:groups].copy()
    if fs.group_length(groups - 1) < overhead_of(fs, groups - 1) + 16:
        raise FitError(f"{binary(blocks.size)} are too few for an ext volume.")
    sb["inodes_count"] = groups * shape.inodes_per_group
    percent = RESERVED_PERCENT if fs.block_count * fs.block < 4 * GIB else 1
    reserved = fs.block_count * percent // 100
    sb["r_blocks_count_lo"], sb["r_blocks_count_hi"] = reserved & 0xFFFFFFFF, reserved >> 32
    return fs


def put_block_count(sb: Record, count: int) -> None:
    """Both halves of the block count."""
    sb["blocks_count_lo"], sb["blocks_count_hi"] = count & 0xFFFFFFFF, count >> 32


def _reserve_inodes(writer: Writer) -> None:
    """Inodes 1 to 10 count as used; those that hold nothing are zeros."""
    fs = writer.fs
    for number in range(1, fs.first_inode):
        writer.allocator._mark_inode(number, is_used=True, is_folder=number == ROOT)
        writer.put_inode(number, bytes(fs.inode_size))


def _root(writer: Writer) -> None:
    fs = writer.fs
    lost = writer.allocator.take_inode(is_folder=True)
    root = writer.new_inode(mode=IS_FOLDER | 0o755, owner=(0, 0), size=0, links=3, modified=writer.now)
    rows = (Row(".", ROOT, FT_FOLDER), Row("..", ROOT, FT_FOLDER), Row("lost+found", lost, FT_FOLDER))
    writer.put_inode(ROOT, writer.write_folder(ROOT, root, rows))
    raw = writer.new_inode(mode=IS_FOLDER | 0o700, owner=(0, 0), size=0, links=2, modified=writer.now)
    first = writer.write_folder(lost, raw, (Row(".", lost, FT_FOLDER), Row("..", ROOT, FT_FOLDER)))
    writer.put_inode(lost, _with_empty_blocks(writer, lost, first, LOST_FOUND_BYTES // fs.block))


def _with_empty_blocks(writer: Writer, number: int, raw: bytes, count: int) -> bytes:
    """A folder with room for later entries: blocks that hold one unused entry each."""
    from mosscrate.core.volumes.ext import directory
    from mosscrate.core.volumes.ext.inodes import mapping_of, record_of
    from mosscrate.core.volumes.ext.structures import INODE

    fs, inode = writer.fs, record_of(raw)
    first = int(mapping_of(fs, inode, "lost+found").runs["physical"][0])
    seed = fs.inode_seed(number, int(inode["generation"]))
    taken = writer.allocator.take(max(0, count - 1))
    for start, length in taken:
        for block in range(start, start + length):
            writer.pending[block] = directory.build(fs, (), seed)[0]
    inode["size_lo"] = max(1, count) * fs.block
    raw = inode.tobytes()[:len(raw)] + raw[INODE.itemsize:]
    return writer.with_runs(number, raw, runs_from([(first, 1), *taken]))


def _journal(writer: Writer, uuid: bytes) -> None:
    fs = writer.fs
    count = next((n for limit, n in _JOURNAL_BLOCKS if fs.block_count < limit), 65536)
    if not count:
        fs.set_feature("has_journal", is_set=False)
        return
    taken = writer.allocator.take(count)
    raw = writer.new_inode(mode=IS_FILE | 0o600, owner=(0, 0), size=count * fs.block, links=1, modified=writer.now)
    raw = writer.with_runs(JOURNAL, raw, runs_from(taken))
    writer.put_inode(JOURNAL, raw)
    first, length = taken[0]
    writer.pending[first] = journal.fresh_superblock(fs, count, uuid)
    for start, length in taken:                              # old blocks must not look like transactions
        skip = 1 if start == first else 0
        fs.blocks.zero((start + skip) * fs.block, (length - skip) * fs.block)
    fs.sb["journal_inum"] = JOURNAL
    note_journal(fs, raw)


def note_journal(fs: Filesystem, raw: bytes) -> None:
    """Keep the superblock's own copy of where the journal lies."""
    from mosscrate.core.volumes.ext.inodes import record_of
    inode = record_of(raw)
    fs.sb["jnl_backup_type"] = 1
    fs.sb["jnl_blocks"] = np.void(inode["block"].tobytes() + int(inode["size_high"]).to_bytes(4, "little")
                                  + int(inode["size_lo"]).to_bytes(4, "little"))


def _resize_inode(writer: Writer) -> None:
    raw = writer.new_inode(mode=IS_FILE | 0o600, owner=(0, 0), size=0, links=1, modified=writer.now)
    writer.put_inode(RESIZE, raw)
    write_resize_inode(writer)
