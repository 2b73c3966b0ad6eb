"""Making drive files, in order and without looking back, so that a pipe will do. Format: see `drive_file`."""

from __future__ import annotations

from typing import BinaryIO, TypeAlias

import msgspec
import numpy as np
from backports import zstd
from blake3 import blake3

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.images.drive_file import (
    CHUNK,
    CHUNK_MAGIC,
    END,
    END_MAGIC,
    HEADER,
    INDEX,
    MAGIC,
    PACKED,
    STORED,
    VERSION,
    ZEROS,
    Facts,
)
from mosscrate.core.images.pipeline import Pipeline
from mosscrate.core.watch import Watch

PIECE = 64 << 10
LEVEL = 3
TOGETHER = 16                           # chunks that are packed as one piece of work

Made: TypeAlias = tuple[int, bytes | memoryview, bytes]


def write(source: Blocks, file: BinaryIO, facts: Facts, watch: Watch) -> str:
    """Write all of a drive; returns its BLAKE3. Raises MediumError, OSError, Stopped."""
    about = msgspec.json.encode(facts)
    head: Record = np.zeros((), HEADER)
    Place("drive file header", HEADER, 0).put(
        head, magic=MAGIC, version=VERSION, facts_length=len(about), chunk_size=PIECE, size=source.size,
        facts_digest=blake3(about).digest())
    file.write(head.tobytes() + about)
    at, rows, empty = HEADER.itemsize + len(about), [], [0, 0]              # the run of zeros: its first, its count
    pipeline = Pipeline(source, TOGETHER * PIECE, _packed, watch)

    def settle_zeros() -> None:
        nonlocal at
        if empty[1]:
            file.write(_chunk(ZEROS, empty[0], empty[1], b"", bytes(32)))
            rows.append((empty[0], at, empty[1], 0, ZEROS, 0))
            at, empty[1] = at + CHUNK.itemsize, 0

    for group, made in pipeline:
        first = group * TOGETHER
        for number in range(first, min(first + TOGETHER, -(-source.size // PIECE))):
            one = made[number - first] if made is not None else None
            if one is None:
                empty[0] = empty[0] if empty[1] else number
                empty[1] += 1
                continue
            settle_zeros()
            kind, data, digest = one
            file.write(_chunk(kind, number, 1, data, digest))
            rows.append((number, at, 1, len(data), kind, 0))
            at += CHUNK.itemsize + len(data)
    settle_zeros()
    index = np.array(rows, INDEX).tobytes()
    end: Record = np.zeros((), END)
    Place("drive file end", END, 0).put(
        end, magic=END_MAGIC, index_offset=at, index_length=len(index), index_digest=blake3(index).digest(),
        digest=bytes.fromhex(pipeline.digest))
    file.write(index + end.tobytes())
    return pipeline.digest


def _packed(data: bytes) -> list[Made | None]:
    """The chunks of a group; None for zeros."""
    view = memoryview(data)
    return [_packed_chunk(view[at:at + PIECE]) for at in range(0, len(data), PIECE)]


def _packed_chunk(data: memoryview) -> Made | None:
    """Kind, bytes and digest of a chunk, as it is where packing saves nothing; None for zeros."""
    if not np.frombuffer(data, np.uint8).any():
        return None
    packed, digest = zstd.compress(data, LEVEL), blake3(data).digest()
    return (PACKED, packed, digest) if len(packed) < len(data) else (STORED, data, digest)


def _chunk(kind: int, number: int, count: int, data: bytes | memoryview, digest: bytes) -> bytes:
    head: Record = np.zeros((), CHUNK)
    Place("chunk", CHUNK, 0).put(head, magic=CHUNK_MAGIC, kind=kind, number=number, count=count, length=len(data),
                                 digest=digest)
    return bytes(head.tobytes()) + data
