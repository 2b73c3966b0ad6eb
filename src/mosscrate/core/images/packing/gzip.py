"""gzip: one or several deflated members behind one another.

Little-endian. Source: RFC 1952. The last four bytes tell the size of the last member, without what exceeds 32 bits.
Nothing in the file says where unpacking could begin, so places are noted while it is read through.
"""

from __future__ import annotations

import io
import struct
from typing import TYPE_CHECKING

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.stream import STEP, Packed, Unpacking, as_file

if TYPE_CHECKING:
    from indexed_gzip import IndexedGzipFile

MAGIC = b"\x1f\x8b\x08"
WRAPS = 1 << 32
TRAILER = struct.Struct("<II")          # RFC 1952, § 2.3.1: CRC32 and size of the last member
NEAR = 16                               # share of a disk that most likely no partition covers
DENSEST = 1032                          # bytes that one byte of a deflated stream can unpack to
SPACING = 16 << 20                      # unpacked bytes between two places; each takes 32 KiB


class Gzip(Packed):
    """See Packed."""

    kind = "gzip"

    def __init__(self, file: Blocks) -> None:
        super().__init__(file)
        self.low = int.from_bytes(file.read(file.size - 4, 4), "little") if file.size >= 18 else 0
        self._noted: IndexedGzipFile | None = None

    def supposed(self, claimed: int) -> int:
        """See Packed: what agrees with the end of the file too, where that lies close to what is claimed.

        Of several members the end tells of the last one alone, and zeros may stand behind it.
        """
        if self.low >= claimed:
            return self.low
        whole = self.low + -(-(claimed - self.low) // WRAPS) * WRAPS
        is_likely = whole - claimed <= claimed // NEAR and whole <= self.file.size * DENSEST
        return whole if is_likely else claimed

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        from isal import igzip  # the libraries are slow to load, and most images are not packed

        if not place or self._noted is None:
            plain: Unpacking = igzip.IGzipFile(fileobj=as_file(self.file))  # type: ignore[no-untyped-call]
            return plain
        self._noted.seek(place)
        noted: Unpacking = self._noted
        return noted

    def begin_noting(self) -> Unpacking:
        """See Packed."""
        from indexed_gzip import IndexedGzipFile

        self._noted = IndexedGzipFile(fileobj=as_file(self.file), spacing=SPACING)
        return _Noting(self.file, self._noted)

    def note(self) -> bytes:
        """See Packed."""
        if self._noted is None:
            return b""
        into = io.BytesIO()
        self._noted.export_index(fileobj=into)
        self._take_places()
        return into.getvalue()

    def recall(self, noted: bytes) -> None:
        """See Packed."""
        from indexed_gzip import IndexedGzipFile

        self._noted = IndexedGzipFile(fileobj=as_file(self.file))
        self._noted.import_index(fileobj=io.BytesIO(noted))
        self._take_places()

    def _take_places(self) -> None:
        assert self._noted is not None, "places were noted"
        self.starts = [place for place, _ in self._noted.seek_points() if place]


class _Noting:
    """Unpacks while a library notes places: it does not compare checksums, and takes a cut file for its end."""

    def __init__(self, file: Blocks, noted: Unpacking) -> None:
        from isal.isal_zlib import crc32

        self._file, self._noted, self._crc32 = file, noted, crc32
        self._crc = self._length = 0

    def readinto(self, buffer: memoryview, /) -> int:
        """See Unpacking."""
        count = self._noted.readinto(buffer) or 0
        self._crc, self._length = self._crc32(buffer[:count], self._crc), self._length + count
        if not count and self._file.read(self._file.size - 8, 8) != TRAILER.pack(self._crc, self._length % WRAPS):
            self._compare_members()
        return count

    def _compare_members(self) -> None:
        """Unpack all once more: the end of the file only tells of the last member. Raises DAMAGE."""
        from isal import igzip

        plain: Unpacking = igzip.IGzipFile(fileobj=as_file(self._file))  # type: ignore[no-untyped-call]
        buffer, length = memoryview(bytearray(STEP)), 0
        while count := plain.readinto(buffer):
            length += count
        if length != self._length:
            raise EOFError
