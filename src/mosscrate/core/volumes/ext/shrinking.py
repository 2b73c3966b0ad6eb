"""Shrinking an ext volume in place: what lies behind the new end moves into free room before it.

Three things can lie there: blocks of files (and of their maps), inodes, and blocks of extended
attributes. An inode that moves gets another number, so every folder that names it is written anew.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.base import Resized
from mosscrate.core.volumes.ext.directory import Row
from mosscrate.core.volumes.ext.editing import sealed_attributes
from mosscrate.core.volumes.ext.filesystem import Filesystem, open_filesystem
from mosscrate.core.volumes.ext.growing import LEAST_IN_GROUP
from mosscrate.core.volumes.ext.inodes import (
    FORMAT_MASK,
    IS_FOLDER,
    has_map,
    mapping_of,
    record_of,
    xattr_block,
)
from mosscrate.core.volumes.ext.layout import write_resize_inode
from mosscrate.core.volumes.ext.making import note_journal
from mosscrate.core.volumes.ext.mapping import Mapping, Runs
from mosscrate.core.volumes.ext.orphans import PRESENT, orphan_file, sealed_orphans
from mosscrate.core.volumes.ext.structures import INODE, RESIZE, RUN
from mosscrate.core.volumes.ext.volume import ExtVolume
from mosscrate.core.volumes.ext.writer import PIECE, Writer
from mosscrate.core.watch import Watch

NAMED_IN_SUPERBLOCK = ("orphan_file_inum", "lpf_ino", "usr_quota_inum", "grp_quota_inum", "prj_quota_inum")
_SPARE = 64                            # blocks for maps that get longer when files are cut into more runs


def smallest(fs: Filesystem) -> tuple[int, str]:
    """Bytes that the volume can be shrunk to, and what stands there; 0 where it cannot shrink."""
    try:
        fs.must_be_changeable()
        if {"stable_inodes", PRESENT} & fs.features or int(fs.sb["last_orphan"]):
            raise FitError("The volume wants its inodes to stay where they are.")
    except FitError as error:
        return 0, str(error)
    own = np.array([fs.base_blocks(g) for g in range(fs.groups)], np.int64) + 2 + fs.table_blocks
    lengths = np.array([fs.group_length(g) for g in range(fs.groups)], np.int64)
    data = int((lengths - fs.wide("free_blocks_count")).sum() - own.sum())
    data += _SPARE + data // 100
    used_inodes = int(fs.inodes_per_group * fs.groups - fs.wide("free_inodes_count").sum())
    room, ends = np.cumsum(lengths - own), _table_ends(fs)
    for count in range(1, fs.groups + 1):
        last = count - 1
        end = fs.group_start(last) + int(lengths[last])
        need = data + sum(n for _, first, n in _tables(fs, count) if first < end)    # they go only at the very end
        if room[last] < need or count * fs.inodes_per_group < used_inodes:
            continue
        before = int(room[last - 1]) if last else 0
        wanted = fs.group_start(last) + int(own[last]) + max(LEAST_IN_GROUP, need - before)
        wanted = max(wanted, int(ends[:count].max()))
        if wanted <= end:
            return wanted * fs.block, "its files and its own tables need that room"
    return fs.block_count * fs.block, "its files and its own tables need that room"


def shrink(blocks: Blocks, size: int, watch: Watch) -> Resized:
    """Shrink the volume at the start of `blocks` to at most `size` bytes. Raises FitError, FormatError."""
    fs = open_filesystem(blocks)
    low, because = smallest(fs)
    if not low or size < low:
        raise FitError(f"The volume cannot be smaller than {binary(low)}: {because}." if low else because)
    count = size // fs.block
    groups = -(-(count - fs.first_data) // fs.per_group)
    if groups > 1 and count - fs.group_start(groups - 1) < fs.base_blocks(groups - 1) + 2 + fs.table_blocks + \
            LEAST_IN_GROUP:
        groups -= 1
        count = fs.group_start(groups)
    if count >= fs.block_count:
        return Resized(fs.block_count * fs.block)
    _Shrinking(blocks, fs, count, groups).run(watch)
    return Resized(count * fs.block)


@dataclass
class _Moves:
    """Inodes by what has to happen to them."""

    remap: dict[int, Mapping] = field(default_factory=dict)
    renumber: dict[int, int] = field(default_factory=dict)
    attributes: dict[int, int] = field(default_factory=dict)


class _Shrinking:
    """One volume on its way to fewer blocks."""

    def __init__(self, blocks: Blocks, fs: Filesystem, count: int, groups: int) -> None:
        self.blocks, self.fs, self.count, self.groups = blocks, fs, count, groups
        self.volume = ExtVolume(blocks)
        self.most_inodes = groups * fs.inodes_per_group
        self.w = Writer(fs, end=count)

    def run(self, watch: Watch) -> None:
        """Move, renumber, cut."""
        moves = self._plan(watch)
        for number in moves.renumber:
            is_folder = int(record_of(self.w.raw(number))["mode"]) & FORMAT_MASK == IS_FOLDER
            moves.renumber[number] = self.w.allocator.take_inode(is_folder=is_folder)
        self._move_attributes(moves)
        for done, (number, mapping) in enumerate(moves.remap.items(), start=1):
            self._move(number, moves.renumber.get(number, number), mapping)
            watch.progress("Moving files before the new end", done, len(moves.remap))
        self._rename_inodes(moves)
        self._cut()
        self.w.commit(backups=True)

    def _plan(self, watch: Watch) -> _Moves:
        """Find every inode that has something behind the new end, or lies there itself."""
        moves = _Moves()
        for group in range(self.fs.groups):
            for number in self._used(group):
                raw = self.w.raw(number)
                inode = record_of(raw)
                is_moved = number > self.most_inodes
                if is_moved:
                    moves.renumber[number] = 0
                block = xattr_block(inode)
                if block >= self.count:
                    moves.attributes[block] = 0
                if number == RESIZE or not has_map(inode):
                    continue
                mapping = mapping_of(self.fs, inode, f"inode {number}")
                ends = mapping.runs["physical"] + mapping.runs["length"]
                if is_moved or (ends > self.count).any() or any(b >= self.count for b in mapping.tree):
                    moves.remap[number] = mapping
            watch.progress("Looking for what lies behind the new end", group, self.fs.groups)
        return moves

    def _used(self, group: int) -> list[int]:
        table = self.w.inodes.table(group)
        used = np.flatnonzero(self.w.bitmaps.inode_bits(group)) if table.any() else np.zeros(0, np.int64)
        return [int(place) + group * self.fs.inodes_per_group + 1 for place in used if table[place].any()]

    def _move_attributes(self, moves: _Moves) -> None:
        fs = self.fs
        for block in moves.attributes:
            to = self.w.allocator.take_one()
            data = self.blocks.read(block * fs.block, fs.block)
            self.w.pending[to] = sealed_attributes(fs.seed if fs.has_checksums else None, to, data)
            self.w.allocator.release(block, 1)
            moves.attributes[block] = to
        if not moves.attributes:
            return
        for group in range(fs.groups):
            for number in self._used(group):
                raw = self.w.raw(number)
                inode = record_of(raw)
                to = moves.attributes.get(xattr_block(inode), 0)
                if to:
                    inode["file_acl_lo"], inode["file_acl_high"] = to & 0xFFFFFFFF, to >> 32
                    self.w.put_inode(number, inode.tobytes()[:len(raw)] + raw[INODE.itemsize:])

    def _move(self, number: int, new_number: int, mapping: Mapping) -> None:
        """Give a file blocks before the new end, copy what moves, write its map under its new number."""
        pieces = [self._moved(run) for run in mapping.runs]
        runs = np.concatenate(pieces) if pieces else mapping.runs
        raw = self.w.with_runs(new_number, self.w.raw(number), _merged(runs), old_tree=mapping.tree)
        self.w.put_inode(number, raw)
        if number == orphan_file(self.fs):
            self._seal_orphans(new_number, int(record_of(raw)["generation"]), runs)
        if number == int(self.fs.sb["journal_inum"]):
            note_journal(self.fs, raw)

    def _seal_orphans(self, number: int, generation: int, runs: Runs) -> None:
        """Its blocks stand elsewhere now, or its inode has another number: both are in their checksums."""
        fs = self.fs
        for run in runs:
            for block in range(int(run["physical"]), int(run["physical"]) + int(run["length"])):
                data = self.blocks.read(block * fs.block, fs.block)
                self.w.pending[block] = sealed_orphans(fs, number, generation, block, data)

    def _moved(self, run: np.void) -> Runs:
        """The run as it will be: its part before the end stays."""
        unit = self.fs.block
        logical, physical, length = int(run["logical"]), int(run["physical"]), int(run["length"])
        stays = max(0, min(length, self.count - physical))
        found = [(logical, physical, stays, bool(run["unwritten"]))] if stays else []
        at = stays
        if length > stays:
            for first, count in self.w.allocator.take(length - stays):
                if not run["unwritten"]:
                    for done in range(0, count * unit, PIECE):
                        data = self.blocks.read((physical + at) * unit + done, min(PIECE, count * unit - done))
                        self.blocks.write(first * unit + done, data)
                found.append((logical + at, first, count, bool(run["unwritten"])))
                at += count
            self.w.allocator.release(physical + stays, length - stays)
        return np.array(found, RUN)

    def _rename_inodes(self, moves: _Moves) -> None:
        """Put moved inodes under their new numbers, and write every folder that names one."""
        if not moves.renumber:
            return
        fs, new = self.fs, moves.renumber
        for field_ in NAMED_IN_SUPERBLOCK:
            fs.sb[field_] = new.get(int(fs.sb[field_]), int(fs.sb[field_]))
        folders = [n for group in range(fs.groups) for n in self._used(group) if self._is_live_folder(n)]
        for old, number in new.items():
            self.w.put_inode(number, self.w.raw(old))
            self.w.changed.pop(old, None)
            self.w.allocator.release_inode(old, is_folder=old in folders)
        for number in folders:
            rows = list(self.volume.rows(number))
            if number in new or any(r.inode in new for r in rows):
                rows = [Row(r.name, new.get(r.inode, r.inode), r.type) for r in rows]
                self._write_rows(new.get(number, number), rows)

    def _is_live_folder(self, number: int) -> bool:
        inode = record_of(self.w.inodes.raw(number))
        return int(inode["mode"]) & FORMAT_MASK == IS_FOLDER and int(inode["links_count"]) > 0

    def _write_rows(self, number: int, rows: list[Row]) -> None:
        raw = self.w.raw(number)
        times = record_of(raw)[["mtime", "ctime"]]
        raw = self.w.write_folder(number, raw, rows)
        inode = record_of(raw)
        inode["mtime"], inode["ctime"] = times["mtime"], times["ctime"]      # nobody changed this folder
        self.w.put_inode(number, inode.tobytes()[:len(raw)] + raw[INODE.itemsize:])

    def _cut(self) -> None:
        """The superblock and descriptors of the shorter volume."""
        fs, w = self.fs, self.w
        old_desc, old_count, last = fs.desc_blocks, fs.block_count, self.groups - 1
        bits = w.bitmaps.block_bits(last)                    # as long as it was, before the count changes
        for _, first, length in _tables(fs, self.groups):
            if first < self.count:
                w.allocator.release(first, length)
        w.allocator.settle()
        fs.sb["blocks_count_lo"] = self.count & 0xFFFFFFFF
        if fs.is_64bit:
            fs.sb["blocks_count_hi"] = self.count >> 32
        fs.sb["inodes_count"] = self.most_inodes
        fs.desc = fs.desc[:self.groups].copy()
        w.bitmaps.changed_blocks = {g for g in w.bitmaps.changed_blocks if g < self.groups}
        w.bitmaps.changed_inodes = {g for g in w.bitmaps.changed_inodes if g < self.groups}
        gone = int((~bits[fs.group_length(last):self._old_length(last, old_count)]).sum())
        bits[fs.group_length(last):] = True
        w.bitmaps.changed_blocks.add(last)
        fs.put("free_blocks_count", last, fs.get("free_blocks_count", last) - gone)
        self._keep_descriptor_room(old_desc)
        if "sparse_super2" in fs.features:
            fs.sb["backup_bgs"] = [g if g < self.groups else 0 for g in fs.sb["backup_bgs"].tolist()]
        if "resize_inode" in fs.features:
            write_resize_inode(w)
        reserved = int(fs.sb["r_blocks_count_lo"]) | (int(fs.sb["r_blocks_count_hi"]) << 32 if fs.is_64bit else 0)
        reserved = reserved * self.count // old_count
        fs.sb["r_blocks_count_lo"] = reserved & 0xFFFFFFFF
        if fs.is_64bit:
            fs.sb["r_blocks_count_hi"] = reserved >> 32
        fs.sb["overhead_clusters"] = 0

    def _old_length(self, group: int, old_count: int) -> int:
        return min(self.fs.per_group, old_count - self.fs.group_start(group))

    def _keep_descriptor_room(self, old_desc: int) -> None:
        """Blocks that descriptors no longer need are reserved for growing, or become free."""
        fs = self.fs
        if "meta_bg" in fs.features:
            old_base = int(fs.sb["first_meta_bg"])
            fs.sb["first_meta_bg"] = min(old_base, fs.desc_blocks)
            spare = old_base - int(fs.sb["first_meta_bg"])
        else:
            spare = old_desc - fs.desc_blocks
        if spare <= 0:
            return
        if "resize_inode" in fs.features:
            kept = min(spare, fs.block // 4 - fs.reserved_gdt)
            fs.sb["reserved_gdt_blocks"] = fs.reserved_gdt + kept
            spare -= kept
        for group in (g for g in range(self.groups) if fs.has_super(g) and spare):
            self.w.allocator.release(fs.group_start(group) + fs.base_blocks(group), spare)


def _tables(fs: Filesystem, first: int) -> list[tuple[int, int, int]]:
    """(group, block, blocks) of the bitmaps and tables of the groups from `first` on."""
    columns = (("block_bitmap", 1), ("inode_bitmap", 1), ("inode_table", fs.table_blocks))
    return [(g, place, length) for field, length in columns
            for g, place in enumerate(fs.wide(field)[first:].tolist(), start=first)]


def _table_ends(fs: Filesystem) -> NDArray[np.int64]:
    """The block behind the last of each group's bitmaps and inode table."""
    bitmaps = np.maximum(fs.wide("block_bitmap"), fs.wide("inode_bitmap")) + 1
    ends: NDArray[np.int64] = np.maximum(bitmaps, fs.wide("inode_table") + fs.table_blocks)
    return ends


def _merged(runs: Runs) -> Runs:
    """Neighbouring runs as one."""
    if len(runs) < 2:
        return runs
    ends_l, ends_p = runs["logical"] + runs["length"], runs["physical"] + runs["length"]
    joins = (runs["logical"][1:] == ends_l[:-1]) & (runs["physical"][1:] == ends_p[:-1]) & \
        (runs["unwritten"][1:] == runs["unwritten"][:-1])
    first = np.append(0, np.flatnonzero(~joins) + 1)
    merged: Runs = runs[first].copy()
    merged["length"] = np.add.reduceat(runs["length"], first)
    return merged


