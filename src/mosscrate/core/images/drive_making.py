"""Making drive files, in order and without looking back, so that a pipe will do. Format: see `drive_file`."""

from __future__ import annotations

from typing import BinaryIO, NamedTuple, TypeAlias

import msgspec
import numpy as np
from backports import zstd
from blake3 import blake3
from numpy.typing import NDArray

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

PIECE = 32 << 10
LEVEL = 3
TOGETHER = 32                           # chunks that are packed as one piece of work

NO_DIGEST = bytes(32)
Made: TypeAlias = tuple[int, bytes | memoryview, bytes]                       # kind, bytes, digest
Chunk: TypeAlias = tuple[int, int, int, bytes | memoryview, bytes]            # kind, number, count, bytes, digest


class Run(NamedTuple):
    """Chunks of nothing but zeros behind one another."""

    first: int
    length: int

    def with_more(self, first: int, length: int) -> Run:
        """The run with some that follow it; they alone where there is none."""
        return Run(self.first, self.length + length) if self.length else Run(first, length)


def write(source: Blocks, file: BinaryIO, facts: Facts, watch: Watch) -> str:
    """Write all of a drive; returns its BLAKE3. Raises MediumError, OSError, Stopped."""
    about = msgspec.json.encode(facts)
    head: Record = np.zeros((), HEADER)
    Place("drive file header", HEADER, 0).put(
        head, magic=MAGIC, version=VERSION, facts_length=len(about), chunk_size=PIECE, size=source.size,
        facts_digest=blake3(about).digest())
    file.write(head.tobytes() + about)
    at, zeros, rows = HEADER.itemsize + len(about), Run(0, 0), list[NDArray[np.void]]()
    pipeline = Pipeline(source, TOGETHER * PIECE, _packed, watch)
    chunks = -(-source.size // PIECE)
    for group, made in pipeline:
        first = group * TOGETHER
        if made is None:
            zeros = zeros.with_more(first, min(TOGETHER, chunks - first))
            continue
        written, zeros = _with_zeros(made, first, zeros)
        rows.append(_rows(written, at))
        at += _put(file, written)
    if zeros.length:
        written = [(ZEROS, zeros.first, zeros.length, b"", NO_DIGEST)]
        rows.append(_rows(written, at))
        at += _put(file, written)
    index = b"".join(each.tobytes() for each in rows)
    end: Record = np.zeros((), END)
    Place("drive file end", END, 0).put(
        end, magic=END_MAGIC, index_offset=at, index_length=len(index), index_digest=blake3(index).digest(),
        digest=bytes.fromhex(pipeline.digest))
    file.write(index + end.tobytes())
    return pipeline.digest


def _packed(data: bytes) -> list[Made | None]:
    """The chunks of a group; None for zeros."""
    view, packer = memoryview(data), zstd.ZstdCompressor(level=LEVEL)
    return [_packed_chunk(view[at:at + PIECE], packer) for at in range(0, len(data), PIECE)]


def _packed_chunk(data: memoryview, packer: zstd.ZstdCompressor) -> Made | None:
    """Kind, bytes and digest of a chunk, as it is where packing saves nothing; None for zeros."""
    if not np.frombuffer(data, np.uint8).any():
        return None
    packed, digest = packer.compress(data, zstd.ZstdCompressor.FLUSH_FRAME), blake3(data).digest()
    return (PACKED, packed, digest) if len(packed) < len(data) else (STORED, data, digest)


def _with_zeros(made: list[Made | None], first: int, zeros: Run) -> tuple[list[Chunk], Run]:
    """The chunks of a group as they are written, with the runs of zeros that end in it; the run that goes on."""
    found = list[Chunk]()
    for number, one in enumerate(made, first):
        if one is None:
            zeros = zeros.with_more(number, 1)
            continue
        if zeros.length:
            found.append((ZEROS, zeros.first, zeros.length, b"", NO_DIGEST))
            zeros = Run(0, 0)
        kind, data, digest = one
        found.append((kind, number, 1, data, digest))
    return found, zeros


def _put(file: BinaryIO, written: list[Chunk]) -> int:
    """Write chunks, each behind its header; the bytes of all of it."""
    heads = np.zeros(len(written), CHUNK)
    heads["magic"] = np.void(CHUNK_MAGIC)
    for name, column in zip(("kind", "number", "count"), range(3), strict=True):
        heads[name] = [each[column] for each in written]
    heads["length"] = [len(each[3]) for each in written]
    heads["digest"] = np.frombuffer(b"".join(each[4] for each in written), "V32")
    head = heads.tobytes()
    parts = (part for number, each in enumerate(written)
             for part in (head[number * CHUNK.itemsize:(number + 1) * CHUNK.itemsize], each[3]))
    whole = b"".join(parts)
    file.write(whole)
    return len(whole)


def _rows(written: list[Chunk], at: int) -> NDArray[np.void]:
    """The lines of the index for chunks of which the first stands at byte `at`."""
    rows = np.zeros(len(written), INDEX)
    lengths = np.array([len(each[3]) for each in written], np.int64)
    rows["kind"], rows["number"], rows["count"] = zip(*(each[:3] for each in written), strict=True)
    rows["length"] = lengths
    rows["offset"] = at + np.cumsum(lengths + CHUNK.itemsize) - lengths - CHUNK.itemsize
    return rows
