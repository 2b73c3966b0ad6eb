"""Whether what the inodes of an ext volume claim is what its bitmaps say. Source: the kernel's ext4 documentation."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes.base import Tree
from mosscrate.core.volumes.ext.allocation import Bitmaps
from mosscrate.core.volumes.ext.filesystem import Filesystem
from mosscrate.core.volumes.ext.inodes import has_map, mapping_of, record_of
from mosscrate.core.volumes.ext.structures import (
    BLOCK_UNINIT,
    EXTENT,
    EXTENT_HEADER,
    EXTENT_MAGIC,
    EXTENTS_FL,
    INLINE_DATA_FL,
    INODE,
    INODE_UNINIT,
    RESIZE,
    UNWRITTEN,
)
from mosscrate.core.volumes.ext.volume import ExtVolume
from mosscrate.core.volumes.soundness import Claims, Places, Soundness, unmarked_in, unreadable

_TABLES = 0                            # the owner of superblocks, descriptors, bitmaps and tables of inodes
_IN_INODE = np.dtype([("magic", "<u2"), ("entries", "<u2"), ("max", "<u2"), ("depth", "<u2"), ("generation", "<u4"),
                      ("extents", EXTENT, 4)])          # i_block of an inode with extents, 60 bytes
_MAPPED = (0x4000, 0x8000, 0xA000)     # folders, files, links


def soundness(volume: ExtVolume, tree: Tree) -> Soundness:
    """Inodes against one another, against the bitmaps, and names against inodes. Raises MediumError."""
    if volume.replayed:
        return Soundness(("Its journal holds changes that were not carried out yet. “Replay journal” carries them "
                          "out.",))
    fs = volume.fs
    if "bigalloc" in fs.features:
        return Soundness()                               # its bitmaps count clusters; it is not changed here either
    claims, broken, in_use = claims_of(volume, tree)
    first, last, crossed = claims.merged()
    nodes = np.array([e.node for e in tree.entries], np.int64)
    nameless = ~np.isin(nodes, in_use)
    broken += [f"“{tree.entries[n].path}” is named, but what it leads to is marked as free."
               for n in np.flatnonzero(nameless).tolist()]
    try:
        used = used_runs(fs, Bitmaps(fs))
    except FormatError as error:
        return Soundness((*unreadable(tree), *crossed, *broken, str(error)))
    unmarked = unmarked_in(first, last, used[:, 0], used[:, 1])
    lost = int((used[:, 1] - used[:, 0]).sum()) - (int((last - first).sum()) - unmarked)
    return Soundness((*unreadable(tree), *crossed, *broken), unmarked * fs.block, max(0, lost) * fs.block)


def used_runs(fs: Filesystem, bitmaps: Bitmaps) -> Places:
    """What the bitmaps mark as used, as rows of (first, last + 1). Raises FormatError."""
    unwritten = (fs.desc["flags"].astype(np.int64) & BLOCK_UNINIT != 0) & fs.has_group_checksums
    rows = [np.array([[0, fs.first_data]], np.int64), _implied(fs, np.flatnonzero(unwritten))]
    rows += [runs_of(bitmaps.block_bits(group)[:fs.group_length(group)]).astype(np.int64) + fs.group_start(group)
             for group in np.flatnonzero(~unwritten).tolist()]
    found = np.concatenate(rows)
    found = found[found[:, 0] < found[:, 1]]
    return found[np.argsort(found[:, 0], kind="stable")]


def _implied(fs: Filesystem, groups: Places) -> Places:
    """What groups hold whose bitmaps were never written: their share of superblocks, and their own tables in them."""
    starts = fs.first_data + groups * fs.per_group
    base = _base_blocks(fs, groups)
    rows = [np.stack((starts, starts + base), axis=1)]
    for name, length in (("block_bitmap", 1), ("inode_bitmap", 1), ("inode_table", fs.table_blocks)):
        first = fs.wide(name)[groups]
        inside = (first >= starts) & (first < starts + fs.per_group)
        rows.append(np.stack((first, first + length), axis=1)[inside])
    return np.concatenate(rows)


def _base_blocks(fs: Filesystem, groups: Places) -> Places:
    """Blocks for superblock and descriptors at the start of each group."""
    return np.array([fs.base_blocks(group) for group in groups.tolist()], np.int64)


def claims_of(volume: ExtVolume, tree: Tree) -> tuple[Claims, list[str], Places]:
    """Every run of blocks that something holds, sentences about what cannot be followed, inodes in use."""
    fs = volume.fs
    names = {e.node: e.path for e in tree.entries}
    claims = Claims(lambda owner: "the volume's own tables" if owner == _TABLES else
                    names.get(owner) or f"inode {owner}")
    base = _base_blocks(fs, np.arange(fs.groups))
    _tables(fs, base, claims)
    broken: list[str] = []
    attributes: set[int] = set()
    in_use: list[Places] = []
    bitmaps = Bitmaps(fs)
    unwritten = fs.desc["flags"].astype(np.int64) & INODE_UNINIT != 0 if fs.has_group_checksums else \
        np.zeros(fs.groups, bool)
    for group in np.flatnonzero(~unwritten).tolist():
        try:
            bits = bitmaps.inode_bits(group)
            table = volume.inodes.table(group) if bits.any() else None
        except FormatError as error:
            broken.append(str(error))
            continue
        if table is None:
            continue
        places = np.flatnonzero(bits)
        in_use.append(group * fs.inodes_per_group + places + 1)
        places = places[table[places].any(axis=1)]
        if not len(places):
            continue
        numbers = group * fs.inodes_per_group + places + 1
        raw = np.zeros((len(places), INODE.itemsize), np.uint8)
        width = min(fs.inode_size, INODE.itemsize)
        raw[:, :width] = table[places, :width]
        records = raw.view(INODE).reshape(-1)
        blocks = records["file_acl_lo"].astype(np.int64) | records["file_acl_high"].astype(np.int64) << 32
        for block, number in zip(blocks[blocks > 0].tolist(), numbers[blocks > 0].tolist(), strict=True):
            if block not in attributes:
                attributes.add(block)
                claims.add([block], [1], [number])
        simple = _with_few_extents(records)
        _claim_inline(records[simple], numbers[simple], claims)
        for place in np.flatnonzero(~simple).tolist():
            broken += _claim_alone(volume, int(numbers[place]), records[place], claims)
    for first, count, owner in zip(claims.firsts, claims.counts, claims.owners, strict=True):
        outside = (first < 0) | (first + count > fs.block_count) | (count < 0)
        broken += [f"“{claims.name(n)}” leads out of the volume." for n in owner[outside].tolist()]
    return claims, broken, np.concatenate(in_use) if in_use else np.zeros(0, np.int64)


def _tables(fs: Filesystem, base: Places, claims: Claims) -> None:
    groups = np.arange(fs.groups, dtype=np.int64)
    starts = fs.first_data + groups * fs.per_group
    own = np.zeros(fs.groups, np.int64)
    if fs.first_data:
        claims.add([0], [fs.first_data], [_TABLES])
    claims.add(starts[base > 0], base[base > 0], own[base > 0])
    for name, length in (("block_bitmap", 1), ("inode_bitmap", 1), ("inode_table", fs.table_blocks)):
        claims.add(fs.wide(name), own + length, own)
    if "mmp" in fs.features:
        claims.add([int(fs.sb["mmp_block"])], [1], [_TABLES])


def _with_few_extents(records: NDArray[np.void]) -> NDArray[np.bool_]:
    """Inodes whose whole map stands in them as up to four extents."""
    flags = records["flags"].astype(np.int64)
    kinds = records["mode"].astype(np.int64) & 0xF000
    roots = np.frombuffer(records["block"].tobytes(), _IN_INODE)
    is_map = ((flags & EXTENTS_FL) != 0) & ((flags & INLINE_DATA_FL) == 0) & np.isin(kinds, _MAPPED)
    return np.asarray(is_map & (roots["magic"] == EXTENT_MAGIC) & (roots["depth"] == 0) & (roots["entries"] <= 4))


def _claim_inline(records: NDArray[np.void], numbers: Places, claims: Claims) -> None:
    roots = np.frombuffer(records["block"].tobytes(), _IN_INODE)
    for k in range(4):
        there = roots["entries"] > k
        e = roots["extents"][there, k]
        length = e["len"].astype(np.int64)
        first = e["start_lo"].astype(np.int64) | e["start_hi"].astype(np.int64) << 32
        claims.add(first, np.where(length > UNWRITTEN, length - UNWRITTEN, length), numbers[there])


def _claim_alone(volume: ExtVolume, number: int, record: np.void, claims: Claims) -> Iterator[str]:
    """The map of an inode that has to be followed block by block."""
    inode = record_of(record.tobytes())
    if not has_map(inode):
        return
    if number == RESIZE:                                 # what its blocks lead to are copies of the descriptors
        claims.add([int(np.frombuffer(inode["block"].tobytes(), "<u4")[13])], [1], [number])
        return
    try:
        mapping = mapping_of(volume.fs, inode, f"inode {number}")
    except (FormatError, MediumError) as error:
        yield f"The block map of “{claims.name(number)}” is damaged: {error}"
        return
    claims.add(mapping.runs["physical"], mapping.runs["length"], np.full(len(mapping.runs), number))
    claims.add(mapping.tree, [1] * len(mapping.tree), [number] * len(mapping.tree))


assert EXTENT_HEADER.size + 4 * EXTENT.itemsize == _IN_INODE.itemsize == 60
