"""The folder of a state: a folder for each job, in it its journal and its record. Names are synced like contents."""

from __future__ import annotations

import errno
import os
import shutil
import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Protocol

from mosscrate.core.blocks.file import punch
from mosscrate.core.durable import sync_folder, write_whole
from mosscrate.core.errors import JobError
from mosscrate.core.sizes import binary

JOURNAL, RECORD, PART = "journal", "job.json", ".part"
YOUNG = 3600                           # seconds
AT_ONCE = 512                          # parts that one call takes, below the system's IOV_MAX


First = Callable[[int], Iterable[tuple[int, bytes]]]


class StoredFile(Protocol):
    """A file of fixed size whose writes are only certain once they are synced."""

    @property
    def size(self) -> int:
        """Bytes."""

    @property
    def inode(self) -> int:
        """By which a copy of the file is told from it."""

    def read(self, at: int, length: int) -> bytes:
        """What stands there; shorter at the end of the file."""

    def write(self, at: int, data: bytes | memoryview) -> None:
        """Raises JobError where the disk does not take it."""

    def write_parts(self, at: int, parts: Sequence[bytes | memoryview]) -> None:
        """Write one behind the other. Raises JobError."""

    def sync(self) -> None:
        """Return when everything written is on the disk itself."""

    def release(self, at: int, length: int) -> None:
        """Give room back that will not be needed; the file keeps its size."""

    def close(self) -> None:
        """Let go of it."""


class Folder(Protocol):
    """Files of jobs by job and name."""

    def jobs(self) -> list[str]:
        """Names of all jobs, the oldest first."""

    def claim(self, job: str) -> bool:
        """Make the folder of a new job, its name synced; whether it was free. Raises JobError."""

    def has(self, job: str, name: str) -> bool:
        """Whether there is such a file."""

    def create(self, job: str, name: str, size: int, first: First | None = None) -> StoredFile:
        """A new file with real room for all of it. Raises JobError, and then it is not there.

        `first` gives, by the number of the file, what stands in it before it has its name: places and bytes. All of it
        is certain then.
        """

    def open(self, job: str, name: str) -> StoredFile:
        """A file that is there. Raises JobError."""

    def read(self, job: str, name: str) -> bytes:
        """All of a small file. Raises JobError."""

    def replace(self, job: str, name: str, data: bytes) -> None:
        """Put a small file into its place whole, and sync its name. Raises JobError, then the old one stands."""

    def remove(self, job: str, name: str) -> None:
        """Remove a file where it is there, and sync that."""

    def sync(self, job: str) -> None:
        """Sync what a killed process may have left in memory: journal, record, names. Raises JobError."""


