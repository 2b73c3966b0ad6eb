"""zip: members with a directory at the end, also in parts.

Little-endian. Source: APPNOTE.TXT 6.3.10. The directory is read by the standard library; what it does not unpack
(Deflate64, Zstandard, xz) is unpacked here. In a set of parts every place counts from the beginning of its part, so the
records at the end are changed on a view until they fit the parts joined.
"""

from __future__ import annotations

import io
import struct
import zipfile
from binascii import crc32
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from mosscrate.core.blocks import Blocks, MemoryBlocks, Overlay, Window
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.images.packing.bzip2 import Bzip2
from mosscrate.core.images.packing.gzip import Gzip
from mosscrate.core.images.packing.members import Member
from mosscrate.core.images.packing.parts import Joined, set_of
from mosscrate.core.images.packing.stream import DAMAGE, Checked, Packed, Stream, Unpacking, as_file
from mosscrate.core.images.packing.xz import Xz
from mosscrate.core.images.packing.zstandard import Zstandard

MAGICS = (b"PK\x03\x04", b"PK\x07\x08", b"PK00", b"PK\x05\x06")
STORED, DEFLATED, DEFLATED_64, BZIP2, LZMA, ZSTANDARD, XZ = 0, 8, 9, 12, 14, 93, 95
END = struct.Struct("<4sHHHHIIH")               # § 4.3.16
END_64 = struct.Struct("<4sQHHIIQQQQ")          # § 4.3.14
LOCATOR = struct.Struct("<4sIQI")               # § 4.3.15
LOCAL = struct.Struct("<4sHHHHHIIIHH")          # § 4.3.7
MANY = 0xFFFFFFFF                               # the true value stands in the 64-bit record
FURTHEST_END = 65536 + END.size
IS_ENCRYPTED, IS_UTF_8 = 0x001, 0x800
UNICODE_PATH = 0x7075
INPUT = 256 << 10


class Zip:
    """See Wrapping."""

    kind = "zip"
    needs_end = True

    def probe(self, first: bytes) -> bool:
        """See Wrapping."""
        return first.startswith(MAGICS)

    def members(self, file: Blocks) -> Sequence[Member]:
        """See Wrapping."""
        joined = set_of(file)
        starts = joined.starts if joined else (0,)
        try:
            archive = zipfile.ZipFile(as_file(_as_one(file, starts)))
        except MossError:
            raise
        except DAMAGE as error:
            raise MediumError(f"The directory at the end of {file.name} cannot be read: {error}. The file is cut "
                              "short, damaged, or not the last part of its set.") from error
        return [_member(file, archive, info, starts) for info in archive.infolist()
                if info.filename and not info.filename.endswith("/")]


def name_of(info: zipfile.ZipInfo) -> str:
    """A member's name as whoever packed it meant it: many write UTF-8 without the bit that says so.

    § 4.4.4 bit 11, § 4.6.9 (Unicode path); else the code page 437 of § D.1, as the standard library reads it.
    """
    raw = info.orig_filename.encode("cp437", "replace")
    if info.flag_bits & IS_UTF_8 or raw.isascii():
        return info.filename
    told = _unicode_path(info.extra, raw)
    with suppress(UnicodeDecodeError):
        return (told or raw).decode("utf-8").partition("\0")[0]
    return info.filename


def _unicode_path(extra: bytes, raw: bytes) -> bytes:
    """The name in UTF-8 that stands beside another one, as long as it is of that one; b"" else."""
    at = 0
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        field, at = extra[at + 4:at + 4 + length], at + 4 + length
        if kind == UNICODE_PATH and len(field) > 5 and field[1:5] == struct.pack("<I", crc32(raw)):
            return field[5:]
    return b""


def _member(file: Blocks, archive: zipfile.ZipFile, info: zipfile.ZipInfo, starts: tuple[int, ...]) -> Member:
    volume = info.volume if info.volume < len(starts) else 0
    at = starts[volume] + info.header_offset
    return Member(name_of(info), info.file_size, lambda: _opened(file, archive, info, at))


def _opened(file: Blocks, archive: zipfile.ZipFile, info: zipfile.ZipInfo, at: int) -> Blocks:
    if info.flag_bits & IS_ENCRYPTED:
        raise MediumError(f"{info.filename} in {file.name} is encrypted; it is not opened here.")
    head = file.read(at, LOCAL.size)
    signature, *_, name_length, extra_length = LOCAL.unpack(head)
    if signature != MAGICS[0]:
        raise MediumError(f"The entry of {info.filename} in {file.name} does not lead to it: the file is damaged.", at)
    data = Window(file, at + LOCAL.size + name_length + extra_length, info.compress_size)
    return Stream(data, _packed(data, archive, info), info.filename)


