"""Drive files: one file that a whole drive is put away in, packed in chunks of which each can be read for itself.

Little-endian. Ours; `docs/formats/drive-file.md` describes it for whoever writes another reader. A header with facts
about the drive, then chunks in order, each with its own header and digest, then an index and an end. A file that is
cut, or comes out of a pipe that broke, is read chunk by chunk as far as it is whole.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator

import msgspec
import numpy as np
from backports import zstd
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import Damaged, FormatError
from mosscrate.core.images.container import DiskInPieces
from mosscrate.core.sizes import binary

MAGIC, CHUNK_MAGIC, INDEX_MAGIC, END_MAGIC = b"MOSSDRV\n", b"CHNK", b"INDX", b"MOSSEND\n"
VERSION = 1
HEADER = np.dtype([
    ("magic", "V8"), ("version", "<u2"), ("reserved", "<u2"), ("facts_length", "<u4"), ("chunk_size", "<u4"),
    ("reserved_2", "<u4"), ("size", "<u8"), ("facts_digest", "V32")])                                   # 64 bytes
CHUNK = np.dtype([
    ("magic", "V4"), ("kind", "<u4"), ("number", "<u8"), ("count", "<u4"), ("length", "<u4"), ("digest", "V32"),
    ("reserved", "<u8")])                                                                               # 64 bytes
INDEX = np.dtype([("number", "<u8"), ("offset", "<u8"), ("count", "<u4"), ("length", "<u4"), ("kind", "<u4"),
                  ("reserved", "<u4")])                                                                 # 32 bytes
END = np.dtype([
    ("magic", "V8"), ("index_offset", "<u8"), ("index_length", "<u8"), ("reserved", "<u8"), ("index_digest", "V32"),
    ("digest", "V32"), ("reserved_2", "V32")])                                                          # 128 bytes
ZEROS, STORED, PACKED = 0, 1, 2         # kinds of a chunk: nothing but zeros, as it is, a Zstandard frame
CHUNK_SIZES = {1 << k for k in range(12, 24)}
MOST_FACTS = 16 << 20
MOST_CHUNKS = 1 << 27                   # runs of zeros count once: 8 TiB in chunks of 64 KiB without any
CACHED = 32 << 20                       # bytes of unpacked chunks
NO_ROW = (0, 0, 0, 0, ZEROS, 0)


class Facts(msgspec.Struct, frozen=True):
    """What is known of the drive. `layout` has the shape that `look --json` prints; 0 and "" for what is not known."""

    name: str = ""
    size: int = 0
    sector: int = 512
    cylinders: int = 0
    heads: int = 0
    sectors: int = 0
    model: str = ""
    serial: str = ""
    identity: str = ""
    made_at: str = ""
    used_only: bool = False
    layout: dict[str, object] = {}


_FACTS = msgspec.json.Decoder(Facts)


class DriveFile(DiskInPieces):
    """Reads one.

    Attributes:
        facts: about the drive.
        digest: BLAKE3 of all of it; "" where the end is missing.
        lack: what is missing of it, in a sentence; "" for nothing.
    """

    kind = "drive file"

    def __init__(self, file: Blocks) -> None:
        place = Place("drive file header", HEADER, 0)
        head = place.read(file.read(0, min(file.size, HEADER.itemsize)))
        place.require("magic", head["magic"].tobytes(), {MAGIC})
        place.require("version", int(head["version"]), {VERSION})
        length = place.require("facts_length", int(head["facts_length"]), range(MOST_FACTS))
        self.piece = place.require("chunk_size", int(head["chunk_size"]), CHUNK_SIZES)
        size = int(head["size"])
        if not 0 < size <= self.piece * MOST_CHUNKS or HEADER.itemsize + length > file.size:
            raise place.error("size", size, "the bytes of a drive, and facts within the file")
        facts = file.read(HEADER.itemsize, length)
        if blake3(facts).digest() != head["facts_digest"].tobytes():
            raise place.error("facts_digest", head["facts_digest"].tobytes()[:8], "that of the facts behind it")
        try:
            self.facts = _FACTS.decode(facts)
        except ValueError as error:
            raise FormatError("drive file", "facts", HEADER.itemsize, str(error), "facts about a drive") from error
        super().__init__(file, size)
        self.sector = self.facts.sector if self.facts.sector in (512, 1024, 2048, 4096) else 512
        self.container = "drive"
        self._chunks = -(-size // self.piece)
        self._unpacked: OrderedDict[int, bytes] = OrderedDict()
        self.digest, index = self._index()
        self._index_rows = index if index is not None else self._walked(HEADER.itemsize + length)
        self._firsts = self._index_rows["number"].astype(np.int64)
        self.lack = self._lack()

    def extents(self) -> Iterator[Extent]:
        """See Blocks: chunks of zeros are holes."""
        rows, at = self._index_rows, 0
        is_zero = rows["kind"] == ZEROS
        edges = np.flatnonzero(np.append(True, is_zero[1:] != is_zero[:-1])).tolist() if len(rows) else []
        for number, first in enumerate(edges):
            stop = edges[number + 1] if number + 1 < len(edges) else len(rows)
            end = min((int(rows["number"][stop - 1]) + int(rows["count"][stop - 1])) * self.piece, self.size)
            if end > at:
                yield Extent(at, end - at, is_hole=bool(is_zero[first]))
                at = end
        if at < self.size:
            yield Extent(at, self.size - at)

    def confirm(self) -> None:
        """See Blocks."""
        if self.lack:
            raise Damaged(f"{self.name} {self.lack}")

    def _at_hand(self, number: int, at: int, length: int) -> bytes | None:
        data = self._chunk(number)
        return data[at:at + length] if data else None

    def _read_piece(self, number: int, at: int, into: memoryview) -> None:
        data = self._chunk(number)
        into[:] = memoryview(data)[at:at + len(into)] if data else bytes(len(into))

    def _chunk(self, number: int) -> bytes:
        data = self._unpacked.get(number)
        if data is None:
            data = self._unpack(number)
            self._unpacked[number] = data
            if len(self._unpacked) * self.piece > CACHED:
                self._unpacked.popitem(last=False)
        return data

    def _unpack(self, number: int) -> bytes:
        """The bytes of a chunk, compared with its digest; b"" for zeros. Raises Damaged."""
        row = int(self._firsts.searchsorted(number, side="right")) - 1
        first, offset, count, length, kind, _ = self._index_rows[row].tolist() if row >= 0 else NO_ROW
        if number >= first + count:
            raise Damaged(f"{self.name} {self.lack or 'is damaged'}: byte {number * self.piece} is not in it.",
                          number * self.piece)
        if kind == ZEROS:
            return b""
        size = min(self.piece, self.size - number * self.piece)
        try:
            record = self.file.read(offset, CHUNK.itemsize + length)
            _, _, named, _, _, digest, _ = np.frombuffer(record, CHUNK, 1)[0].tolist()
            held = memoryview(record)[CHUNK.itemsize:]
            data = zstd.ZstdDecompressor().decompress(held, size + 1) if kind == PACKED else bytes(held)
        except zstd.ZstdError as error:
            raise self._broken(number, str(error)) from error
        if len(data) != size or blake3(data).digest() != digest or named != number:
            raise self._broken(number, "its digest differs")
        return data

    def _broken(self, number: int, why: str) -> Damaged:
        return Damaged(f"Chunk {number} of {self.name} (from byte {number * self.piece}) is damaged: {why}. What lies "
                       "beside it is intact.", number * self.piece)

    def _index(self) -> tuple[str, NDArray[np.void] | None]:
        """Digest of the drive and the index, where the end of the file is whole."""
        at = self.file.size - END.itemsize
        if at < HEADER.itemsize:
            return "", None
        end = np.frombuffer(self.file.read(at, END.itemsize), END, 1)[0]
        offset, length = int(end["index_offset"]), int(end["index_length"])
        is_whole = end["magic"].tobytes() == END_MAGIC and offset + length <= at and length % INDEX.itemsize == 0
        if not is_whole or length // INDEX.itemsize > MOST_CHUNKS:
            return "", None
        data = self.file.read(offset, length)
        rows = np.frombuffer(data, INDEX)
        if blake3(data).digest() != end["index_digest"].tobytes() or not self._is_in_order(rows):
            return "", None
        return end["digest"].tobytes().hex(), rows

    def _is_in_order(self, rows: NDArray[np.void]) -> bool:
        """Whether an index names chunks within drive and file, each once."""
        number, count = rows["number"].astype(np.int64), rows["count"].astype(np.int64)
        ends = rows["offset"].astype(np.float64) + rows["length"] + CHUNK.itemsize
        return bool(np.all(count > 0) and np.all(number[1:] >= (number + count)[:-1]) and np.all(number >= 0)
                    and np.all(number + count <= self._chunks) and np.all(ends <= self.file.size)
                    and np.all(rows["kind"] <= PACKED))

    def _walked(self, at: int) -> NDArray[np.void]:
        """The chunks that are whole, one behind the other, of a file that has no index."""
        rows: list[tuple[int, int, int, int, int, int]] = []
        expected = 0
        while at + CHUNK.itemsize <= self.file.size:
            head = np.frombuffer(self.file.read(at, CHUNK.itemsize), CHUNK, 1)[0]
            number, count, length, kind = (int(head[name]) for name in ("number", "count", "length", "kind"))
            end = at + CHUNK.itemsize + length
            if (head["magic"].tobytes() != CHUNK_MAGIC or number != expected or not 0 < count <= self._chunks - number
                    or kind > PACKED or end > self.file.size):
                break
            rows.append((number, at, count, length, kind, 0))
            at, expected = end, number + count
        return np.array(rows, INDEX)

    def _lack(self) -> str:
        rows = self._index_rows
        there = int(rows["number"][-1] + rows["count"][-1]) if len(rows) else 0
        if there < self._chunks or int(rows["count"].sum()) < self._chunks:
            return f"is cut short: {binary(min(there * self.piece, self.size))} of {binary(self.size)} are in it"
        return "" if self.digest else "is cut short: all chunks are in it, its end is not"


class Drive:
    """See ContainerFormat."""

    def begins(self, first: bytes) -> bool:
        """See ContainerFormat."""
        return first.startswith(MAGIC)

    def probe(self, file: Blocks) -> bool:
        """See ContainerFormat."""
        return file.size >= HEADER.itemsize and file.read(0, len(MAGIC)) == MAGIC

    def open(self, file: Blocks) -> DriveFile:
        """See ContainerFormat."""
        return DriveFile(file)
