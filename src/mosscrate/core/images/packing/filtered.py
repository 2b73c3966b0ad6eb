"""lz4, lzip and the older lzma: streams in order, unpacked by the system's libarchive.

Source: the LZ4 frame format 1.6, the lzip manual's file format, the LZMA specification of the LZMA SDK.
"""

from __future__ import annotations

from mosscrate.core.images.packing.seven_zip_rar import filtered
from mosscrate.core.images.packing.stream import Packed, Unpacking

LZ4, LZIP = b"\x04\x22\x4d\x18", b"LZIP"
LZMA_PROPERTIES = 0x5D                   # what every packer writes: lc 3, lp 0, pb 2
LZMA_LARGEST = 1 << 48                   # bytes that a header may promise


class Lz4(Packed):
    """See Packed."""

    kind = "lz4"

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        return filtered(self.file, "lz4")


class Lzip(Packed):
    """See Packed."""

    kind = "lzip"

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        return filtered(self.file, "lzip")


class Lzma(Packed):
    """See Packed."""

    kind = "lzma"

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        return filtered(self.file, "lzma")


def is_lzma(first: bytes) -> bool:
    """It has no magic: properties, a dictionary of a power of two or half more, a size that can be, and a zero."""
    if len(first) < 14 or first[0] != LZMA_PROPERTIES or first[13]:
        return False
    dictionary, size = int.from_bytes(first[1:5], "little"), int.from_bytes(first[5:13], "little")
    high = 1 << dictionary.bit_length() - 1 if dictionary else 0
    return dictionary >= 4096 and dictionary in (high, high + high // 2, 0xFFFFFFFF) and (
        size == (1 << 64) - 1 or 0 < size < LZMA_LARGEST)