def _packed(data: Blocks, archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> Packed:
    packed: Packed
    if info.compress_type == DEFLATED:
        packed = Gzip(_as_gzip(data, info))
    elif info.compress_type in (XZ, BZIP2):
        packed = {XZ: Xz, BZIP2: Bzip2}[info.compress_type](data)
    elif info.compress_type in (STORED, DEFLATED_64, LZMA, ZSTANDARD):
        packed = _InZip(data, archive, info)
    else:
        raise MediumError(f"{info.filename} is packed in a way that is not known here (method {info.compress_type}).")
    packed.size = info.file_size
    return packed


def _as_gzip(data: Blocks, info: zipfile.ZipInfo) -> Blocks:
    """Deflated bytes with the frame of RFC 1952 around them, so that places in them are noted alike."""
    trailer = struct.pack("<II", info.CRC, info.file_size & 0xFFFFFFFF)
    return Joined((MemoryBlocks(b"\x1f\x8b\x08\0\0\0\0\0\0\xff"), data, MemoryBlocks(trailer)), data.name)


class _InZip(Packed):
    """What is stored as it is, or packed in a way that only zip has."""

    kind = "zip"

    def __init__(self, file: Blocks, archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> None:
        super().__init__(file, info.file_size)
        self._archive, self._info = archive, info

    @property
    def places(self) -> int:
        """See Packed."""
        return self.file.size // INPUT if self._info.compress_type == STORED else 0

    def nearest(self, offset: int) -> int:
        """See Packed."""
        return offset if self._info.compress_type == STORED else 0

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        if place:
            return as_file(self.file, place)
        plain: Any = as_file(self.file)
        if self._info.compress_type == LZMA:
            plain = self._archive.open(self._info)
        elif self._info.compress_type == DEFLATED_64:
            plain = _Inflating64(self.file)
        elif self._info.compress_type == ZSTANDARD:
            plain = Zstandard(self.file).begin(0)           # it need not have a checksum of its own
        return Checked(plain, self._info.file_size, self._info.CRC)


class _Inflating64(io.RawIOBase):
    """Deflate64, § 4.4.5 method 9; see Unpacking."""

    def __init__(self, file: Blocks) -> None:
        from inflate64 import Inflater  # slow to load, and few archives need it

        super().__init__()
        self._file, self._at = file, 0
        self._inflater, self._ready = Inflater(), memoryview(b"")

    def readinto(self, buffer: memoryview, /) -> int:  # type: ignore[override]
        """See Unpacking."""
        while not self._ready and not self._inflater.eof:
            count = min(INPUT, self._file.size - self._at)
            if not count:
                raise EOFError
            self._ready = memoryview(self._inflater.inflate(self._file.read(self._at, count)))
            self._at += count
        count = min(len(buffer), len(self._ready))
        buffer[:count], self._ready = self._ready[:count], self._ready[count:]
        return count


def _as_one(file: Blocks, starts: tuple[int, ...]) -> Blocks:
    """The file, its last records changed where it is the sum of several parts."""
    if len(starts) == 1:
        return file
    begins = max(0, file.size - FURTHEST_END)
    tail = file.read(begins, file.size - begins)
    found = tail.rfind(b"PK\x05\x06")
    if found < 0:
        raise MediumError(f"The last part of {file.name} is missing: there is no directory at the end.")
    view, at = Overlay(file), begins + found
    signature, _, disk, here, count, size, offset, comment = END.unpack_from(tail, found)
    if disk >= len(starts):
        raise MediumError(f"The directory of {file.name} begins in part {disk + 1}; there are {len(starts)}.")
    placed = offset if offset == MANY else min(starts[disk] + offset, MANY)
    view.write(at, END.pack(signature, 0, 0, max(here, count), count, size, placed, comment))
    if found >= LOCATOR.size and tail[found - LOCATOR.size:].startswith(b"PK\x06\x07"):
        signature, disk, offset, _ = LOCATOR.unpack_from(tail, found - LOCATOR.size)
        at_64 = starts[min(disk, len(starts) - 1)] + offset
        view.write(at - LOCATOR.size, LOCATOR.pack(signature, 0, at_64, 1))
        fields = list(END_64.unpack(file.read(at_64, END_64.size)))
        fields[9] += starts[min(fields[5], len(starts) - 1)]
        fields[4] = fields[5] = 0
        fields[6] = max(fields[6], fields[7])
        view.write(at_64, END_64.pack(*fields))
    return view
