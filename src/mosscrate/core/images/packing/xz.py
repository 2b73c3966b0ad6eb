"""xz: blocks that can be unpacked each for itself, with an index behind them that tells all sizes.

Little-endian. Source: "The .xz File Format" 1.2. Files made on one processor mostly have a single block.
"""

from __future__ import annotations

import lzma
from typing import TYPE_CHECKING

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.chained import Chained
from mosscrate.core.images.packing.stream import DAMAGE, Packed, Unpacking, as_file

if TYPE_CHECKING:
    from xz import XZFile

MAGIC = b"\xfd7zXZ\0"


class Xz(Packed):
    """See Packed."""

    kind = "xz"

    def __init__(self, file: Blocks) -> None:
        from xz import XZFile  # slow to load, and most images are not packed

        super().__init__(file)
        self._in_blocks: _InBlocks | None = None
        try:
            found = XZFile(as_file(file))
        except DAMAGE:
            return                                # without a whole index it is still read in order, as far as it goes
        self.size = len(found)
        self.starts = list(found.block_boundaries)[1:]
        self._in_blocks = _InBlocks(found)

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        if not place or self._in_blocks is None:
            return Chained(self.file, 0, lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ), padding=b"\0")       # § 2.2
        self._in_blocks.file.seek(place)
        return self._in_blocks


class _InBlocks:
    """See Unpacking."""

    def __init__(self, file: XZFile) -> None:
        self.file = file

    def readinto(self, buffer: memoryview, /) -> int:
        """See Unpacking."""
        data = self.file.read(len(buffer))
        buffer[:len(data)] = data
        return len(data)
