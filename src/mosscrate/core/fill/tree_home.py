"""Folders that are filled like a card, where there is no volume to write: of this computer, or of a device."""

from __future__ import annotations

import os
import platform
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Protocol

from mosscrate.core.errors import MediumError
from mosscrate.core.volumes import Entry, Facts, Kind, facts_for

PIECE = 1 << 20
PART = ".moss-part"                      # behind the name of a file that is under way, of the computer and the process
LONGEST = 60                             # letters of a name that stand in that of its part
BLOCK = 4096
_HERE = platform.node().partition(".")[0][:30] or "here"
MOUNTS = Path("/proc/self/mountinfo")
KINDS = {"vfat": "fat32", "msdos": "fat32", "exfat": "exfat", "fuseblk": "exfat", "ntfs3": "exfat"}


class TreeHome(Protocol):
    """A folder that takes files. Everything raises MediumError where it does not answer."""

    name: str
    facts: Facts                         # what names may be, and how they are compared

    def begin(self) -> None:
        """Before the first file: what a filling that was killed has left of its files goes."""

    def entries(self) -> list[Entry]:
        """Everything in it, folders before what they hold."""

    def free(self) -> int:
        """Bytes; a large number where it does not say."""

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """Bytes of a file, fewer at its end."""

    def put(self, path: str, pieces: Iterator[bytes], modified: int | None, *,
            old: tuple[str, str] | None = None) -> None:
        """Write a file that is not there yet; folders above it are made.

        `old` is the path of what has its name, and the one that it gets once the new file is whole.
        """

    def rename(self, path: str, new: str) -> None:
        """Give a file another place; folders above it are made. Nothing may be there."""


def read_file(home: TreeHome, entry: Entry) -> Iterator[bytes]:
    """The bytes of a file in pieces."""
    for at in range(0, entry.size, PIECE):
        yield home.read_at(entry, at, min(PIECE, entry.size - at))


class FolderHome:
    """A folder of this computer, which may be a mounted card."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.name = folder, str(folder)
        self.facts = facts_for(_kind_of(folder))

    def begin(self) -> None:
        """See TreeHome; parts of a filling that is at work stay."""
        for part in self.folder.rglob(f"*{PART}"):
            if is_left_over(part.name):
                with suppress(OSError):
                    part.unlink()

    def entries(self) -> list[Entry]:
        """See TreeHome; links are passed over."""
        found = list[Entry]()
        for base, folders, names in os.walk(self.folder):
            folders[:] = sorted(name for name in folders if not os.path.islink(os.path.join(base, name)))
            inner = Path(base).relative_to(self.folder)
            found += [Entry(str(inner / name), Kind.FOLDER, 0, None, 0) for name in folders]
            for name in sorted(names):
                path = Path(base, name)
                if path.is_file() and not path.is_symlink() and not name.endswith(PART):
                    status = path.stat()
                    found.append(Entry(str(inner / name), Kind.FILE, status.st_size, int(status.st_mtime),
                                       status.st_ino))
        return found

    def free(self) -> int:
        """See TreeHome."""
        about = os.statvfs(self.folder)
        return about.f_bavail * about.f_frsize

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """See TreeHome."""
        try:
            with (self.folder / entry.path).open("rb", buffering=0) as file:
                file.seek(at)
                return file.read(count) or b""
        except OSError as error:
            raise _failed(self.folder / entry.path, "read", error) from error

    def put(self, path: str, pieces: Iterator[bytes], modified: int | None, *,
            old: tuple[str, str] | None = None) -> None:
        """See TreeHome: written beside its place, brought to the disk, then renamed."""
        target = self._inside(path)
        part = target.with_name(part_of(target.name))
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            with part.open("wb") as file:
                file.writelines(pieces)
                file.flush()
                os.fsync(file.fileno())
            if modified is not None:
                os.utime(part, (modified, modified))
            if old is not None:
                self._take(self._inside(old[0]), self._inside(old[1]))
            self._take(part, target)
        except OSError as error:
            part.unlink(missing_ok=True)
            raise _failed(target, "written", error) from error
        except BaseException:
            part.unlink(missing_ok=True)
            raise

    def rename(self, path: str, new: str) -> None:
        """See TreeHome."""
        try:
            self._inside(new).parent.mkdir(parents=True, exist_ok=True)
            self._take(self._inside(path), self._inside(new))
        except OSError as error:
            raise _failed(self.folder / path, "renamed", error) from error

    def _take(self, old: Path, new: Path) -> None:
        """Rename; never over something that has come meanwhile."""
        is_same_file = new.exists() and old.exists() and new.samefile(old)      # of case alone
        if new.exists() and not is_same_file:
            raise FileExistsError(17, "something is there already")
        old.rename(new)

    def _inside(self, path: str) -> Path:
        """Where a path is on the disk, unless a link on the way leads out of the folder. Raises MediumError."""
        target = self.folder / path
        if not target.parent.resolve().is_relative_to(self.folder.resolve()):
            raise MediumError(f"“{path}” leads out of {self.folder} over a link. Nothing was written there.")
        return target


def part_of(name: str) -> str:
    """What a file is called while this program writes it."""
    return f".{name[:LONGEST]}.{_HERE}.{os.getpid()}{PART}"


def is_left_over(name: str) -> bool:
    """Whether a file is a part that a program of this computer has left, which is no more."""
    front, _, number = name.removesuffix(PART).rpartition(".")
    return name.endswith(PART) and front.endswith(f".{_HERE}") and number.isdecimal() and not _is_alive(int(number))


def _is_alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def _kind_of(folder: Path) -> str:
    """The kind of file system by whose rules names are made: that of the mount, or one of this computer's own."""
    best, kind, real = 0, "", str(folder.resolve())
    try:
        lines = MOUNTS.read_text("utf-8", "replace").splitlines()
    except OSError:
        lines = []
    for line in lines:
        front, _, behind = line.partition(" - ")
        place = front.split()[4].replace("\\040", " ") if len(front.split()) > 4 else ""
        if (real == place or real.startswith(place.rstrip("/") + "/")) and len(place) >= best:
            best, kind = len(place), behind.split()[0] if behind.split() else ""
    return KINDS.get(kind, "ext4")


def _failed(path: Path, what: str, error: OSError) -> MediumError:
    return MediumError(f"{path} cannot be {what}: {error.strerror}. What was there is untouched.")


