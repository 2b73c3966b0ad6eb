"""A disk inside a file of its own format: read like any other, never written here."""

from __future__ import annotations

from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.base import Buffer
from mosscrate.core.errors import MediumError


class ContainedDisk(Blocks):
    """Blocks that are computed from a file that holds them in another order.

    Attributes:
        file: what holds them; it is closed with the disk.
        kind: the format, as people write it.
        lack: what is missing of the file, in words that follow its name; "" for nothing.
    """

    kind = ""
    lack = ""

    def __init__(self, file: Blocks, size: int) -> None:
        super().__init__(size, name=file.name)
        self.file = file
        self.container = self.kind.lower()

    def confirm(self) -> None:
        """See Blocks."""
        self.file.confirm()

    def drop_cache(self) -> None:
        """See Blocks."""
        self.file.drop_cache()

    def close(self) -> None:
        """See Blocks."""
        self.file.close()

    def _write(self, offset: int, data: Buffer) -> None:
        raise MediumError(unchanged(self.name, self.kind), offset)


class DiskInPieces(ContainedDisk):
    """One that stands in pieces of the same size, in any order or not at all; `piece` has their bytes."""

    piece: int

    def _read(self, offset: int, length: int) -> bytes:
        number, at = divmod(offset, self.piece)
        whole = self._at_hand(number, at, length) if at + length <= self.piece else None
        return super()._read(offset, length) if whole is None else whole

    def _at_hand(self, number: int, at: int, length: int) -> bytes | None:
        """Bytes within one piece, where they can be had without a copy; None where not. Raises MediumError."""
        return None

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        done = 0
        while done < len(buffer):
            number, at = divmod(offset + done, self.piece)
            count = min(self.piece - at, len(buffer) - done)
            self._read_piece(number, at, buffer[done:done + count])
            done += count

    def _read_piece(self, number: int, at: int, into: memoryview) -> None:
        """Fill `into` from byte `at` of a piece on. Raises MediumError."""
        raise NotImplementedError


class ContainerFormat(Protocol):
    """One format for files that hold a disk."""

    def begins(self, first: bytes) -> bool:
        """Whether a file that begins like this is of it, wherever it ends."""

    def probe(self, file: Blocks) -> bool:
        """Whether a file is of it. Raises MediumError."""

    def open(self, file: Blocks) -> ContainedDisk:
        """The disk in it. Raises FormatError, MediumError."""


def unchanged(name: str, kind: str) -> str:
    """Why a contained disk is not written."""
    return (f"{name} is a disk in a file ({kind}): it is read here and not changed. Convert it to a raw image to "
            "change that one. Nothing was written.")
