"""Where a file's blocks lie: extent trees and indirect blocks, in both directions.

A mapping is an array of RUN, ordered by logical block, holes left out. Source: the kernel's ext4
documentation, "The Contents of inode.i_block".
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.volumes.ext.filesystem import Filesystem, crc32c
from mosscrate.core.volumes.ext.structures import (
    EXTENT,
    EXTENT_HEADER,
    EXTENT_INDEX,
    EXTENT_MAGIC,
    MAX_DEPTH,
    RUN,
    UNWRITTEN,
)

Runs = NDArray[np.void]
NO_RUNS: Runs = np.zeros(0, RUN)
DIRECT = 12
_EXTENT = struct.Struct("<IHHI")       # EXTENT, one at a time
_ROOM_IN_INODE = 4                     # extents or index entries in the 60 bytes


@dataclass
class Mapping:
    """Runs of a file, and the blocks that hold the map itself."""

    runs: Runs
    tree: list[int] = field(default_factory=list)


def read_extents(fs: Filesystem, root: bytes, where: str) -> Mapping:
    """The runs of an extent tree. Raises FormatError where it leaves the volume or is no tree."""
    found: list[NDArray[np.void]] = []
    tree: list[int] = []
    queue: list[tuple[int, int]] = []
    depth = _level(fs, root, None, where, found, queue)
    seen: set[int] = set()
    while queue:
        wanted, block = queue.pop(0)
        if block in seen or not 0 < block < fs.block_count:
            raise _error(fs, where, block, "a block that is no part of the tree yet")
        seen.add(block)
        tree.append(block)
        if len(tree) > fs.block_count // 64 + 16:
            raise _error(fs, where, block, "a tree of a likely size")
        _level(fs, fs.blocks.read(block * fs.block, fs.block), wanted, where, found, queue)
    if depth > MAX_DEPTH:
        raise _error(fs, where, depth, f"at most {MAX_DEPTH} levels")
    if not found:
        return Mapping(NO_RUNS, tree)
    raw = np.concatenate(found)
    runs = np.zeros(len(raw), RUN)
    length = raw["len"].astype(np.int64)
    runs["unwritten"] = length > UNWRITTEN
    runs["length"] = np.where(length > UNWRITTEN, length - UNWRITTEN, length)
    runs["logical"] = raw["block"]
    runs["physical"] = raw["start_lo"].astype(np.int64) | raw["start_hi"].astype(np.int64) << 32
    return Mapping(_checked(fs, runs, where), tree)


def read_indirect(fs: Filesystem, root: bytes, size: int, where: str) -> Mapping:
    """The runs of direct and indirect blocks, up to `size` bytes. Raises FormatError."""
    per = fs.block // 4
    wanted = min(-(-size // fs.block), DIRECT + per + per**2 + per**3)
    slots = np.frombuffer(root, "<u4").astype(np.int64)
    leaves = [(0, slots[:min(DIRECT, wanted)])]
    tree: dict[int, None] = {}
    first = DIRECT
    for level in (1, 2, 3):
        if first < wanted:
            _indirect(fs, int(slots[DIRECT + level - 1]), level, first, wanted, leaves, tree, where)
        first += per**level
    logical = np.concatenate([np.arange(at, at + len(pointers)) for at, pointers in leaves])
    return Mapping(_checked(fs, runs_of(np.concatenate([p for _, p in leaves]), logical), where), list(tree))


def runs_of(pointers: NDArray[np.int64], logical: NDArray[np.int64]) -> Runs:
    """Runs of block numbers and the logical blocks that they stand for; 0 is a hole."""
    used = np.flatnonzero(pointers)
    if len(used) == 0:
        return NO_RUNS
    blocks, places = pointers[used], logical[used]
    cuts = np.flatnonzero((np.diff(places) != 1) | (np.diff(blocks) != 1)) + 1
    first = np.append(0, cuts)
    runs = np.zeros(len(first), RUN)
    runs["logical"], runs["physical"] = places[first], blocks[first]
    runs["length"] = np.diff(np.append(first, len(used)))
    return runs


def build_extents(fs: Filesystem, runs: Runs, take: Callable[[], int], seed: int) -> tuple[bytes, dict[int, bytes]]:
    """The 60 bytes for an inode, and {block: bytes} of the tree below it; `take` gives a free block."""
    if len(runs) <= _ROOM_IN_INODE and (len(runs) == 0 or int(runs["length"].max()) < UNWRITTEN):
        return _small_root(runs), {}
    rows = _split(runs)
    if len(rows) <= _ROOM_IN_INODE:
        return _node(rows, _ROOM_IN_INODE, 0).ljust(60, b"\0"), {}
    room, made, depth = (fs.block - EXTENT_HEADER.size) // EXTENT.itemsize, {}, 0
    while len(rows) > _ROOM_IN_INODE:
        above = np.zeros(-(-len(rows) // room), EXTENT_INDEX)
        for number in range(len(above)):
            part = rows[number * room:(number + 1) * room]
            block = take()
            body = _node(part, room, depth).ljust(EXTENT_HEADER.size + room * EXTENT.itemsize, b"\0")
            tail = crc32c(seed, body).to_bytes(4, "little") if fs.has_checksums else b""
            made[block] = (body + tail).ljust(fs.block, b"\0")
            above[number] = (part["block"][0], block & 0xFFFFFFFF, block >> 32, 0)
        rows, depth = above, depth + 1
    return _node(rows, _ROOM_IN_INODE, depth).ljust(60, b"\0"), made


def build_indirect(fs: Filesystem, runs: Runs, take: Callable[[], int]) -> tuple[bytes, dict[int, bytes]]:
    """The same with indirect blocks. Raises FitError for a file beyond their reach."""
    per = fs.block // 4
    end = int(runs["logical"][-1] + runs["length"][-1]) if len(runs) else 0
    if end > DIRECT + per + per**2 + per**3 or (len(runs) and int((runs["physical"] + runs["length"]).max()) > 2**32):
        raise FitError("The file is too large for the kind of map that this volume uses.")
    pointers = np.zeros(end, np.int64)
    for run in runs:
        first = int(run["logical"])
        pointers[first:first + int(run["length"])] = np.arange(run["physical"], run["physical"] + run["length"])
    made: dict[int, bytes] = {}
    slots = np.zeros(15, "<u4")
    slots[:min(DIRECT, end)] = pointers[:DIRECT]
    at = DIRECT
    for level in (1, 2, 3):
        if at < end:
            slots[DIRECT + level - 1] = _build_level(fs, pointers[at:at + per**level], level, take, made)
            at += per**level
    return slots.tobytes(), made


def _level(fs: Filesystem, node: bytes, wanted: int | None, where: str, found: list[NDArray[np.void]],
           queue: list[tuple[int, int]]) -> int:
    """Take the entries of one node; index entries join the queue. Returns the node's depth."""
    magic, entries, _, depth, _ = EXTENT_HEADER.unpack_from(node)
    if magic != EXTENT_MAGIC or (wanted is not None and depth != wanted) or depth > MAX_DEPTH:
        raise _error(fs, where, magic, "an extent header of the right depth")
    if EXTENT_HEADER.size + entries * EXTENT.itemsize > len(node):
        raise _error(fs, where, entries, "entries that fit into their block")
    if depth == 0:
        found.append(np.frombuffer(node, EXTENT, count=entries, offset=EXTENT_HEADER.size))
    else:
        index = np.frombuffer(node, EXTENT_INDEX, count=entries, offset=EXTENT_HEADER.size)
        leaves = index["leaf_lo"].astype(np.int64) | index["leaf_hi"].astype(np.int64) << 32
        queue.extend((depth - 1, leaf) for leaf in leaves.tolist())
    return int(depth)


