"""Directory blocks: linear entries, hashed directories read as what they also are, inline ones.

Source: the kernel's ext4 documentation, "Directory Entries". In a hashed directory every leaf is a
linear block; its index blocks look like linear blocks with nothing in them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache

from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.volumes.ext.filesystem import Filesystem, crc32c
from mosscrate.core.volumes.ext.structures import DIRECTORY_ENTRY, TAIL_SIZE, TAIL_TYPE

MAX_NAME = 255
REMEMBERED = 8 << 10                   # bytes of a directory whose entries are remembered


@dataclass(frozen=True, slots=True)
class Row:
    """One live entry."""

    name: str
    inode: int
    type: int


@lru_cache(512)
def _again(data: bytes, block: int, inodes: int, where: str) -> tuple[Row, ...]:
    """Those of a small directory: a job reads each one several times, most of them with the same bytes."""
    return tuple(rows_until_damage(data, block, inodes, where))


def rows(data: bytes, block: int, inodes: int, where: str) -> Iterator[Row]:
    """The live entries of a directory's bytes, the two dots included. Raises FormatError.

    Args:
        data: of the whole directory.
        block: bytes that no entry crosses.
        inodes: of the volume.
        where: for errors.
    """
    if len(data) <= REMEMBERED:
        return iter(_again(data, block, inodes, where))
    return rows_until_damage(data, block, inodes, where)


def rows_until_damage(data: bytes, block: int, inodes: int, where: str) -> Iterator[Row]:
    """The same one by one, up to where FormatError is raised."""
    unpack = DIRECTORY_ENTRY.unpack_from
    for base in range(0, len(data), block):
        at, end = base, min(base + block, len(data))
        while at + 8 <= end:
            inode, length, name_length, type = unpack(data, at)
            if length == 0 and block == 65536:
                length = block
            if length < 8 or length % 4 or at + length > end or 8 + name_length > length:
                raise FormatError("ext directory", where, at, length, "an entry that fits into its block")
            if inode and name_length:
                if inode > inodes:
                    raise FormatError("ext directory", where, at, inode, f"an inode up to {inodes}")
                name = data[at + 8:at + 8 + name_length].decode("utf-8", "surrogateescape")
                yield Row(name, inode, type)
            at += length


def encoded(name: str) -> bytes:
    """A name as it is stored. Raises FitError for what cannot stand in a directory."""
    problem = why_not(name)
    if problem:
        raise FitError(f"“{name}” cannot stand on an ext volume: {problem}.")
    return name.encode("utf-8", "surrogateescape")


def why_not(name: str) -> str:
    """Why a name cannot stand on an ext volume; "" when it can."""
    if not name or name in (".", "..") or "/" in name or "\0" in name:
        return "it is empty, a dot, or holds a slash"
    return "" if len(name.encode("utf-8", "surrogateescape")) <= MAX_NAME else "it is longer than 255 bytes"


def build(fs: Filesystem, entries: Iterable[Row], seed: int) -> list[bytes]:
    """Linear blocks with these entries in their order, checksummed where the volume wants that."""
    room = fs.block - (TAIL_SIZE if fs.has_checksums else 0)
    blocks, current, last = [], bytearray(), 0
    for row in entries:
        raw = row.name.encode("utf-8", "surrogateescape")
        needed = 8 + -(-len(raw) // 4) * 4
        if len(current) + needed > room:
            blocks.append(_closed(fs, current, last, room, seed))
            current, last = bytearray(), 0
        last = len(current)
        kind = row.type if "filetype" in fs.features else 0
        current += DIRECTORY_ENTRY.pack(row.inode, needed, len(raw), kind) + raw.ljust(needed - 8, b"\0")
    blocks.append(_closed(fs, current, last, room, seed))
    return blocks


def _closed(fs: Filesystem, current: bytearray, last: int, room: int, seed: int) -> bytes:
    """The last entry takes the rest of the block; an empty block holds one unused entry."""
    if not current:
        current = bytearray(DIRECTORY_ENTRY.pack(0, room, 0, 0))
    else:
        inode, _, length, kind = DIRECTORY_ENTRY.unpack_from(current, last)
        DIRECTORY_ENTRY.pack_into(current, last, inode, (room - last) & 0xFFFF, length, kind)
    body = bytes(current.ljust(room, b"\0"))
    if not fs.has_checksums:
        return body
    tail = DIRECTORY_ENTRY.pack(0, TAIL_SIZE, 0, TAIL_TYPE)
    return body + tail + crc32c(seed, body).to_bytes(4, "little")
