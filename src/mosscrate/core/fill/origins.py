"""Where the bytes of a file are that is brought in: in a folder, in an archive, or on another card or backup."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import ClassVar, Protocol

from mosscrate.core.contents.members import Member
from mosscrate.core.errors import MediumError
from mosscrate.core.volumes import Entry, Volume

PIECE = 1 << 20
FRONT = 64 << 10                         # bytes of a packed file that are unpacked for its header
ReadAt = Callable[[int, int], bytes]


class Origin(Protocol):
    """A file's bytes."""

    @property
    def said(self) -> str:
        """As a sheet says it."""

    @property
    def home(self) -> int | None:
        """The partition of the other card on which it lies; None for files of this computer."""

    @property
    def reads_anywhere(self) -> bool:
        """Whether any place of it is read at once."""

    def opened(self) -> AbstractContextManager[ReadAt]:
        """A context with (at, count) → bytes, fewer at the end. Raises MediumError."""

    def read(self) -> Iterator[bytes]:
        """All of it in pieces. Raises MediumError, FormatError."""


@dataclass(frozen=True)
class LocalFile:
    """A file of this computer."""

    path: Path
    home: None = None
    reads_anywhere: ClassVar[bool] = True

    @property
    def said(self) -> str:
        """See Origin."""
        return str(self.path)

    @contextmanager
    def opened(self) -> Iterator[ReadAt]:
        """See Origin."""
        try:
            with self.path.open("rb", buffering=0) as file:
                def read(at: int, count: int) -> bytes:
                    file.seek(at)
                    return file.read(count) or b""

                yield read
        except OSError as error:
            raise MediumError(f"{self.path} cannot be read: {error.strerror}") from error

    def read(self) -> Iterator[bytes]:
        """See Origin."""
        try:
            with self.path.open("rb") as file:
                yield from iter(partial(file.read, PIECE), b"")
        except OSError as error:
            raise MediumError(f"{self.path} cannot be read: {error.strerror}") from error


@dataclass(frozen=True)
class Packed:
    """A file in an archive of this computer."""

    member: Member
    home: None = None
    reads_anywhere: ClassVar[bool] = False

    @property
    def said(self) -> str:
        """See Origin."""
        return self.member.path

    @contextmanager
    def opened(self) -> Iterator[ReadAt]:
        """See Origin: what lies behind its first stretch is not unpacked for it."""
        front = self.member.first(min(FRONT, self.member.size))
        yield lambda at, count: front[at:at + count]

    def read(self) -> Iterator[bytes]:
        """See Origin."""
        return self.member.read()


class Readable(Protocol):
    """What has files that can be read by their entries: a volume, or a tree that is filled."""

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """Bytes of a file, fewer at its end."""

    def read_file(self, entry: Entry) -> Iterable[bytes]:
        """All of it in pieces."""


@dataclass(frozen=True)
class OfEntry:
    """A file that is read by its entry."""

    volume: Readable
    entry: Entry
    home: int | None
    reads_anywhere: ClassVar[bool] = True

    @property
    def said(self) -> str:
        """See Origin."""
        return self.entry.path

    @contextmanager
    def opened(self) -> Iterator[ReadAt]:
        """See Origin."""
        yield partial(self.volume.read_at, self.entry)

    def read(self) -> Iterator[bytes]:
        """See Origin."""
        return iter(self.volume.read_file(self.entry))


@dataclass(frozen=True)
class OnCard(OfEntry):
    """A file on a volume of another card that is open while things are planned."""

    volume: Volume
    home: int


@dataclass(frozen=True)
class InTree(OfEntry):
    """A file of what is filled itself."""

    home: None = None
