"""The FAT as it lies on disk: twelve, sixteen or 32 bits an entry, decoded and encoded.

Source: "FAT: General Overview of On-Disk Format" 1.03, §4.
"""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.volumes.clusters import BAD, END, Table
from mosscrate.core.volumes.clusters.table import STRETCH
from mosscrate.core.volumes.fat.structures import FatType, Geometry

_FIRST_RESERVED = {FatType.FAT12: 0xFF7, FatType.FAT16: 0xFFF7, FatType.FAT32: BAD}


def read_table(blocks: Blocks, geometry: Geometry, copy: int) -> Table:
    """One copy of the FAT. Raises MediumError."""
    entries = geometry.cluster_count + 2
    length = min(-(-(entries * geometry.type) // 8), geometry.fat_sectors * geometry.sector)
    at = geometry.fat_offset(copy)
    return _read_wide(blocks, at, entries) if geometry.type == FatType.FAT32 else decode(
        blocks.read(at, length), geometry.type, entries)


def _read_wide(blocks: Blocks, at: int, entries: int) -> Table:
    """A FAT32 has up to a gigabyte: what is free throughout takes neither decoding nor memory."""
    table, buffer = np.zeros(entries, np.uint32), memoryview(bytearray(4 * min(entries, STRETCH)))
    for first in range(0, entries, STRETCH):
        part = buffer[:4 * min(STRETCH, entries - first)]
        blocks.read_into(at + 4 * first, part)
        if np.count_nonzero(np.frombuffer(part, np.uint32)):
            table[first:first + len(part) // 4] = decode(bytes(part), FatType.FAT32, len(part) // 4)
    return table


def decode(data: bytes, type: FatType, entries: int) -> Table:
    """Bytes of a FAT as a table; the first two entries are masked but not interpreted."""
    if type == FatType.FAT32:
        table = np.frombuffer(data, "<u4", count=entries) & np.uint32(0x0FFFFFFF)
    elif type == FatType.FAT16:
        table = np.frombuffer(data, "<u2", count=entries).astype(np.uint32)
    else:
        padded = np.frombuffer(data + bytes(-len(data) % 3 + 3), np.uint8).astype(np.uint32)
        a, b, c = padded[:len(padded) // 3 * 3].reshape(-1, 3).T
        table = np.stack((a | (b & 15) << 8, b >> 4 | c << 4), axis=1).reshape(-1)[:entries]
    if type != FatType.FAT32:
        bad = _FIRST_RESERVED[type]
        table = np.where(table == bad, np.uint32(BAD), np.where(table > bad, np.uint32(END), table))
    else:
        table[table > BAD] = END
    return table.astype(np.uint32, copy=False)


def encode(table: Table, type: FatType, *, head: tuple[int, int] | None) -> bytes:
    """Undo `decode`. `head` are the raw first two entries (media byte and flags); None for a later stretch."""
    mask = (1 << min(int(type), 28)) - 1
    wide = table & np.uint32(mask)
    if head is not None:
        wide[:2] = head
    if type == FatType.FAT32:
        return wide.astype("<u4").tobytes()
    if type == FatType.FAT16:
        return wide.astype("<u2").tobytes()
    pairs = np.append(wide, np.zeros(len(wide) % 2, np.uint32)).reshape(-1, 2)
    triples = np.stack((pairs[:, 0], pairs[:, 0] >> 8 | pairs[:, 1] << 4, pairs[:, 1] >> 4), axis=1)
    packed: bytes = triples.astype(np.uint8).tobytes()
    return packed[:-(-len(wide) * 3 // 2)]


def head_of(blocks: Blocks, geometry: Geometry, copy: int = 0) -> tuple[int, int]:
    """The raw first two entries of a FAT: media byte and the flags of a clean ending."""
    first = int.from_bytes(blocks.read(geometry.fat_offset(copy), 8), "little")
    width = int(geometry.type)
    return first & (1 << width) - 1, first >> width & (1 << width) - 1
