"""Inodes: tables read a group at a time, and what one inode says of its file."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.binary import Record
from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.runs import distinct
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes.ext.filesystem import Filesystem, crc32c
from mosscrate.core.volumes.ext.mapping import NO_RUNS, Mapping, read_extents, read_indirect
from mosscrate.core.volumes.ext.structures import (
    EXTENTS_FL,
    GOOD_OLD_INODE,
    INLINE_DATA_FL,
    INODE,
    INODE_UNINIT,
    INODE_ZEROED,
    XATTR_ENTRY,
    XATTR_MAGIC,
    XATTR_SYSTEM,
)

_TABLES_HELD = 24
FORMAT_MASK = 0xF000
IS_FIFO, IS_CHARACTER, IS_FOLDER, IS_BLOCK, IS_FILE, IS_LINK, IS_SOCKET = (
    0x1000, 0x2000, 0x4000, 0x6000, 0x8000, 0xA000, 0xC000)


class Inodes:
    """Reads inodes of one volume; tables of the groups used last are held."""

    def __init__(self, fs: Filesystem) -> None:
        self.fs = fs
        self._tables: OrderedDict[int, NDArray[np.uint8]] = OrderedDict()

    def table(self, group: int) -> NDArray[np.uint8]:
        """The raw inodes of a group, shape (inodes_per_group, inode_size); unwritten ones are zeros."""
        if group in self._tables:
            self._tables.move_to_end(group)
            return self._tables[group]
        fs, start = self.fs, self.fs.get("inode_table", group)
        if start <= 0 or start + fs.table_blocks > fs.block_count:
            raise FormatError("ext group descriptor", f"inode_table of group {group}", 0, start,
                              "a table inside the volume")
        used = self.used_in(group)
        raw = np.zeros(fs.inodes_per_group * fs.inode_size, np.uint8)
        length = used * fs.inode_size
        if length:
            raw[:length] = np.frombuffer(fs.blocks.read(start * fs.block, length), np.uint8)
        self._tables[group] = raw.reshape(fs.inodes_per_group, fs.inode_size)
        if len(self._tables) > _TABLES_HELD:
            self._tables.popitem(last=False)
        return self._tables[group]

    def used_in(self, group: int) -> int:
        """How many inodes of a group's table have been written."""
        fs = self.fs
        if not fs.has_group_checksums:
            return fs.inodes_per_group
        flags = int(fs.desc["flags"][group])
        if flags & INODE_UNINIT:
            return 0
        if flags & INODE_ZEROED:
            return fs.inodes_per_group
        return max(0, fs.inodes_per_group - fs.get("itable_unused", group))

    def records(self, numbers: NDArray[np.int64] | Sequence[int]) -> NDArray[np.void]:
        """The inodes of these numbers as INODE records, shape (n,); short ones end in zeros."""
        wanted = np.asarray(numbers, np.int64) - 1
        out = np.zeros((len(wanted), INODE.itemsize), np.uint8)
        groups, places = np.divmod(wanted, self.fs.inodes_per_group)
        width = min(self.fs.inode_size, INODE.itemsize)
        for group in distinct(groups).tolist():
            at = groups == group
            out[at, :width] = self.table(group)[places[at], :width]
        return out.reshape(-1).view(INODE)

    def raw(self, number: int) -> bytes:
        """All bytes of an inode. Raises FormatError for a number that the volume does not have."""
        if not 1 <= number <= int(self.fs.sb["inodes_count"]):
            raise FormatError("ext inode", "number", 0, number, f"1 to {int(self.fs.sb['inodes_count'])}")
        group, place = divmod(number - 1, self.fs.inodes_per_group)
        return bytes(self.table(group)[place].tobytes())

    def place(self, number: int) -> int:
        """Where an inode lies, in bytes from the start of the volume."""
        group, row = divmod(number - 1, self.fs.inodes_per_group)
        return self.fs.get("inode_table", group) * self.fs.block + row * self.fs.inode_size

    def get(self, number: int) -> Record:
        """One inode as a record."""
        return record_of(self.raw(number))


def record_of(raw: bytes) -> Record:
    """The INODE record of an inode's bytes."""
    return np.frombuffer(bytearray(raw[:INODE.itemsize].ljust(INODE.itemsize, b"\0")), INODE).reshape(())


def size_of(inode: Record | np.void) -> int:
    """Bytes of the file; folders of old volumes have no high half, theirs reads as zero."""
    return int(inode["size_lo"]) | int(inode["size_high"]) << 32


