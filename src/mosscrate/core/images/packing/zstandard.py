"""Zstandard: frames behind one another, each of which can be unpacked for itself.

Little-endian. Source: RFC 8878. A frame may tell the size of what it holds; its blocks are walked along to find the
next one, as far as that is quick. Windows are taken up to 2 GiB.
"""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.chained import Chained
from mosscrate.core.images.packing.stream import DAMAGE, Packed, Unpacking

MAGIC = b"\x28\xb5\x2f\xfd"
SKIPPABLE = range(0x184D2A50, 0x184D2A60)
LONGEST_WINDOW = 31                     # as a power of two
HEADER = 18                             # bytes at most
WALKED = 20_000                         # blocks of frames, at most: 2.5 GiB unpacked, and 80 MiB of pages touched


def begins(first: bytes) -> bool:
    """Whether a file is of it; packers that work in parallel put a frame to be skipped first."""
    return first.startswith(MAGIC) or int.from_bytes(first[:4], "little") in SKIPPABLE


class Zstandard(Packed):
    """See Packed."""

    kind = "Zstandard"

    def __init__(self, file: Blocks) -> None:
        super().__init__(file)
        frames, self.size = _walked(file)
        self._packed_at = dict(frames)
        self.starts = [start for start in self._packed_at if start]

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        from backports import zstd

        longest = {int(zstd.DecompressionParameter.window_log_max): LONGEST_WINDOW}
        return Chained(self.file, self._packed_at.get(place, 0), lambda: zstd.ZstdDecompressor(options=longest))


def _walked(file: Blocks) -> tuple[list[tuple[int, int]], int | None]:
    """(unpacked, packed) bytes at which frames begin, and the size of all of them where each tells its own."""
    from backports.zstd import get_frame_info  # slow to load, and most images are not packed

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
    return starts, unpacked if starts else None


def _header_length(head: bytes) -> int:
    """Of a frame, § 3.1.1.1: descriptor, window, dictionary and size."""
    descriptor = head[4]
    is_single = descriptor >> 5 & 1
    size_bytes = (is_single, 2, 4, 8)[descriptor >> 6]
    return 5 + (1 - is_single) + (0, 1, 2, 4)[descriptor & 3] + size_bytes
