"""Whether a pack is what was written: its head, every frame with its chunk, the table, the end."""

from __future__ import annotations

import mmap
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from backports import zstd
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.images.kept.frames import (
    FRAME,
    FRAME_MAGIC,
    LONGEST_CHUNK,
    NAME,
    PACK_END,
    PACK_HEAD,
    PACK_MAGIC,
    PLACE_BITS,
    PLAIN,
    ROW,
    TABLE_MAGIC,
    VERSION,
    ZSTD,
    check_of,
)
from mosscrate.core.images.kept.packs import table_of


@dataclass(frozen=True)
class Proven:
    """What is wrong with a pack.

    Attributes:
        good, bad: names of chunks that can be read from it, and that cannot.
        where: what else is damaged, in words; nothing that is kept is lost by it.
    """

    good: tuple[bytes, ...] = ()
    bad: tuple[bytes, ...] = ()
    where: tuple[str, ...] = ()


def prove_pack(path: Path) -> Proven:
    """Read all of a pack. Raises OSError."""
    rows = table_of(path)
    good, bad, where = list[bytes](), list[bytes](), list[str]()
    with path.open("rb") as file:
        size = file.seek(0, 2)
        if size < PACK_HEAD.itemsize + PACK_END.itemsize:
            return Proven(where=("it is cut",))
        with mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ) as data:
            if not _is_head(data[:PACK_HEAD.itemsize]):
                where.append("its head")
            if not _is_end(data[-PACK_END.itemsize:], size) or not _is_table(data, size):
                where.append("its table")
            at = PACK_HEAD.itemsize
            places = rows["place"] & np.uint64((1 << PLACE_BITS) - 1)          # the codec is above them
            for number in np.argsort(places, kind="stable").tolist():
                row, place = rows[number], int(places[number])
                stored = data[place + FRAME.itemsize:place + FRAME.itemsize + int(row["stored"])]
                if not _is_frame(data[place:place + FRAME.itemsize], row, stored) or place != at:
                    where.append(f"a frame at byte {place:,}")
                (good if _is_chunk(row, stored) else bad).append(row["name"].tobytes())
                at = place + FRAME.itemsize + int(row["stored"])
    return Proven(tuple(good), tuple(bad), tuple(where))


@dataclass(frozen=True)
class StoredChunk:
    """A chunk as it lies in a pack: its name, codec, stored bytes, length unpacked, and whether it is what it says."""

    name: bytes
    codec: int
    stored: bytes
    raw: int
    is_proven: bool


def stored_chunks(path: Path, rows: NDArray[np.void]) -> Iterator[StoredChunk]:
    """Those that some ROW rows of a pack name, each proven. Raises OSError."""
    with path.open("rb") as file:
        for row in rows:
            name, place, raw = row["name"].tobytes(), int(row["place"]), int(row["raw"])
            file.seek((place & ((1 << PLACE_BITS) - 1)) + FRAME.itemsize)
            stored, codec = file.read(int(row["stored"])), place >> PLACE_BITS
            yield StoredChunk(name, codec, stored, raw, proven(stored, codec, raw, name))


def _is_head(head: bytes) -> bool:
    return head[:8] == PACK_MAGIC and head[8] == VERSION and check_of(head[:-8]) == head[-8:]


def _is_end(end: bytes, size: int) -> bool:
    row = np.frombuffer(end, PACK_END, 1)[0]
    return end[:8] == TABLE_MAGIC and check_of(end[:-8]) == end[-8:] and \
        int(row["table"]) + int(row["rows"]) * ROW.itemsize == size - PACK_END.itemsize


def _is_table(data: mmap.mmap, size: int) -> bool:
    row = np.frombuffer(data[-PACK_END.itemsize:], PACK_END, 1)[0]
    digest: bytes = row["digest"].tobytes()
    return blake3(data[int(row["table"]):size - PACK_END.itemsize]).digest() == digest


def _is_frame(head: bytes, row: np.void, stored: bytes) -> bool:
    if len(head) != FRAME.itemsize:
        return False
    frame = np.frombuffer(head, FRAME, 1)[0]
    return head[:4] == FRAME_MAGIC and check_of(head[:-4], 4) == head[-4:] and \
        frame["name"].tobytes() == row["name"].tobytes() and frame["check"].tobytes() == check_of(stored)


def _is_chunk(row: np.void, stored: bytes) -> bool:
    codec = int(row["place"]) >> PLACE_BITS
    return len(stored) == int(row["stored"]) and proven(stored, codec, int(row["raw"]), row["name"].tobytes())


def proven(stored: bytes, codec: int, raw: int, name: bytes) -> bool:
    """Whether stored bytes are a chunk of that length and name."""
    if codec not in (PLAIN, ZSTD) or raw > LONGEST_CHUNK:
        return False
    try:
        whole = zstd.ZstdDecompressor().decompress(stored, raw + 1) if codec == ZSTD else stored
    except zstd.ZstdError:
        return False
    return len(whole) == raw and blake3(whole).digest(length=NAME) == name
