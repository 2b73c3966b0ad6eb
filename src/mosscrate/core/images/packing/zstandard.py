"""Zstandard: frames behind one another, each of which can be unpacked for itself.

Little-endian. Source: RFC 8878. A frame may tell the size of what it holds; its blocks are walked along to find the
next one, as far as that is quick. Windows are taken up to 2 GiB.
"""

from __future__ import annotations

import io
from bisect import bisect_right

from backports.zstd import DecompressionParameter, ZstdDecompressor, get_frame_info

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.stream import DAMAGE, Packed, Unpacking

MAGIC = b"\x28\xb5\x2f\xfd"
SKIPPABLE = range(0x184D2A50, 0x184D2A60)
LONGEST_WINDOW: dict[int, int] = {DecompressionParameter.window_log_max: 31}
HEADER = 18                             # bytes at most
INPUT = 256 << 10
WALKED = 20_000                         # blocks of frames, at most: 2.5 GiB unpacked, and 80 MiB of pages touched


class Zstandard(Packed):
    """See Packed."""

    kind = "Zstandard"

    def __init__(self, file: Blocks) -> None:
        super().__init__(file)
        self._starts, self.size = _walked(file)

    @property
    def places(self) -> int:
        """See Packed."""
        return max(0, len(self._starts) - 1)

    def nearest(self, offset: int) -> int:
        """See Packed."""
        number = bisect_right(self._starts, offset, key=lambda pair: pair[0])
        return self._starts[number - 1][0] if number else 0

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        return _Frames(self.file, dict(self._starts).get(place, 0))


class _Frames(io.RawIOBase):
    """Frames from a place in the file to its end."""

    def __init__(self, file: Blocks, at: int) -> None:
        super().__init__()
        self._file, self._at = file, at
        self._frame: ZstdDecompressor | None = None

    def readinto(self, buffer: memoryview, /) -> int:  # type: ignore[override]
        """See Unpacking. Raises EOFError where a frame is cut."""
        while True:
            if self._frame is None or self._frame.eof:
                packed = (self._frame.unused_data if self._frame else b"") or self._more()
                if not packed:
                    return 0
                self._frame = ZstdDecompressor(options=LONGEST_WINDOW)
            elif self._frame.needs_input:
                packed = self._more()
                if not packed:
                    raise EOFError
            else:
                packed = b""
            if data := self._frame.decompress(packed, len(buffer)):
                buffer[:len(data)] = data
                return len(data)

    def _more(self) -> bytes:
        count = min(INPUT, self._file.size - self._at)
        self._at += count
        return self._file.read(self._at - count, count)


def _walked(file: Blocks) -> tuple[list[tuple[int, int]], int | None]:
    """(unpacked, packed) bytes at which frames begin, and the size of all of them where each tells its own."""
    starts: list[tuple[int, int]] = []
    at = unpacked = 0
    left = WALKED
    try:
        while at < file.size:
            head = file.read(at, min(HEADER, file.size - at))
            if int.from_bytes(head[:4], "little") in SKIPPABLE:
                at += 8 + int.from_bytes(head[4:8], "little")
                continue
            size = get_frame_info(head).decompressed_size
            starts.append((unpacked, at))
            if size is None:
                return starts, None
            unpacked += size
            at += _header_length(head)
            is_last = False
            while not is_last:
                left -= 1
                if not left:                              # most likely there is one frame alone
                    return starts, unpacked if len(starts) == 1 else None
                block = int.from_bytes(file.read(at, 3), "little")
                is_last = bool(block & 1)
                at += 3 + (1 if block >> 1 & 3 == 1 else block >> 3)
            at += 4 if head[4] & 4 else 0                 # its checksum
    except DAMAGE:
        return starts, None
    return starts, unpacked


def _header_length(head: bytes) -> int:
    """Of a frame, § 3.1.1.1: descriptor, window, dictionary and size."""
    descriptor = head[4]
    is_single = descriptor >> 5 & 1
    size_bytes = (is_single, 2, 4, 8)[descriptor >> 6]
    return 5 + (1 - is_single) + (0, 1, 2, 4)[descriptor & 3] + size_bytes
