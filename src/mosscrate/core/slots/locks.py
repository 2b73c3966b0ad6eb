"""One writer for a storage: locks that every process of this computer asks for, and that end with their process.

A lock file stands for each member of a storage, in a folder that all users share; image files are locked besides, which
works through links and on network folders too. Source: flock(2); sysctl fs.protected_regular explains why a file is
opened without O_CREAT first. Other computers that use a network folder are not seen.
"""

from __future__ import annotations

import errno
import fcntl
import os
import time
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from mosscrate.core.errors import InUse
from mosscrate.core.slots.storage import Storage

FOLDER = Path("/run/lock")
PATIENCE = 5.0                            # seconds that a writer waits for readers to end
PAUSE = 0.05


@dataclass
class StorageLock:
    """Locks that are held until `release`, or until the process ends."""

    fds: list[int] = field(default_factory=list)

    def release(self) -> None:
        """Let others in."""
        for fd in self.fds:
            with suppress(OSError):
                os.close(fd)
        self.fds = []

    def __del__(self) -> None:
        self.release()


def lock_for_reading(storage: Storage, name: str) -> StorageLock:
    """Take part as a reader. Raises InUse where somebody writes."""
    held = StorageLock()
    for member in sorted(storage.members):
        fd = _open(member)
        if fd is None:
            continue
        held.fds.append(fd)
        if not _try(fd, fcntl.LOCK_SH):
            who = _who(fd)
            held.release()
            raise InUse(f"{name} is being written{who}. Wait until that has ended.")
    return held


def lock_for_writing(storage: Storage, name: str, purpose: str) -> StorageLock:
    """Keep everybody else out; readers get a moment to end. Raises InUse that tells who works since when."""
    held = StorageLock()
    until = time.monotonic() + PATIENCE
    for member in sorted(storage.members):
        fd = _open(member)
        if fd is None:
            continue
        held.fds.append(fd)
        while not _try(fd, fcntl.LOCK_EX):
            is_read = _try(fd, fcntl.LOCK_SH)
            if is_read:
                fcntl.flock(fd, fcntl.LOCK_UN)
            if not is_read or time.monotonic() > until:
                who = "" if is_read else _who(fd)
                held.release()
                what = "read" if is_read else "written"
                raise InUse(f"{name} is being {what}{who or ' by another program'}. Nothing was changed.")
            time.sleep(PAUSE)
        _note(fd, purpose)
    return held


def lock_image(fd: int, name: str, *, writing: bool) -> None:
    """Lock an image file itself, for whoever does not share the folder of locks. Raises InUse."""
    try:
        fcntl.flock(fd, (fcntl.LOCK_EX if writing else fcntl.LOCK_SH) | fcntl.LOCK_NB)
    except OSError as error:
        if error.errno == errno.EWOULDBLOCK:
            raise InUse(f"{name} is held by another program. Nothing was changed.") from error


def _open(member: str) -> int | None:
    """The lock file of a member; None where this computer lets nobody make one."""
    path = FOLDER / f"mosscrate-{member}"
    for flags in (0, os.O_CREAT):
        try:
            fd = os.open(path, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW | flags, 0o666)
        except OSError:
            continue
        if flags:
            with suppress(OSError):
                os.fchmod(fd, 0o666)                  # other users take part too
        return fd
    with suppress(OSError):
        return os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
    return None


def _try(fd: int, how: int) -> bool:
    try:
        fcntl.flock(fd, how | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _note(fd: int, purpose: str) -> None:
    with suppress(OSError):
        os.ftruncate(fd, 0)
        os.pwrite(fd, f"{os.getpid()}\n{datetime.now().astimezone():%H:%M:%S}\n{purpose}\n".encode(), 0)


def _who(fd: int) -> str:
    """By whom and since when, as the holder has noted it."""
    with suppress(OSError, ValueError):
        pid, since, purpose = os.pread(fd, 400, 0).decode().splitlines()[:3]
        return f" since {since} by process {pid} ({purpose})"
    return ""
