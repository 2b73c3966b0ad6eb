"""xz: blocks that can be unpacked each for itself, with an index behind them that tells all sizes.

Little-endian. Source: "The .xz File Format" 1.2. Files made on one processor mostly have a single block.
"""

from __future__ import annotations

import io
import lzma
from bisect import bisect_right

from xz import XZFile

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.stream import DAMAGE, Packed, Unpacking, as_file

MAGIC = b"\xfd7zXZ\0"
INPUT = 256 << 10


class Xz(Packed):
    """See Packed."""

    kind = "xz"

    def __init__(self, file: Blocks) -> None:
        super().__init__(file)
        self._in_blocks: _InBlocks | None = None
        self._starts: list[int] = []
        try:
            found = XZFile(as_file(file))
        except DAMAGE:
            return                                # without a whole index it is still read in order, as far as it goes
        self.size = len(found)
        self._starts = list(found.block_boundaries)[1:]
        self._in_blocks = _InBlocks(found)

    @property
    def places(self) -> int:
        """See Packed."""
        return len(self._starts)

    def nearest(self, offset: int) -> int:
        """See Packed."""
        number = bisect_right(self._starts, offset)
        return self._starts[number - 1] if number else 0

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        if not place or self._in_blocks is None:
            return _InOrder(self.file)
        self._in_blocks.file.seek(place)
        return self._in_blocks


class _InOrder(io.RawIOBase):
    """Streams behind one another, padded with zeros; see Unpacking. Larger pieces than the standard library takes."""

    def __init__(self, file: Blocks) -> None:
        super().__init__()
        self._file, self._at = file, 0
        self._stream: lzma.LZMADecompressor | None = None

    def readinto(self, buffer: memoryview, /) -> int:  # type: ignore[override]
        """See Unpacking. Raises EOFError where a stream is cut."""
        while True:
            packed = b""
            if self._stream is None or self._stream.eof:
                packed = self._next_stream(self._stream.unused_data if self._stream else b"")
                if not packed:
                    return 0
                self._stream = lzma.LZMADecompressor(lzma.FORMAT_XZ)
            elif self._stream.needs_input:
                packed = self._more()
                if not packed:
                    raise EOFError
            if data := self._stream.decompress(packed, len(buffer)):
                buffer[:len(data)] = data
                return len(data)

    def _next_stream(self, rest: bytes) -> bytes:
        """What follows, without padding (§ 2.2)."""
        while not (rest := rest.lstrip(b"\0")):
            if not (rest := self._more()):
                return b""
        return rest

    def _more(self) -> bytes:
        count = min(INPUT, self._file.size - self._at)
        self._at += count
        return self._file.read(self._at - count, count)


class _InBlocks:
    """See Unpacking."""

    def __init__(self, file: XZFile) -> None:
        self.file = file

    def readinto(self, buffer: memoryview, /) -> int:
        """See Unpacking."""
        data = self.file.read(len(buffer))
        buffer[:len(data)] = data
        return len(data)
