"""rar, version 4: only where the checksums of stored members stand; the library compares those of packed ones.

Little-endian: a block has a head and, where bit 15 of its flags is set, data behind it. Source: the technical note that
came with the version (RAR 4 archive format).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.parts import set_of

MAGIC = b"Rar!\x1a\x07\x00"
BLOCK = struct.Struct("<HBHH")          # checksum, type, flags, bytes of the head
FILE = struct.Struct("<IIBIIBBHI")      # packed, unpacked, system, CRC32, date, version, method, name, attributes
A_FILE, THE_END = 0x74, 0x7B
HAS_DATA, IS_LARGE = 0x8000, 0x0100
FROM_BEFORE, GOES_ON = 0x01, 0x02       # in the volume before, in the next one
STORED = 0x30
MOST = 1_000_000                        # blocks that are gone through in one file


@dataclass(frozen=True)
class _Head:
    flags: int
    method: int
    crc: int


def stored_checksums(file: Blocks) -> list[int | None]:
    """CRC32 of every member and folder; None where one is packed, or nothing says. Raises MediumError."""
    joined = set_of(file)
    found: list[int | None] = []
    for part in joined.parts if joined is not None else (file,):
        for head in _heads(part):
            if not head.flags & FROM_BEFORE:
                found.append(None)
            if found and head.method == STORED and not head.flags & GOES_ON:      # the last part has that of all
                found[-1] = head.crc
    return found


def _heads(part: Blocks) -> Iterator[_Head]:
    """Of the members in one file."""
    if part.read(0, min(len(MAGIC), part.size)) != MAGIC:
        return
    at = len(MAGIC)
    for _ in range(MOST):
        if at + BLOCK.size > part.size:
            return
        _, kind, flags, length = BLOCK.unpack(part.read(at, BLOCK.size))
        if length < BLOCK.size or kind == THE_END or at + length > part.size:
            return
        head = part.read(at, length)
        data = int.from_bytes(head[BLOCK.size:BLOCK.size + 4], "little") if flags & HAS_DATA else 0
        if kind == A_FILE and length >= BLOCK.size + FILE.size:
            packed, _, _, crc, _, _, method, _, _ = FILE.unpack_from(head, BLOCK.size)
            high = int.from_bytes(head[BLOCK.size + FILE.size:][:4], "little") << 32 if flags & IS_LARGE else 0
            data = packed + high
            yield _Head(flags, method, crc)
        at += length + data