def _indirect(fs: Filesystem, block: int, level: int, first: int, wanted: int,
              leaves: list[tuple[int, NDArray[np.int64]]], tree: dict[int, None], where: str) -> None:
    """Add what one indirect block leads to: (first logical block, block numbers) of every leaf."""
    if block == 0:
        return
    if block >= fs.block_count or block in tree:
        raise _error(fs, where, block, "a block of the volume that is no part of the map yet")
    tree[block] = None
    below = np.frombuffer(fs.blocks.read(block * fs.block, fs.block), "<u4").astype(np.int64)
    if level == 1:
        leaves.append((first, below[:wanted - first]))
        return
    step = (fs.block // 4)**(level - 1)
    for number in np.flatnonzero(below).tolist():
        if first + number * step < wanted:
            _indirect(fs, int(below[number]), level - 1, first + number * step, wanted, leaves, tree, where)


def _build_level(fs: Filesystem, pointers: NDArray[np.int64], level: int, take: Callable[[], int],
                 made: dict[int, bytes]) -> int:
    if not pointers.any():
        return 0
    per, block = fs.block // 4, take()
    if level > 1:
        step = per**(level - 1)
        pointers = np.array([_build_level(fs, pointers[k:k + step], level - 1, take, made)
                             for k in range(0, len(pointers), step)], np.int64)
    made[block] = pointers.astype("<u4").tobytes().ljust(fs.block, b"\0")
    return block


def _small_root(runs: Runs) -> bytes:
    """The 60 bytes of a file in few pieces: most files are, so this is the quick way."""
    out = EXTENT_HEADER.pack(EXTENT_MAGIC, len(runs), _ROOM_IN_INODE, 0, 0)
    for logical, physical, length, unwritten in runs.tolist():
        out += _EXTENT.pack(logical, length + (UNWRITTEN if unwritten else 0), physical >> 32, physical & 0xFFFFFFFF)
    return out.ljust(60, b"\0")


def _split(runs: Runs) -> NDArray[np.void]:
    """Extents of at most 32768 (unwritten: 32767) blocks."""
    limits = np.where(runs["unwritten"], UNWRITTEN - 1, UNWRITTEN)
    counts = -(-runs["length"] // limits)
    index = np.repeat(np.arange(len(runs)), counts)
    step = (np.arange(len(index)) - np.repeat(np.cumsum(counts) - counts, counts)) * limits[index]
    rows = np.zeros(len(index), EXTENT)
    length = np.minimum(limits[index], runs["length"][index] - step)
    physical = runs["physical"][index] + step
    rows["block"] = runs["logical"][index] + step
    rows["len"] = length + np.where(runs["unwritten"][index], UNWRITTEN, 0)
    rows["start_lo"], rows["start_hi"] = physical & 0xFFFFFFFF, physical >> 32
    return rows


def _node(rows: NDArray[np.void], room: int, depth: int) -> bytes:
    return EXTENT_HEADER.pack(EXTENT_MAGIC, len(rows), room, depth, 0) + rows.tobytes()


def _checked(fs: Filesystem, runs: Runs, where: str) -> Runs:
    """Raises FormatError where runs overlap, are empty or leave the volume."""
    if len(runs) == 0:
        return runs
    ends = runs["physical"] + runs["length"]
    wrong = (runs["length"] <= 0) | (runs["physical"] <= 0) | (ends > fs.block_count)
    wrong[1:] |= runs["logical"][1:] < (runs["logical"] + runs["length"])[:-1]
    if wrong.any():
        raise _error(fs, where, int(runs["physical"][wrong][0]), "blocks of the volume, in order")
    return runs


def _error(fs: Filesystem, where: str, found: int, expected: str) -> FormatError:
    return FormatError("ext block map", where, 0, found, expected)
