"""qcow2: clusters that are there only where something was written, also packed, also over another file.

Big-endian. Source: the published "qcow2 image format" (docs/interop/qcow2 of its makers), versions 2 and 3. A table of
the first level leads to tables of the second, whose entries say where a cluster stands: nowhere, as zeros, as it is, or
packed: deflated (raw, window of 12 bits), or a Zstandard frame. With extended entries each cluster has 32 parts of its
own. What is nowhere is read from the backing file, which has to lie in the same folder; internal snapshots are left
alone.
"""

from __future__ import annotations

import struct
import zlib
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from backports import zstd
from numpy.typing import NDArray

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks, Extent, open_blocks
from mosscrate.core.blocks.runs import with_holes
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images import vhd
from mosscrate.core.images.container import ContainedDisk, DiskInPieces

MAGIC = b"QFI\xfb"
HEADER = np.dtype([
    ("magic", "V4"), ("version", ">u4"), ("backing_file_offset", ">u8"), ("backing_file_size", ">u4"),
    ("cluster_bits", ">u4"), ("size", ">u8"), ("crypt_method", ">u4"), ("l1_size", ">u4"), ("l1_table_offset", ">u8"),
    ("refcount_table_offset", ">u8"), ("refcount_table_clusters", ">u4"), ("nb_snapshots", ">u4"),
    ("snapshots_offset", ">u8")])                                                        # 72 bytes
HEADER_3 = np.dtype([
    *((name, HEADER.fields[name][0]) for name in HEADER.names or ()),  # type: ignore[index]
    ("incompatible_features", ">u8"), ("compatible_features", ">u8"), ("autoclear_features", ">u8"),
    ("refcount_order", ">u4"), ("header_length", ">u4")])                                # 104 bytes
DIRTY, EXTERNAL, PACKED_OTHERWISE, EXTENDED = 1, 4, 8, 16
PACKING_AT, ZSTANDARD = 104, 1          # byte of the header that names the packing; one of its values
KNOWN = DIRTY | EXTENDED | PACKED_OTHERWISE               # incompatible features with which a file can be read here
NAMES = {2: "it is marked as corrupt", EXTERNAL: "its data lie in another file"}
PLACE = 0x00FF_FFFF_FFFF_FE00          # of an entry: where a table or a cluster stands
IS_PACKED, READS_ZERO = 1 << 62, 1
PARTS = 32                             # of a cluster with an extended entry
MOST_L1 = 1 << 22                      # entries: 32 MiB of them
CACHED = 64                            # tables of the second level
DEEPEST = 8                            # backing files behind one another
SECTOR = 512
BACKING_FORMAT = 0xE2792ACA            # header extension: of which kind the backing file is
Table = NDArray[np.uint64]


