"""Holds every change of an ext volume's metadata until it is written in one go.

File data go to free blocks at once; inodes, folders, bitmaps, descriptors and the superblock are
collected here, so that an interruption before `commit` leaves the old volume.
"""

from __future__ import annotations

import struct
import time
from collections.abc import Callable, Iterable, Sequence

import numpy as np

from mosscrate.core.volumes.ext import directory
from mosscrate.core.volumes.ext.allocation import Allocator, Bitmaps
from mosscrate.core.volumes.ext.filesystem import Filesystem
from mosscrate.core.volumes.ext.inodes import Inodes, mapping_of, record_of, sealed, xattr_block
from mosscrate.core.volumes.ext.mapping import NO_RUNS, Runs, build_extents, build_indirect
from mosscrate.core.volumes.ext.structures import (
    EXTENTS_FL,
    HUGE_FILE_FL,
    INDEX_FL,
    INLINE_DATA_FL,
    INODE,
    RUN,
    SUPERBLOCK_AT,
)
from mosscrate.core.volumes.patched import Patched

PIECE = 4 << 20
_INODE = struct.Struct("<HHIIIIIHHIII60sIIIIHHHHHHHHIIIIIII")
EXTRA_SIZE = 32                       # bytes of known fields behind the first 128


class Writer:
    """One volume under change."""

    def __init__(self, fs: Filesystem, *, end: int | None = None, now: Callable[[], float] = time.time,
                 forgoes_free: bool = True) -> None:
        self.fs, self.now = fs, int(now())
        self.pending: dict[int, bytes] = {}              # blocks by number
        fs.blocks = Patched(fs.blocks, fs.block, self.pending)
        self.inodes, self.bitmaps = Inodes(fs), Bitmaps(fs)
        self.allocator = Allocator(self.bitmaps, end=end, forgoes_free=forgoes_free)
        self.changed: dict[int, bytes] = {}              # inodes by number

    def raw(self, number: int) -> bytes:
        """An inode as it stands or as it was changed."""
        return self.changed.get(number) or self.inodes.raw(number)

    def put_inode(self, number: int, raw: bytes) -> None:
        """Change an inode; its checksum is set when it is written."""
        self.changed[number] = raw

    def new_inode(self, *, mode: int, owner: tuple[int, int], size: int, links: int, modified: int | None,
                  flags: int = 0, generation: int = 0, root: bytes = b"", blocks: int = 0) -> bytes:
        """A fresh inode of the volume's size; its block map is empty unless `root` is given."""
        fs, when = self.fs, self.now if modified is None else modified
        low, high = when & 0xFFFFFFFF, when >> 32 & 3 if when >= 0 else 0
        now = self.now & 0xFFFFFFFF
        extra = min(EXTRA_SIZE, fs.inode_size - 128)
        raw = _INODE.pack(mode, owner[0] & 0xFFFF, size & 0xFFFFFFFF, low, now, low, 0, owner[1] & 0xFFFF, links,
                          blocks * (fs.block // 512), flags, 0, root, generation, 0, size >> 32, 0, 0, 0,
                          owner[0] >> 16, owner[1] >> 16, 0, 0, extra, 0, 0, high, high, low, high, 0, 0)
        return raw[:fs.inode_size].ljust(fs.inode_size, b"\0")

    def new_file(self, number: int, taken: Sequence[tuple[int, int]], *, mode: int, owner: tuple[int, int], size: int,
                 modified: int | None, generation: int) -> bytes:
        """A fresh inode of a file that fills (first, count) stretches. Raises FitError."""
        fs, runs = self.fs, runs_from(taken)
        if "extents" in fs.features:
            root, made = build_extents(fs, runs, self.allocator.take_one, fs.inode_seed(number, generation))
            flags = EXTENTS_FL
        else:
            root, made = build_indirect(fs, runs, self.allocator.take_one)
            flags = 0
        self.pending |= made
        blocks = sum(count for _, count in taken) + len(made)
        if blocks * (fs.block // 512) >= 2**32:
            raw = self.new_inode(mode=mode, owner=owner, size=size, links=1, modified=modified, generation=generation)
            return self.with_runs(number, raw, runs, old_tree=list(made))
        return self.new_inode(mode=mode, owner=owner, size=size, links=1, modified=modified, generation=generation,
                              flags=flags, root=root, blocks=blocks)

    def with_runs(self, number: int, raw: bytes, runs: Runs, *, old_tree: Sequence[int] = ()) -> bytes:
        """An inode with another block map; the blocks of its old map are released, its data are not.

        Raises FitError where the map itself finds no room.
        """
        fs, inode = self.fs, record_of(raw)
        for block in old_tree:
            self.pending.pop(block, None)
            self.allocator.release(block, 1)
        flags = int(inode["flags"]) & ~(INDEX_FL | INLINE_DATA_FL)
        if "extents" in fs.features:
            flags |= EXTENTS_FL
            seed = fs.inode_seed(number, int(inode["generation"]))
            root, made = build_extents(fs, runs, self.allocator.take_one, seed)
        else:
            root, made = build_indirect(fs, runs, self.allocator.take_one)
        self.pending |= made
        count = int(runs["length"].sum()) + len(made) + (1 if xattr_block(inode) else 0)
        inode["flags"], inode["block"] = flags, np.void(root)
        put_block_count(fs, inode, count)
        return _patched(raw, inode)

    def write_folder(self, number: int, raw: bytes, rows: Iterable[directory.Row]) -> bytes:
        """Write a folder's entries into its blocks, taking more or releasing some; returns its inode."""
        fs, inode = self.fs, record_of(raw)
        blocks = directory.build(fs, rows, fs.inode_seed(number, int(inode["generation"])))
        old = mapping_of(fs, inode, f"folder with inode {number}") if self._is_known(raw) else None
        places = _places(old.runs) if old else []
        for block in places[len(blocks):]:
            self.pending.pop(block, None)
            self.allocator.release(block, 1)
        places = places[:len(blocks)]
        for first, count in self.allocator.take(len(blocks) - len(places)):
            places += range(first, first + count)
        self.pending.update(zip(places, blocks, strict=True))
        inode["size_lo"], inode["size_high"] = len(blocks) * fs.block, 0
        inode["mtime"] = inode["ctime"] = self.now & 0xFFFFFFFF
        return self.with_runs(number, _patched(raw, inode), runs_over(places), old_tree=old.tree if old else ())

    def release_data(self, raw: bytes, where: str) -> None:
        """Free all blocks of a file and of its map."""
        mapping = mapping_of(self.fs, record_of(raw), where)
        for run in mapping.runs:
            self.allocator.release(int(run["physical"]), int(run["length"]))
        for block in mapping.tree:
            self.pending.pop(block, None)
            self.allocator.release(block, 1)

    def commit(self, *, backups: bool = False) -> None:
        """Write everything that is held, the superblock last. Raises MediumError."""
        fs = self.fs
        self.allocator.settle()
        fs.sb["wtime"] = self.now & 0xFFFFFFFF
        writes = {**self.pending, **dict(self._table_blocks()), **dict(self.bitmaps.writes())}
        writes |= dict(fs.table_writes(backups=backups))
        extents = [(at * fs.block, data) for at, data in _joined(writes, fs.block)]
        superblock = fs.seal_superblock()
        for at, data in extents:
            fs.blocks.write(at, data)
        fs.blocks.write(SUPERBLOCK_AT, superblock)
        fs.blocks.flush()
        self.inodes = Inodes(fs)
        self.pending.clear()
        self.changed.clear()
        self.bitmaps.changed_blocks.clear()
        self.bitmaps.changed_inodes.clear()

    def _is_known(self, raw: bytes) -> bool:
        inode = record_of(raw)
        return bool(inode["block"].tobytes().strip(b"\0")) and not int(inode["flags"]) & INLINE_DATA_FL

    def _table_blocks(self) -> Iterable[tuple[int, bytes]]:
        """(block, bytes) of every block of an inode table that holds a changed inode."""
        fs, per = self.fs, self.fs.block // self.fs.inode_size
        touched: dict[tuple[int, int], list[int]] = {}
        for number in self.changed:
            group, place = divmod(number - 1, fs.inodes_per_group)
            touched.setdefault((group, place // per), []).append(number)
        for (group, block), numbers in touched.items():
            table = self.inodes.table(group)[block * per:(block + 1) * per].copy()
            for number in numbers:
                place = (number - 1) % fs.inodes_per_group % per
                raw = self.changed[number]
                data = sealed(fs, number, raw) if raw.strip(b"\0") else raw
                table[place] = np.frombuffer(data, np.uint8)
            yield fs.get("inode_table", group) + block, table.tobytes().ljust(fs.block, b"\0")


def put_block_count(fs: Filesystem, inode: np.void | object, count: int) -> None:
    """i_blocks, in units of 512 bytes, or of blocks for a huge file."""
    record: np.void = inode                                                # type: ignore[assignment]
    units = count * (fs.block // 512)
    if units >= 2**48 or int(record["flags"]) & HUGE_FILE_FL:
        record["flags"] = int(record["flags"]) | HUGE_FILE_FL
        units = count
    record["blocks_lo"], record["blocks_high"] = units & 0xFFFFFFFF, units >> 32


def runs_over(places: Sequence[int]) -> Runs:
    """Runs of blocks that follow each other in a file."""
    if not places:
        return NO_RUNS
    blocks = np.asarray(places, np.int64)
    first = np.append(0, np.flatnonzero(np.diff(blocks) != 1) + 1)
    runs = np.zeros(len(first), RUN)
    runs["logical"], runs["physical"] = first, blocks[first]
    runs["length"] = np.diff(np.append(first, len(blocks)))
    return runs


def runs_from(taken: Sequence[tuple[int, int]]) -> Runs:
    """Runs of a file that fills (first, count) stretches one after the other."""
    runs = np.zeros(len(taken), RUN)
    at = 0
    for number, (first, count) in enumerate(taken):
        runs[number] = (at, first, count, False)
        at += count
    return runs


def _places(runs: Runs) -> list[int]:
    return [b for r in runs for b in range(int(r["physical"]), int(r["physical"] + r["length"]))]


def _patched(raw: bytes, inode: np.void | object) -> bytes:
    data: bytes = inode.tobytes()                                          # type: ignore[union-attr]
    return (data[:len(raw)] + raw[INODE.itemsize:])[:len(raw)]


def _joined(writes: dict[int, bytes], unit: int) -> list[tuple[int, bytes]]:
    """Neighbouring blocks as one write of at most 4 MiB."""
    joined: list[tuple[int, list[bytes]]] = []
    end = length = 0
    for block in sorted(writes):
        if joined and block == end and length < PIECE:
            joined[-1][1].append(writes[block])
        else:
            joined.append((block, [writes[block]]))
            length = 0
        end, length = block + len(writes[block]) // unit, length + len(writes[block])
    return [(block, b"".join(parts)) for block, parts in joined]