class DiskFile:
    """A file of the state folder."""

    def __init__(self, path: Path, fd: int) -> None:
        self.path, self._fd = path, fd
        status = os.fstat(fd)
        self.size, self.inode = status.st_size, status.st_ino

    def read(self, at: int, length: int) -> bytes:
        """See StoredFile. Raises JobError."""
        try:
            return os.pread(self._fd, length, at)
        except OSError as error:
            raise _error(self.path, "read", error) from error

    def write(self, at: int, data: bytes | memoryview) -> None:
        """See StoredFile."""
        view = memoryview(data)
        try:
            while len(view):
                count = os.pwrite(self._fd, view, at)
                view, at = view[count:], at + count
        except OSError as error:
            raise _error(self.path, "written", error) from error

    def write_parts(self, at: int, parts: Sequence[bytes | memoryview]) -> None:
        """See StoredFile."""
        try:
            for first in range(0, len(parts), AT_ONCE):
                some = parts[first:first + AT_ONCE]
                wanted = sum(len(part) for part in some)
                count = os.pwritev(self._fd, some, at)
                if count < wanted:                           # what was cut off, as one piece
                    self.write(at + count, memoryview(b"".join(some))[count:])
                at += wanted
        except OSError as error:
            raise _error(self.path, "written", error) from error

    def sync(self) -> None:
        """See StoredFile."""
        try:
            os.fsync(self._fd)
        except OSError as error:
            raise _error(self.path, "written", error) from error

    def release(self, at: int, length: int) -> None:
        """See StoredFile; where the disk cannot do it, the room stays taken."""
        if length > 0:
            punch(self._fd, at, length)

    def close(self) -> None:
        """See StoredFile."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def __del__(self) -> None:
        self.close()


class DiskFolder:
    """The jobs below a state folder."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def jobs(self) -> list[str]:
        """See Folder."""
        return sorted(path.name for path in self.root.glob("*/"))

    def claim(self, job: str) -> bool:
        """See Folder."""
        try:
            self.root.mkdir(parents=True, exist_ok=True)
            (self.root / job).mkdir()
            for each in (self.root.parent, self.root):
                sync_folder(each)
        except FileExistsError:
            return False
        except OSError as error:
            raise _error(self.root / job, "made", error) from error
        return True

    def sweep(self) -> None:
        """Remove folders of jobs that were killed before they had a record; a young one may just be getting its own."""
        for folder in self.root.glob("*/"):
            with suppress(OSError):
                if not (folder / RECORD).exists() and time.time() - folder.stat().st_mtime > YOUNG:
                    shutil.rmtree(folder)

    def has(self, job: str, name: str) -> bool:
        """See Folder."""
        return (self.root / job / name).exists()

    def create(self, job: str, name: str, size: int, first: First | None = None) -> DiskFile:
        """See Folder."""
        path = self.root / job / name
        part = path.with_name(name + PART)
        try:
            part.unlink(missing_ok=True)                 # of a process that was killed
            fd = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            file = None
            try:
                os.posix_fallocate(fd, 0, size)
                file = DiskFile(path, fd)
                for at, data in first(file.inode) if first else ():
                    file.write(at, data)
                os.fsync(fd)
                part.rename(path)
                self._sync_names(job)
            except (OSError, JobError):
                if file is None:
                    os.close(fd)
                else:
                    file.close()
                part.unlink(missing_ok=True)
                raise
        except OSError as error:
            need = f" {binary(size)} are needed for what may have to be put back." * (error.errno == errno.ENOSPC)
            raise _error(path, "made", error, need) from error
        return file

    def open(self, job: str, name: str) -> DiskFile:
        """See Folder."""
        path = self.root / job / name
        try:
            return DiskFile(path, os.open(path, os.O_RDWR | os.O_CLOEXEC))
        except OSError as error:
            raise _error(path, "opened", error) from error

    def read(self, job: str, name: str) -> bytes:
        """See Folder."""
        path = self.root / job / name
        try:
            return path.read_bytes()
        except OSError as error:
            raise _error(path, "read", error) from error

    def replace(self, job: str, name: str, data: bytes) -> None:
        """See Folder."""
        path = self.root / job / name
        part = path.with_name(name + PART)
        try:
            write_whole(path, data)
        except OSError as error:
            with suppress(OSError):
                part.unlink(missing_ok=True)
            raise _error(path, "written", error) from error

    def remove(self, job: str, name: str) -> None:
        """See Folder."""
        if not self.has(job, name):
            return
        try:
            (self.root / job / name).unlink(missing_ok=True)
            self._sync_names(job)
        except OSError as error:
            raise _error(self.root / job / name, "removed", error) from error

    def sync(self, job: str) -> None:
        """See Folder."""
        try:
            for name in (JOURNAL, RECORD):
                if self.has(job, name):
                    fd = os.open(self.root / job / name, os.O_RDONLY | os.O_CLOEXEC)
                    try:
                        os.fsync(fd)
                    finally:
                        os.close(fd)
            self._sync_names(job)
        except PermissionError:
            return                                       # what may not be read is not relied on either
        except OSError as error:
            raise _error(self.root / job, "synced", error) from error

    def _sync_names(self, job: str) -> None:
        folder = self.root / job
        if folder.is_dir():
            sync_folder(folder)


def _error(path: Path, what: str, error: OSError, more: str = "") -> JobError:
    reason = {errno.ENOSPC: "the disk is full", errno.EDQUOT: "your share of the disk is full",
              errno.EROFS: "the disk is write-protected", errno.ENOENT: "it is not there",
              errno.EACCES: "you are not allowed to"}.get(error.errno or 0, os.strerror(error.errno or 0))
    return JobError(f"{path} cannot be {what}: {reason}.{more}")
