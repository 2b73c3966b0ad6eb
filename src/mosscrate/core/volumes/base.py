"""What every opened file system can tell, whatever its kind."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from mosscrate.core.blocks import Extent
from mosscrate.core.findings import Finding


class Kind(StrEnum):
    """What a directory entry stands for."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of a tree. `path` is relative to the root with `/` between.

    Attributes:
        size: bytes; 0 for folders.
        modified: seconds since 1970, None where the volume does not say.
        node: where the volume finds it again (a first cluster, an inode).
        target: of a link.
        is_hidden: by attribute or by the habits of its file system.
    """

    path: str
    kind: Kind
    size: int
    modified: int | None
    node: int
    target: str | None = None
    is_hidden: bool = False

    @property
    def name(self) -> str:
        """The last part of the path."""
        return self.path.rpartition("/")[2]


@dataclass(frozen=True)
class Tree:
    """Every entry of a volume, folders before what they hold, and what was wrong on the way."""

    entries: tuple[Entry, ...]
    findings: tuple[Finding, ...] = ()

    def find(self, path: str) -> Entry | None:
        """The entry at a path, ignoring case where nothing matches exactly."""
        wanted = path.strip("/")
        exact = next((e for e in self.entries if e.path == wanted), None)
        return exact or next((e for e in self.entries if e.path.lower() == wanted.lower()), None)


class Volume(Protocol):
    """An opened file system; all sizes in bytes."""

    @property
    def kind(self) -> str:
        """Short name: fat12, fat16, fat32."""

    @property
    def label(self) -> str:
        """As the volume itself says; "" for none."""

    @property
    def id(self) -> str:
        """Serial number or UUID."""

    @property
    def block(self) -> int:
        """Allocation unit."""

    @property
    def size(self) -> int:
        """Of the file system, which may be less than its partition."""

    @property
    def free(self) -> int:
        """Bytes in free allocation units."""

    @property
    def is_clean(self) -> bool:
        """Whether it was put away properly."""

    def tree(self) -> Tree:
        """Every file and folder."""

    def read_file(self, entry: Entry) -> Iterator[bytes]:
        """The bytes of a file in pieces. Raises FormatError, MediumError."""

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where a file lies, in bytes from the start of the volume. Raises FormatError."""

    def used_extents(self) -> tuple[Extent, ...]:
        """Every stretch that holds something, metadata included."""

    def largest(self) -> tuple[int, str]:
        """Bytes that it can be grown to in place, and why not further; 0 where it cannot grow."""

    def check(self) -> tuple[Finding, ...]:
        """Everything wrong with the structure; empty for a sound volume."""
