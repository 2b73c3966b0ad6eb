"""What is wrong with an ext volume: claims on blocks, bitmaps, counts, links and checksums."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.claims import disagreements
from mosscrate.core.volumes.ext.allocation import Bitmaps
from mosscrate.core.volumes.ext.filesystem import crc32c
from mosscrate.core.volumes.ext.inodes import (
    FORMAT_MASK,
    IS_FOLDER,
    checksum_is_right,
    has_map,
    mapping_of,
    record_of,
    xattr_block,
)
from mosscrate.core.volumes.ext.orphans import orphan_file, orphan_file_faults
from mosscrate.core.volumes.ext.structures import BLOCK_UNINIT, INODE_UNINIT, RESIZE, ROOT
from mosscrate.core.volumes.ext.volume import ExtVolume

_MOST_BLOCKS = 1 << 31                 # a bit for each is held in memory
_SHOWN = 20


def check(volume: ExtVolume) -> tuple[Finding, ...]:
    """Every fault found. Raises MediumError."""
    tree = volume.tree()
    found = list(tree.findings)
    found += _checksums(volume)
    used, claims, walked = _claims(volume)
    found += walked
    if used is not None:
        found += _bitmaps(volume, used)
    found += _links(volume, claims)
    if not volume.is_clean:
        what = "Its journal holds changes that were not carried out yet; they are shown as carried out." \
            if volume.replayed else "The volume was not put away properly the last time."
        found.append(Finding(Severity.NOTE, what, remedy="Replaying the journal mends it." if volume.replayed else
                             "Eject a card before pulling it."))
    many = len(found) - _SHOWN
    if many > 0:
        found = [*found[:_SHOWN], Finding(Severity.NOTE, f"{counted(many, 'finding')} more of this kind.")]
    return tuple(found)


def _checksums(volume: ExtVolume) -> Iterator[Finding]:
    fs = volume.fs
    if fs.has_checksums and int(fs.sb["checksum"]) != crc32c(0xFFFFFFFF, fs.sb.tobytes()[:-4]):
        yield Finding(Severity.PROBLEM, "The checksum of the superblock is wrong.")
    for fault in orphan_file_faults(fs):
        yield Finding(Severity.PROBLEM, f"Linux does not mount this volume: {fault}.")
    if not fs.has_group_checksums:
        return
    wrong = [g for g in range(fs.groups) if int(fs.desc["checksum"][g]) != fs.descriptor_checksum(g)]
    if wrong:
        yield Finding(Severity.PROBLEM, f"The checksums of {counted(len(wrong), 'group descriptor')} are wrong, first "
                      f"of group {wrong[0]}.")
    if not fs.has_checksums:
        return
    bitmaps = Bitmaps(fs)
    for group in range(fs.groups):
        flags = int(fs.desc["flags"][group])
        for field, flag in (("block_bitmap", BLOCK_UNINIT), ("inode_bitmap", INODE_UNINIT)):
            place = fs.get(field, group)
            if "bigalloc" in fs.features and field == "block_bitmap":
                continue                                     # it counts clusters
            if not flags & flag and 0 < place < fs.block_count and \
                    bitmaps.checksum_of(group, field) != fs.get(f"{field}_csum", group):
                yield Finding(Severity.PROBLEM, f"The checksum of the {field.replace('_', ' ')} of group {group} "
                              "is wrong.")


def _claims(volume: ExtVolume) -> tuple[NDArray[np.uint8] | None, dict[int, int], list[Finding]]:
    """How often each block is claimed (0, 1 or more), the link count that each used inode states, faults."""
    fs = volume.fs
    found: list[Finding] = []
    if fs.block_count > _MOST_BLOCKS:
        return None, {}, [Finding(Severity.NOTE, "The volume is too large for its block bitmaps to be checked here.")]
    edges = np.zeros(fs.block_count + 1, np.int32)

    def claim(first: int, count: int) -> None:
        if 0 <= first <= first + count <= fs.block_count:
            edges[first] += 1
            edges[first + count] -= 1

    claim(0, fs.first_data)
    if "mmp" in fs.features:
        claim(int(fs.sb["mmp_block"]), 1)
    for group in range(fs.groups):
        claim(fs.group_start(group), fs.base_blocks(group))
        for field, length in (("block_bitmap", 1), ("inode_bitmap", 1), ("inode_table", fs.table_blocks)):
            claim(fs.get(field, group), length)
    stated: dict[int, int] = {}
    attributes: set[int] = set()
    for number, raw in _used_inodes(volume, found):
        inode = record_of(raw)
        stated[number] = int(inode["links_count"])
        if fs.has_checksums and not checksum_is_right(fs, number, raw):
            found.append(Finding(Severity.PROBLEM, f"The checksum of inode {number} is wrong."))
        if xattr_block(inode) and xattr_block(inode) not in attributes:
            attributes.add(xattr_block(inode))
            claim(xattr_block(inode), 1)
        if not has_map(inode):
            continue
        try:
            mapping = mapping_of(fs, inode, f"inode {number}")
        except (FormatError, MediumError) as error:
            found.append(Finding(Severity.PROBLEM, f"The block map of inode {number} is damaged: {error}"))
            continue
        if number == RESIZE:
            claim(int(np.frombuffer(inode["block"].tobytes(), "<u4")[13]), 1)
            continue
        for run in mapping.runs:
            claim(int(run["physical"]), int(run["length"]))
        for block in mapping.tree:
            claim(block, 1)
    return np.minimum(np.cumsum(edges[:-1]), 2).astype(np.uint8), stated, found


def _used_inodes(volume: ExtVolume, found: list[Finding]) -> Iterator[tuple[int, bytes]]:
    fs, bitmaps = volume.fs, Bitmaps(volume.fs)
    for group in range(fs.groups):
        try:
            bits, table = bitmaps.inode_bits(group), volume.inodes.table(group)
        except FormatError as error:
            found.append(Finding(Severity.PROBLEM, str(error)))
            continue
        free = fs.inodes_per_group - int(bits.sum())
        if free != fs.get("free_inodes_count", group):
            found.append(Finding(Severity.WARNING, f"Group {group} says that {fs.get('free_inodes_count', group)} "
                                 f"inodes are free; its bitmap has {free}."))
        for place in np.flatnonzero(bits & table.any(axis=1)).tolist():
            yield group * fs.inodes_per_group + place + 1, table[place].tobytes()


def _bitmaps(volume: ExtVolume, used: NDArray[np.uint8]) -> Iterator[Finding]:
    fs, bitmaps = volume.fs, Bitmaps(volume.fs)
    if "bigalloc" in fs.features:
        return
    crossed = int((used > 1).sum())
    if crossed:
        yield Finding(Severity.PROBLEM, f"{counted(crossed, 'block')} belong to more than one file or table.",
                      remedy="At most one of these files is whole. Copy them off before anything else.")
    lost = missing = 0
    for group in range(fs.groups):
        start, length = fs.group_start(group), fs.group_length(group)
        try:
            bits = bitmaps.block_bits(group)[:length]
        except FormatError as error:
            yield Finding(Severity.PROBLEM, str(error))
            continue
        claimed = used[start:start + length] > 0
        lost += int((bits & ~claimed).sum())
        missing += int((~bits & claimed).sum())
        free = length - int(bits.sum())
        if free != fs.get("free_blocks_count", group):
            yield Finding(Severity.WARNING, f"Group {group} says that {fs.get('free_blocks_count', group)} blocks are "
                          f"free; its bitmap has {free}.")
    yield from disagreements(missing, lost, "block", fs.block)


def _links(volume: ExtVolume, stated: dict[int, int]) -> Iterator[Finding]:
    """Names that lead to each inode against what it says."""
    counts: Counter[int] = Counter()
    queue, seen = [ROOT], {ROOT}
    for number in queue:
        try:
            rows = list(volume.rows(number))
        except (FormatError, MediumError):
            continue                                        # reported by the walk of the tree
        for row in rows:
            counts[row.inode] += 1
            if row.name not in (".", "..") and row.inode not in seen and _is_folder(volume, row.inode):
                seen.add(row.inode)
                queue.append(row.inode)
    own = {int(volume.fs.sb[f]) for f in ("lpf_ino", "usr_quota_inum", "grp_quota_inum", "prj_quota_inum")}
    for number, links in stated.items():
        if number < volume.fs.first_inode and number != ROOT:
            continue
        if number not in counts:
            if links and number not in own and number != orphan_file(volume.fs):
                yield Finding(Severity.WARNING, f"Inode {number} is in use, but no folder names it.")
        elif counts[number] != links and not (links == 1 and number in seen):
            yield Finding(Severity.WARNING, f"Inode {number} counts {counted(links, 'link')}, {counts[number]} lead to "
                          "it.")
    for number in counts:
        if stated and number not in stated:
            yield Finding(Severity.PROBLEM, f"A folder names inode {number}, which is not in use.")


def _is_folder(volume: ExtVolume, number: int) -> bool:
    try:
        return int(volume.inodes.get(number)["mode"]) & FORMAT_MASK == IS_FOLDER
    except FormatError:
        return False


