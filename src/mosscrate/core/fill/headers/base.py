"""What a recogniser is given and what it gives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TypeAlias

FRONT = 512


@dataclass(frozen=True)
class Reading:
    """What a header says.

    Attributes:
        system: short code; "" for nothing.
        sure: 3 a checksum or sizes agree, 2 magic and fields, 1 needs the ending beside it.
        reason: in words.
        saves: bytes that a save may have; empty where the header does not say, (0,) where nothing is saved.
        endings: that usually go with it.
    """

    system: str
    sure: int
    reason: str = ""
    saves: tuple[int, ...] = ()
    endings: tuple[str, ...] = ()


NOTHING = Reading("", 0)


@dataclass
class Front:
    """A file as recognisers read it; what lies outside reads as zeros. `pieces` and `taken` bytes were read so far."""

    size: int
    read: Callable[[int, int], bytes]
    ending: str = ""
    pieces: int = 0
    taken: int = 0
    _held: dict[tuple[int, int], bytes] = field(default_factory=dict)

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`, also from outside."""
        if offset >= 0 and offset + count <= FRONT:
            return self._piece(0, FRONT)[offset:offset + count]
        return self._piece(offset, count)

    def has(self, offset: int, magic: bytes) -> bool:
        """Whether some bytes stand there."""
        return self.at(offset, len(magic)) == magic

    def little(self, offset: int, count: int = 2) -> int:
        """A number, least significant byte first."""
        return int.from_bytes(self.at(offset, count), "little")

    def big(self, offset: int, count: int = 2) -> int:
        """A number, most significant byte first."""
        return int.from_bytes(self.at(offset, count), "big")

    def _piece(self, offset: int, count: int) -> bytes:
        key = (offset, count)
        if key not in self._held:
            inside = max(0, min(count, self.size - offset)) if offset >= 0 else 0
            data = self.read(offset, inside) if inside else b""
            self.pieces += bool(inside)
            self.taken += len(data)
            self._held[key] = data.ljust(count, b"\0")
        return self._held[key]


Look: TypeAlias = Callable[[Front], Reading | None]


@dataclass(frozen=True)
class Recogniser:
    """One layout: the endings that it is asked first for, the look itself, and whether every good file has it."""

    endings: tuple[str, ...]
    look: Look
    is_firm: bool = True
