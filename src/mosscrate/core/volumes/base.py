"""What every opened file system can tell, whatever its kind."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps.geometry import Geometry

HIDDEN = 2
DOS_ATTRIBUTES = 0x27
Data: TypeAlias = bytes | Iterable[bytes]


class Kind(StrEnum):
    """What a directory entry stands for."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    SPECIAL = "special"                     # a pipe, a socket or a device: nothing that has contents


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of a tree. `path` is relative to the root with `/` between.

    Attributes:
        size: bytes; 0 for folders.
        modified: seconds since 1970, None where the volume does not say.
        node: where the volume finds it again (a first cluster, an inode).
        target: of a link.
        is_hidden: by attribute or by the habits of its file system.
        mode: permission bits, owner: (user, group); None where the file system has none.
        attributes: DOS attribute bits; None where the file system has none.
        protection, comment: of OFS and FFS.
        resource: bytes of the resource fork, which HFS keeps beside the file.
    """

    path: str
    kind: Kind
    size: int
    modified: int | None
    node: int
    target: str | None = None
    is_hidden: bool = False
    mode: int | None = None
    owner: tuple[int, int] | None = None
    attributes: int | None = None
    protection: int | None = None
    comment: str = ""
    resource: int = 0

    @property
    def traits(self) -> Traits:
        """What a copy of it should be given."""
        return Traits(self.modified, self.is_hidden, self.mode, self.owner, self.attributes, self.protection,
                      self.comment)

    @property
    def name(self) -> str:
        """The last part of the path."""
        return self.path.rpartition("/")[2]


@dataclass(frozen=True, slots=True)
class Traits:
    """What a new entry is given beside its name; None leaves it to the file system.

    Attributes:
        modified: seconds since 1970.
        mode: permission bits; owner: (user, group), inherited from the folder when None.
        attributes: DOS attribute bits (read-only 1, hidden 2, system 4, archive 32).
        protection, comment: of OFS and FFS; other kinds do not hold them.
    """

    modified: int | None = None
    is_hidden: bool = False
    mode: int | None = None
    owner: tuple[int, int] | None = None
    attributes: int | None = None
    protection: int | None = None
    comment: str = ""

    def dos_attributes(self, usual: int) -> int:
        """The attribute bits for a new entry: those given, else what is usual for its kind."""
        own = usual if self.attributes is None else self.attributes & DOS_ATTRIBUTES
        return own | (HIDDEN if self.is_hidden else 0)


PLAIN = Traits()


@dataclass(frozen=True, slots=True)
class Retraits:
    """What is changed of an entry that is there; None leaves it.

    Attributes:
        modified: seconds since 1970.
        protection, comment: of OFS and FFS.
    """

    modified: int | None = None
    protection: int | None = None
    comment: str | None = None


@dataclass(frozen=True)
class Seat:
    """Where a partition lies: its first sector, and how a BIOS counts the drive; None where no map says that."""

    first_sector: int = 0
    geometry: Geometry | None = None


BARE = Seat()


@dataclass(frozen=True)
class Making:
    """How a fresh volume is made.

    Attributes:
        kind: fat12, fat16, fat32, exfat, ext2, ext3, ext4.
        label: "" for none.
        block: bytes of an allocation unit; None takes what the size asks for.
        id: serial number or UUID in the way that the kind writes it; "" for a fresh one.
        seat: of the partition, for kinds that note it.
        made: seconds since 1970, noted by kinds that do; None is now.
        boot: the first bytes of a volume of this kind whose boot code is to be kept; b"" for none.
    """

    kind: str
    label: str = ""
    block: int | None = None
    id: str = ""
    seat: Seat = BARE
    made: int | None = None
    boot: bytes = b""


@dataclass(frozen=True)
class Resized:
    """What a volume has become: bytes, and the limit that stopped it short of what was asked."""

    size: int
    limit: str = ""


@dataclass(frozen=True)
class Tree:
    """Every entry of a volume, folders before what they hold.

    Attributes:
        entries: all that could be reached.
        findings: one for each folder that could not be read, a problem, or not in full, a warning; `where` is its path.
    """

    entries: tuple[Entry, ...]
    findings: tuple[Finding, ...] = ()

    def find(self, path: str) -> Entry | None:
        """The entry at a path, ignoring case where nothing matches exactly."""
        wanted = path.strip("/")
        return self._by_path.get(wanted) or self._by_folded_path.get(wanted.lower())

    def unread(self, path: str = "") -> tuple[Finding, ...]:
        """Findings about folders at or below a path; of one that is not there, about the folder in which it may be."""
        wanted = path.strip("/")
        is_there = not wanted or self.find(wanted) is not None
        return tuple(f for f in self.findings if _is_within(f.where.casefold(), wanted.casefold())) if is_there else \
            self._about(self._closest(wanted))

    def hides(self, path: str) -> bool:
        """Whether a path that is not there may be there all the same, in a folder that could not be read in full."""
        return bool(self._about(self._closest(path)))

    def _closest(self, path: str) -> str:
        """The last folder on the way to a path that is there; "" for the root."""
        above = path.rpartition("/")[0]
        while above and (found := self.find(above)) is None:
            above = above.rpartition("/")[0]
        return found.path if above and found is not None else ""

    def _about(self, folder: str) -> tuple[Finding, ...]:
        return tuple(finding for finding in self.findings if finding.where == folder)

    @cached_property
    def _by_path(self) -> dict[str, Entry]:
        return {e.path: e for e in reversed(self.entries)}

    @cached_property
    def _by_folded_path(self) -> dict[str, Entry]:
        return {e.path.lower(): e for e in reversed(self.entries)}


def unread_folder(path: str, error: Exception, *, is_shown: bool) -> Finding:
    """What is told of a folder that cannot be read; `is_shown` where a part of it was."""
    how, beside = (" in full", "What could be read is shown.") if is_shown else \
        ("", "What lies beside it is shown and intact.")
    return Finding(Severity.PROBLEM, f"The folder “{path or '/'}” cannot be read{how}: {error}", path, remedy=beside)


def _is_within(path: str, folder: str) -> bool:
    return not folder or f"{path}/".startswith(f"{folder}/")


class Volume(Protocol):
    """An opened file system; all sizes in bytes."""

    @property
    def kind(self) -> str:
        """Short name: fat12, fat16, fat32."""

    @property
    def variant(self) -> str:
        """The kind that makes a volume like this one: gemdos, ffs-intl; most often its kind."""

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

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """`count` bytes of a file from byte `at` on, fewer at its end. Raises FormatError, MediumError."""

    def pieces_of(self, entry: Entry) -> NDArray[np.void]:
        """Where the bytes of a file lie, as rows of `pieces.PIECE`; what none covers is zeros. Raises FormatError."""

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where a file lies, in bytes from the start of the volume. Raises FormatError."""

    def used_extents(self) -> tuple[Extent, ...]:
        """Every stretch that holds something, metadata included."""

    def why_not(self, name: str) -> str:
        """Why a name cannot stand on this volume; "" when it can."""


class Editor(Protocol):
    """Changes one volume. File data goes to free room at once, everything else with `commit`.

    Paths have `/` between and no leading one; their folder must be there. Every method raises FitError
    where the volume cannot take it, and then nothing of that call has been noted.
    """

    def has(self, path: str) -> bool:
        """Whether something of that name is there, as this file system compares names."""

    def add_folder(self, path: str, traits: Traits = PLAIN) -> None:
        """Make a folder; one that is there already stays."""

    def add_file(self, path: str, data: Data, traits: Traits = PLAIN, *, size: int | None = None) -> None:
        """Write a new file. `size` is needed with pieces; it may go beyond the data, then zeros follow."""

    def add_link(self, path: str, target: str, traits: Traits = PLAIN) -> None:
        """Make a symbolic link, where the file system has them."""

    def remove(self, path: str) -> None:
        """Remove a file, or a folder with all that is in it."""

    def rename(self, path: str, new: str) -> None:
        """Give something another name or another folder; nothing of that name may be there."""

    def relabel(self, label: str) -> None:
        """Set the volume's label."""

    def commit(self) -> None:
        """Write everything that is held. Raises MediumError."""
