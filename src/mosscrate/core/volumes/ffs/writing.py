"""Blocks of an OFS or FFS volume put together: tables of data blocks, data blocks of OFS, the bitmap."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.runs import distinct
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.structures import Longs
from mosscrate.core.volumes.ffs.volume import FfsVolume, extents_of_blocks

OFS_BATCH = 8192                        # data blocks that are put together at a time


def write_tables(v: FfsVolume, header: Longs, heads: NDArray[np.int64], blocks: NDArray[np.int64]) -> dict[int, bytes]:
    """Fill the table of a file's header; returns its extension blocks. All list their blocks from the table's end.

    Args:
        v: the volume.
        header: of the file, to be changed.
        heads: numbers of the header and of its extension blocks.
        blocks: numbers of the data blocks in their order.
    """
    made = {}
    for index, number in enumerate(heads.tolist()):
        part = blocks[index * v.slots:(index + 1) * v.slots]
        longs = header if index == 0 else np.zeros(v.block // 4, ">u4")
        longs[s.HIGH_SEQ] = len(part)
        longs[s.TABLE + v.slots - len(part):s.TABLE + v.slots] = part[::-1]
        longs[s.EXTENSION] = int(heads[index + 1]) if index + 1 < len(heads) else 0
        if index:
            longs[s.TYPE], longs[s.OWN_KEY] = s.T_LIST, number
            longs[s.PARENT], longs[s.SEC_TYPE] = int(heads[0]), s.ST_FILE & 0xFFFFFFFF
            made[number] = s.seal(longs)
    return made


def write_ofs(target: Blocks, v: FfsVolume, key: int, blocks: NDArray[np.int64], pieces: Iterator[bytes],
              size: int) -> None:
    """Write data blocks with their headers: sequence, size, next block, checksum. Raises MediumError."""
    data = _even(pieces, OFS_BATCH * v.data_bytes, size)
    following = np.append(blocks[1:], 0)
    for first in range(0, len(blocks), OFS_BATCH):
        part, piece = blocks[first:first + OFS_BATCH], next(data)
        count = len(part)
        rows = np.zeros((count, v.block), np.uint8)
        filled = np.frombuffer(piece.ljust(count * v.data_bytes, b"\0"), np.uint8)
        rows[:, s.OFS_HEADER:] = filled.reshape(count, -1)
        longs = rows.view(">u4")
        longs[:, s.TYPE], longs[:, s.OWN_KEY] = s.T_DATA, key
        longs[:, s.HIGH_SEQ] = np.arange(first + 1, first + 1 + count)
        longs[:, s.DATA_SIZE] = v.data_bytes
        longs[-1, s.DATA_SIZE] = len(piece) - (count - 1) * v.data_bytes
        longs[:, s.FIRST_DATA] = following[first:first + count]
        longs[:, s.CHECKSUM] = (-longs.sum(axis=1, dtype=np.uint64)).astype(np.uint64) & np.uint64(0xFFFFFFFF)
        at = 0
        for extent in extents_of_blocks(part, v.block):
            step = extent.length // v.block
            target.write(extent.start, rows[at:at + step].tobytes())
            at += step


def bitmap_blocks(v: FfsVolume, used: NDArray[np.bool_], before: NDArray[np.bool_] | None) -> dict[int, bytes]:
    """The blocks of the bitmap for used blocks, shape (total,): those that differ from `before`, or all of them."""
    free = np.zeros(-(-(v.total - s.RESERVED) // 32) * 32, bool)
    free[:v.total - s.RESERVED] = ~used[s.RESERVED:]
    words = np.packbits(free, bitorder="little").view("<u4")
    per, made, pages = v.block // 4 - 1, {}, v.bitmap_pages()
    wanted = range(len(pages)) if before is None else distinct(
        (np.flatnonzero(used[s.RESERVED:] != before[s.RESERVED:])) // (32 * per)).tolist()
    for index in wanted:
        page = pages[index]
        longs = np.zeros(v.block // 4, ">u4")
        part = words[index * per:(index + 1) * per]
        longs[1:1 + len(part)] = part
        made[page] = s.seal(longs, 0)
    return made


def _even(pieces: Iterator[bytes], length: int, size: int) -> Iterator[bytes]:
    """Pieces of exactly `length` bytes, the last one shorter, `size` bytes in all; zeros where data ends early."""
    held, left = bytearray(), size
    while left > 0:
        wanted = min(length, left)
        while len(held) < wanted:
            held += next(pieces, b"") or bytes(wanted - len(held))
        yield bytes(held[:wanted])
        del held[:wanted]
        left -= wanted
