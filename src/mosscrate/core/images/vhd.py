"""VHD: a disk as it is with a footer behind it, or in blocks that are there only where something was written.

Big-endian. Source: "Virtual Hard Disk Image Format Specification" 1.0 (October 2006). A fixed disk is its own bytes and
512 of footer. A dynamic one begins with a copy of the footer; a header leads to a table with the sector at which each
block stands, a bitmap of its sectors in front of the block; sectors whose bit is clear were never written: zeros.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import FormatError
from mosscrate.core.images.container import ContainedDisk, DiskInPieces
from mosscrate.core.images.packing.disk import PackedDisk

COOKIE, SPARSE = b"conectix", b"cxsparse"
FIXED, DYNAMIC, DIFFERENCING = 2, 3, 4
UNUSED = 0xFFFFFFFF
MOST_BLOCKS = 1 << 24                  # of a table: 32 TiB in blocks of 2 MiB, far above the 2 TiB that the format has
BLOCK_SIZES = {1 << k for k in range(9, 29)}
FOOTER = np.dtype([
    ("cookie", "V8"), ("features", ">u4"), ("version", ">u4"), ("data_offset", ">u8"), ("timestamp", ">u4"),
    ("creator_application", "V4"), ("creator_version", ">u4"), ("creator_host", "V4"), ("original_size", ">u8"),
    ("current_size", ">u8"), ("cylinders", ">u2"), ("heads", "u1"), ("sectors", "u1"), ("disk_type", ">u4"),
    ("checksum", ">u4"), ("unique_id", "V16"), ("saved_state", "u1"), ("reserved", "V427")])               # 512 bytes
HEADER = np.dtype([
    ("cookie", "V8"), ("data_offset", ">u8"), ("table_offset", ">u8"), ("version", ">u4"), ("table_entries", ">u4"),
    ("block_size", ">u4"), ("checksum", ">u4"), ("parent_id", "V16"), ("parent_timestamp", ">u4"), ("reserved", ">u4"),
    ("parent_name", "V512"), ("parent_locators", "V192"), ("reserved_2", "V256")])                         # 1024 bytes
SECTOR = 512
SUFFIX = ".vhd"


def checksum(record: bytes, dtype: np.dtype[np.void]) -> int:
    """The complement of the sum of all bytes but those of the field itself."""
    at = dtype.fields["checksum"][1]  # type: ignore[index]
    return ~(sum(record) - sum(record[at:at + 4])) & 0xFFFFFFFF


def probe(file: Blocks) -> bool:
    """Whether a footer stands at the end, or a copy of it at the beginning. Raises MediumError."""
    return _footer(file) is not None


def open_vhd(file: Blocks) -> ContainedDisk:
    """The disk in a file. Raises FormatError, MediumError."""
    found = _footer(file)
    if found is None:
        raise FormatError("VHD footer", "cookie", 0, file.read(0, 8), "conectix, with a right checksum")
    raw, at = found
    place = Place("VHD footer", FOOTER, at)
    kind, size = int(raw["disk_type"]), int(raw["current_size"])
    if kind == DIFFERENCING:
        raise place.error("disk_type", kind, "a fixed or dynamic disk; one that only holds what differs from another "
                          "file is not opened here")
    place.require("disk_type", kind, {FIXED, DYNAMIC})
    place.require("current_size", size % SECTOR, {0}, "whole sectors")
    if kind == FIXED:
        if size > file.size:
            raise place.error("current_size", size, f"at most the {file.size} bytes that the file has")
        return FixedDisk(file, size)
    return DynamicDisk(file, size, int(raw["data_offset"]))


class FixedDisk(ContainedDisk):
    """The first bytes of its file."""

    kind = "VHD"

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        for extent in self.file.extents():
            if extent.start < self.size:
                yield Extent(extent.start, min(extent.end, self.size) - extent.start, extent.is_hole)

    def will_need(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.file.will_need(offset, length)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.file.read_into(offset, buffer)


class DynamicDisk(DiskInPieces):
    """Blocks that stand anywhere in the file, or nowhere."""

    kind = "VHD"

    def __init__(self, file: Blocks, size: int, header_at: int) -> None:
        super().__init__(file, size)
        place = Place("VHD header", HEADER, header_at)
        if header_at + HEADER.itemsize > file.size:
            raise place.error("cookie", header_at, "a place within the file")
        data = file.read(header_at, HEADER.itemsize)
        raw = place.read(data)
        if data[:8] != SPARSE or int(raw["checksum"]) != checksum(data, HEADER):
            raise place.error("cookie", data[:8], "cxsparse, with a right checksum")
        self.piece = place.require("block_size", int(raw["block_size"]), BLOCK_SIZES)
        wanted, at = -(-size // self.piece), int(raw["table_offset"])
        place.require("table_entries", int(raw["table_entries"]), range(wanted, MOST_BLOCKS))
        if at + 4 * wanted > file.size:
            raise place.error("table_offset", at, "a table that lies within the file")
        self.bitmap = -(-self.piece // SECTOR // 8 // SECTOR) * SECTOR        # bytes in front of each block
        self.table = np.frombuffer(file.read(at, 4 * wanted), ">u4").astype(np.int64)

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        is_hole = self.table == UNUSED
        starts = np.flatnonzero(np.append(True, is_hole[1:] != is_hole[:-1])) if len(is_hole) else ()
        for number, start in enumerate(starts):
            end = starts[number + 1] if number + 1 < len(starts) else len(is_hole)
            first, last = int(start) * self.piece, min(int(end) * self.piece, self.size)
            yield Extent(first, last - first, bool(is_hole[start]))

    def _read_piece(self, number: int, at: int, into: memoryview) -> None:
        sector = int(self.table[number])
        if sector == UNUSED:
            into[:] = bytes(len(into))
            return
        base = sector * SECTOR
        self.file.read_into(base + self.bitmap + at, into)
        bits = np.unpackbits(np.frombuffer(self.file.read(base, self.bitmap), np.uint8))
        first, last = at // SECTOR, -(-(at + len(into)) // SECTOR)
        if bits[first:last].all():
            return
        shown = np.repeat(bits[first:last], SECTOR)[at - first * SECTOR:][:len(into)]
        np.frombuffer(into, np.uint8)[shown == 0] = 0


def is_fixed_footer(last: bytes, size: int) -> bool:
    """Whether the last sector of so many bytes is the footer of a fixed disk that fills all in front of it."""
    if not _is_footer(last):
        return False
    raw = Place("VHD footer", FOOTER, size - SECTOR).read(last)
    return int(raw["disk_type"]) == FIXED and int(raw["current_size"]) == size - SECTOR


def _is_footer(data: bytes) -> bool:
    return data[:8] == COOKIE and int.from_bytes(data[64:68], "big") == checksum(data, FOOTER)


def _footer(file: Blocks) -> tuple[Record, int] | None:
    in_order = isinstance(file, PackedDisk) and file.streams and not file.packing.name.lower().endswith(SUFFIX)
    for at in (0,) if in_order else (file.size - SECTOR, 0):
        data = file.read(at, SECTOR) if at >= 0 and file.size >= at + SECTOR else b""
        if _is_footer(data):
            return Place("VHD footer", FOOTER, at).read(data), at
    return None


class Vhd:
    """See ContainerFormat."""

    def begins(self, first: bytes) -> bool:
        """See ContainerFormat."""
        return first.startswith(COOKIE)

    def probe(self, file: Blocks) -> bool:
        """See ContainerFormat."""
        return probe(file)

    def open(self, file: Blocks) -> ContainedDisk:
        """See ContainerFormat."""
        return open_vhd(file)
