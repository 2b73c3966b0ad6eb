"""Streams or frames behind one another, unpacked in order by what libraries have for a single one."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.packing.stream import as_file

PIECE = 256 << 10                       # bytes at once, packed and unpacked: larger ones cost the system fresh pages


class One(Protocol):
    """Unpacks one of them, as `lzma` and `zstd` do."""

    @property
    def eof(self) -> bool:
        """Whether it is at its end."""

    @property
    def needs_input(self) -> bool:
        """Whether there is nothing left to unpack of what it was given."""

    @property
    def unused_data(self) -> bytes:
        """What was given behind its end."""

    def decompress(self, data: bytes, max_length: int) -> bytes:
        """At most so many bytes more."""


class Chained(io.RawIOBase):
    """All of them from a place in the file to its end; see Unpacking.

    Args:
        file: the packed bytes.
        at: byte at which the first one begins.
        one: makes what unpacks one.
        padding: bytes that may stand between them.
    """

    def __init__(self, file: Blocks, at: int, one: Callable[[], One], padding: bytes = b"") -> None:
        super().__init__()
        self._file, self._make, self._padding = as_file(file, at), one, padding
        self._one: One | None = None

    def readinto(self, buffer: memoryview, /) -> int:  # type: ignore[override]
        """See Unpacking. Raises EOFError where one is cut."""
        while True:
            packed = b""
            if self._one is None or self._one.eof:
                packed = self._next(self._one.unused_data if self._one else b"")
                if not packed:
                    return 0
                self._one = self._make()
            elif self._one.needs_input:
                packed = self._file.read(PIECE)
                if not packed:
                    raise EOFError
            if data := self._one.decompress(packed, min(PIECE, len(buffer))):
                buffer[:len(data)] = data
                return len(data)

    def _next(self, rest: bytes) -> bytes:
        """The beginning of the next one, without what stands in front of it."""
        while not (rest := rest.lstrip(self._padding) if self._padding else rest):
            if not (rest := self._file.read(PIECE)):
                return b""
        return rest