def xattr_block(inode: Record | np.void) -> int:
    """The block of its extended attributes, 0 for none."""
    return int(inode["file_acl_lo"]) | int(inode["file_acl_high"]) << 32


def has_map(inode: Record | np.void) -> bool:
    """Whether i_block leads to blocks, rather than holding a short link, a device or the data itself."""
    if int(inode["flags"]) & INLINE_DATA_FL:
        return False
    kind = int(inode["mode"]) & FORMAT_MASK
    if kind == IS_LINK:
        return bool(int(inode["flags"]) & EXTENTS_FL) or not is_short_link(inode)
    return kind in (IS_FILE, IS_FOLDER) or (kind == 0 and int(inode["links_count"]) > 0)


def is_short_link(inode: Record | np.void) -> bool:
    """Whether a link's target stands in i_block."""
    return size_of(inode) < 60 and not int(inode["flags"]) & EXTENTS_FL


def mapping_of(fs: Filesystem, inode: Record | np.void, where: str) -> Mapping:
    """Where the data of an inode lie. Raises FormatError."""
    if not has_map(inode):
        return Mapping(NO_RUNS)
    root = inode["block"].tobytes()
    if int(inode["flags"]) & EXTENTS_FL:
        return read_extents(fs, root, where)
    return read_indirect(fs, root, size_of(inode), where)


def inline_data(raw: bytes) -> bytes:
    """The data of an inode that holds them itself: i_block, then the attribute "system.data"."""
    return b"".join(raw[e.start:e.end] for e in inline_extents(raw))[:size_of(record_of(raw))]


def inline_extents(raw: bytes) -> tuple[Extent, ...]:
    """Where in an inode's bytes the data lie that it holds itself."""
    offset, length = INODE.fields["block"][1], INODE["block"].itemsize          # type: ignore[index]
    return Extent(offset, length), _attribute(raw, record_of(raw), XATTR_SYSTEM, b"data")


def checksum(fs: Filesystem, number: int, raw: bytes) -> int:
    """The CRC-32C of an inode with its checksum fields as zeros."""
    inode = record_of(raw)
    seed = fs.inode_seed(number, int(inode["generation"]))
    low = INODE.fields["checksum_lo"][1]                                 # type: ignore[index]
    blank = raw[:low] + b"\0\0" + raw[low + 2:]
    if _has_high(raw, inode):
        high = INODE.fields["checksum_hi"][1]                            # type: ignore[index]
        blank = blank[:high] + b"\0\0" + blank[high + 2:]
    return crc32c(seed, blank)


def sealed(fs: Filesystem, number: int, raw: bytes) -> bytes:
    """An inode with its checksum set, where the volume has them."""
    if not fs.has_checksums:
        return raw
    value, data = checksum(fs, number, raw), bytearray(raw)
    low, high = (INODE.fields[f][1] for f in ("checksum_lo", "checksum_hi"))    # type: ignore[index]
    data[low:low + 2] = (value & 0xFFFF).to_bytes(2, "little")
    if _has_high(raw, record_of(raw)):
        data[high:high + 2] = (value >> 16).to_bytes(2, "little")
    return bytes(data)


def checksum_is_right(fs: Filesystem, number: int, raw: bytes) -> bool:
    """Whether an inode's stored checksum is that of its bytes."""
    inode, value = record_of(raw), checksum(fs, number, raw)
    if int(inode["checksum_lo"]) != value & 0xFFFF:
        return False
    return not _has_high(raw, inode) or int(inode["checksum_hi"]) == value >> 16


def _has_high(raw: bytes, inode: Record) -> bool:
    return len(raw) > GOOD_OLD_INODE and int(inode["extra_isize"]) >= 4


def _attribute(raw: bytes, inode: Record, index: int, name: bytes) -> Extent:
    """Where the value of an extended attribute lies inside the inode; of no length for none."""
    nothing = Extent(0, 0)
    if len(raw) <= GOOD_OLD_INODE + 4:
        return nothing
    start = GOOD_OLD_INODE + int(inode["extra_isize"])
    if int.from_bytes(raw[start:start + 4], "little") != XATTR_MAGIC:
        return nothing
    first = at = start + 4
    while at + XATTR_ENTRY.size <= len(raw) and raw[at:at + 4] != bytes(4):
        length, kind, offset, _, size, _ = XATTR_ENTRY.unpack_from(raw, at)
        if kind == index and raw[at + XATTR_ENTRY.size:at + XATTR_ENTRY.size + length] == name:
            return Extent(first + offset, max(0, min(size, len(raw) - first - offset)))
        at += XATTR_ENTRY.size + -(-length // 4) * 4
    return nothing
