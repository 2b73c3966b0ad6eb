"""Where the header of a file, folder or link keeps its name, comment and date: two layouts.

Up to DosType DOS\\5 a name of 30 characters stands behind a comment of 79. DOS\\6 and DOS\\7 keep both, one
behind the other, in 112 bytes, and put a comment that does not fit there into a block of its own.
Source: the published description of the Fast File System with long names ("NameAndComment", T_COMMENT).
The name of the volume itself stands in the root as it always did.
"""

from __future__ import annotations

from typing import Protocol

import numpy as np

from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.structures import Longs

NAME_AND_COMMENT, NAME_AND_COMMENT_ROOM, COMMENT_BLOCK = -46, 112, -18
LONG_STAMP = -15


class Fields(Protocol):
    """One of the layouts."""

    most: int                          # characters of a name
    stamp: int                         # where days, minutes and ticks stand, in longs from the end

    def name(self, header: Longs) -> str:
        """The name in a header."""

    def comment(self, header: Longs) -> str:
        """The comment in a header; "" where a block of its own has it."""

    def comment_block(self, header: Longs) -> int:
        """The block that holds the comment; 0 where none does."""

    def needs_block(self, name: str, comment: str) -> bool:
        """Whether a comment has no room beside its name."""

    def put(self, header: Longs, name: str, comment: str, block: int = 0) -> None:
        """Set name and comment; `block` is the one that has been given to a comment without room."""


class ShortNames:
    """DOS\\0 to DOS\\5."""

    most, stamp = s.MAX_NAME, s.DAYS

    def name(self, header: Longs) -> str:
        """See Fields."""
        return s.text_at(header.tobytes(), s.NAME, s.MAX_NAME)

    def comment(self, header: Longs) -> str:
        """See Fields."""
        return s.text_at(header.tobytes(), s.COMMENT, s.MAX_COMMENT)

    def comment_block(self, header: Longs) -> int:
        """See Fields."""
        return 0

    def needs_block(self, name: str, comment: str) -> bool:
        """See Fields."""
        return False

    def put(self, header: Longs, name: str, comment: str, block: int = 0) -> None:
        """See Fields."""
        s.put_text(header, s.COMMENT, comment, s.MAX_COMMENT + 1)
        s.put_text(header, s.NAME, name, 32)


class LongNames:
    """DOS\\6 and DOS\\7."""

    most, stamp = s.MAX_LONG_NAME, LONG_STAMP

    def name(self, header: Longs) -> str:
        """See Fields."""
        return s.text_at(header.tobytes(), NAME_AND_COMMENT, self.most)

    def comment(self, header: Longs) -> str:
        """See Fields."""
        raw = self._room(header)
        at = min(raw[0], self.most) + 1
        return raw[at + 1:at + 1 + min(raw[at], s.MAX_COMMENT)].decode("latin-1")

    def comment_block(self, header: Longs) -> int:
        """See Fields."""
        return int(header[COMMENT_BLOCK])

    def needs_block(self, name: str, comment: str) -> bool:
        """See Fields."""
        return bool(comment) and len(name) + len(comment) + 2 > NAME_AND_COMMENT_ROOM

    def put(self, header: Longs, name: str, comment: str, block: int = 0) -> None:
        """See Fields."""
        raw = name.encode("latin-1")
        beside = b"" if block else comment.encode("latin-1", "replace")
        text = bytes((len(raw),)) + raw + bytes((len(beside),)) + beside
        at = 4 * (len(header) + NAME_AND_COMMENT)
        header.view(np.uint8)[at:at + NAME_AND_COMMENT_ROOM] = np.frombuffer(
            text.ljust(NAME_AND_COMMENT_ROOM, b"\0"), np.uint8)
        header[COMMENT_BLOCK] = block

    def _room(self, header: Longs) -> bytes:
        at = 4 * (len(header) + NAME_AND_COMMENT)
        return header.tobytes()[at:at + NAME_AND_COMMENT_ROOM]


def fields_of(variant: int) -> Fields:
    """The layout of a DosType's last byte."""
    return LongNames() if variant >= s.LONG_NAMES_FROM else ShortNames()


def comment_block(number: int, header: int, comment: str, size: int) -> bytes:
    """A block of `size` bytes that holds nothing but the comment of a header."""
    longs = np.zeros(size // 4, ">u4")
    longs[s.TYPE], longs[s.OWN_KEY], longs[s.HIGH_SEQ] = s.T_COMMENT, number, header
    raw = comment.encode("latin-1", "replace")[:s.MAX_COMMENT]
    longs.view(np.uint8)[4 * s.TABLE:4 * s.TABLE + 1 + len(raw)] = np.frombuffer(bytes((len(raw),)) + raw, np.uint8)
    return s.seal(longs)