class Qcow2Disk(DiskInPieces):
    """Reads one file, and those behind it."""

    kind = "qcow2"

    def __init__(self, file: Blocks, depth: int = 0) -> None:
        head = file.read(0, min(file.size, HEADER_3.itemsize + 8))
        raw = Place("qcow2 header", HEADER, 0).read(head)
        version = int(raw["version"])
        place = Place("qcow2 header", HEADER if version == 2 else HEADER_3, 0)
        place.require("version", version, {2, 3})
        raw = place.read(head)
        features = int(raw["incompatible_features"]) if version == 3 else 0
        super().__init__(file, int(raw["size"]))
        if features & ~KNOWN:
            bit = (features & ~KNOWN) & -(features & ~KNOWN)
            raise place.error("incompatible_features", features, "nothing that is not known here: " + NAMES.get(
                bit, f"feature {bit.bit_length() - 1}"))
        packing = head[PACKING_AT] if features & PACKED_OTHERWISE and len(head) > PACKING_AT else 0
        if packing not in (0, ZSTANDARD):
            raise place.error("incompatible_features", features, "clusters packed by deflate or Zstandard; "
                              f"kind {packing} is not known here")
        self._is_zstandard = packing == ZSTANDARD
        place.require("crypt_method", int(raw["crypt_method"]), {0}, "a file that is not encrypted")
        bits = place.require("cluster_bits", int(raw["cluster_bits"]), range(9, 22))
        self.piece = 1 << bits
        self.is_extended = bool(features & EXTENDED)
        self.entries = self.piece // (16 if self.is_extended else 8)
        self._split = 62 - (bits - 8)                  # of a packed entry: bits of the place, then of the sectors
        wanted = -(-self.size // (self.piece * self.entries))
        place.require("l1_size", int(raw["l1_size"]), range(wanted, MOST_L1 + 1), "a table that covers the disk")
        at = int(raw["l1_table_offset"])
        if at + 8 * wanted > file.size or self.size % SECTOR:
            raise place.error("l1_table_offset", at, "a table that lies within the file, for whole sectors")
        self.l1: Table = np.frombuffer(file.read(at, 8 * wanted), ">u8").astype(np.uint64)
        self._tables: OrderedDict[int, Table] = OrderedDict()
        self._plain: dict[int, list[int]] = {}         # entries of tables that were read before
        self._unpacked: tuple[int, bytes] = (0, b"")   # the last packed cluster that was read, by its entry
        self.backing = self._behind(raw, place, depth)

    def close(self) -> None:
        """See Blocks."""
        if self.backing is not None:
            self.backing.close()
        super().close()

    def extents(self) -> Iterator[Extent]:
        """See Blocks: what is nowhere and has nothing behind it, or is zeros, is a hole."""
        if self.backing is not None:
            yield Extent(0, self.size)
            return
        yield from with_holes(self._data(), self.size)

    def _data(self) -> Iterator[tuple[int, int]]:
        """(start, end) of stretches that are no holes, in order."""
        for number in np.flatnonzero(self.l1 & np.uint64(PLACE)).tolist():
            first = number * self.piece * self.entries
            is_data = np.append(~self._is_hole(self._table(number)), False)
            edges = np.flatnonzero(np.append(is_data[0], is_data[1:] != is_data[:-1])).tolist()
            for start, end in zip(edges[::2], edges[1::2], strict=True):
                begins, ends = first + start * self.piece, min(first + end * self.piece, self.size)
                if begins < ends:
                    yield begins, ends

    def _is_hole(self, table: Table) -> NDArray[np.bool_]:
        entries = table[:, 0]
        is_packed = (entries & np.uint64(IS_PACKED)) != 0
        is_there = (entries & np.uint64(PLACE)) != 0
        reads_zero = (entries & np.uint64(READS_ZERO)) != 0            # of a packed one the bit belongs to its place
        found: NDArray[np.bool_] = ~is_packed & (~is_there if self.is_extended else ~is_there | reads_zero)
        return found

    def _at_hand(self, number: int, at: int, length: int) -> bytes | None:
        high, low = divmod(number, self.entries)
        plain = self._plain.get(high)
        if plain is None:
            if self.is_extended or high not in self._tables:
                return None
            if len(self._plain) >= CACHED:
                self._plain.clear()
            plain = self._plain[high] = self._tables[high][:, 0].tolist()
        entry = plain[low]
        if entry & (IS_PACKED | READS_ZERO) or not entry & PLACE:
            return None
        return self.file.read((entry & PLACE) + at, length)

    def _read_piece(self, number: int, at: int, into: memoryview) -> None:
        high, low = divmod(number, self.entries)
        if not int(self.l1[high]) & PLACE:
            self._read_behind(number * self.piece + at, into)
            return
        row = self._table(high)[low]
        entry = int(row[0])
        if entry & IS_PACKED:
            into[:] = self._unpack(entry)[at:at + len(into)]
        elif self.is_extended:
            self._read_parts(entry & PLACE, int(row[1]), number, at, into)
        elif entry & READS_ZERO:
            into[:] = bytes(len(into))
        elif entry & PLACE:
            self.file.read_into((entry & PLACE) + at, into)
        else:
            self._read_behind(number * self.piece + at, into)

    def _read_parts(self, place: int, bitmap: int, number: int, at: int, into: memoryview) -> None:
        """A cluster whose parts stand in it, are zeros, or lie behind, each for itself."""
        part, done = self.piece // PARTS, 0
        while done < len(into):
            index, within = divmod(at + done, part)
            piece = into[done:done + min(part - within, len(into) - done)]
            if bitmap >> (PARTS + index) & 1:
                piece[:] = bytes(len(piece))
            elif bitmap >> index & 1:
                self.file.read_into(place + at + done, piece)
            else:
                self._read_behind(number * self.piece + at + done, piece)
            done += len(piece)

    def _read_behind(self, offset: int, into: memoryview) -> None:
        """From the backing file, which may be shorter; zeros where there is none."""
        there = max(0, min(len(into), self.backing.size - offset)) if self.backing is not None else 0
        if there and self.backing is not None:
            self.backing.read_into(offset, into[:there])
        into[there:] = bytes(len(into) - there)

    def _unpack(self, entry: int) -> bytes:
        if self._unpacked[0] == entry:
            return self._unpacked[1]
        place = entry & (1 << self._split) - 1
        sectors = (entry & IS_PACKED - 1) >> self._split
        length = min((sectors + 1) * SECTOR - place % SECTOR, max(0, self.file.size - place))
        try:
            packed = self.file.read(place, length)
            data = zstd.ZstdDecompressor().decompress(packed, self.piece) if self._is_zstandard else \
                zlib.decompressobj(-12).decompress(packed, self.piece)
        except (zlib.error, zstd.ZstdError) as error:
            raise MediumError(f"A packed cluster of {self.name} at byte {place} is damaged: {error}.", place) from error
        if len(data) < self.piece:
            raise MediumError(f"A packed cluster of {self.name} at byte {place} ends early.", place)
        self._unpacked = (entry, data)
        return data

    def _table(self, number: int) -> Table:
        """A table of the second level. Shape (entries, 1 or 2)."""
        if number in self._tables:
            self._tables.move_to_end(number)
            return self._tables[number]
        place = int(self.l1[number]) & PLACE
        found = np.frombuffer(self.file.read(place, self.piece), ">u8").astype(np.uint64)
        self._tables[number] = found.reshape(self.entries, -1)
        if len(self._tables) > CACHED:
            self._tables.popitem(last=False)
        return self._tables[number]

    def _behind(self, raw: np.ndarray, place: Place, depth: int) -> Blocks | None:
        """The backing file, where there is one beside this. Raises FormatError with its name."""
        at, length = int(raw["backing_file_offset"]), int(raw["backing_file_size"])
        if not at:
            return None
        if length > 1023 or at + length > self.file.size:
            raise place.error("backing_file_offset", at, "a name within the file")
        name = self.file.read(at, length).decode("utf-8", "replace")
        here = getattr(self.file, "path", None)
        beside = Path(here).parent / Path(name).name if here is not None else None
        if beside is None or not beside.is_file() or depth >= DEEPEST:
            raise place.error("backing_file_offset", name, f"“{Path(name).name}” in the same folder: it stands on that")
        file, says = open_blocks(beside), self._extension(raw, BACKING_FORMAT)
        try:
            if says == b"qcow2" or (not says and probe(file)):
                return open_qcow2(file, depth + 1)
            if says == b"vpc" or (not says and vhd.probe(file)):
                return vhd.open_vhd(file)
            if says not in (b"", b"raw"):
                raise place.error("backing_file_offset", name, f"a base of a kind that is read here, not {says!r}")
            return file
        except (FormatError, MediumError):
            file.close()
            raise


    def _extension(self, raw: np.ndarray, wanted: int) -> bytes:
        """What a header extension says; b"" where there is none of that kind. Raises MediumError."""
        at = max(HEADER.itemsize, int(raw["header_length"])) if int(raw["version"]) == 3 else HEADER.itemsize
        while at + 8 <= min(self.file.size, self.piece):
            kind, length = struct.unpack(">II", self.file.read(at, 8))
            if not kind or at + 8 + length > self.file.size:
                break
            if kind == wanted:
                return self.file.read(at + 8, length)
            at += 8 + -(-length // 8) * 8
        return b""


def probe(file: Blocks) -> bool:
    """Whether a file begins like one. Raises MediumError."""
    return file.size >= HEADER.itemsize and file.read(0, 4) == MAGIC


def open_qcow2(file: Blocks, depth: int = 0) -> Qcow2Disk:
    """The disk in a file. Raises FormatError, MediumError."""
    return Qcow2Disk(file, depth)


class Qcow2:
    """See ContainerFormat."""

    def begins(self, first: bytes) -> bool:
        """See ContainerFormat."""
        return first.startswith(MAGIC)

    def probe(self, file: Blocks) -> bool:
        """See ContainerFormat."""
        return probe(file)

    def open(self, file: Blocks) -> ContainedDisk:
        """See ContainerFormat."""
        return open_qcow2(file)
