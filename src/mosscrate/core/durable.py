"""Files that are whole or absent, and names that are on the disk itself.

What is under way has PART behind its name, an attribute that says so, and a lock. Where nobody has it locked, whoever
made it is gone, in whichever namespace that was, and the next one takes it away. A file that only has such a name
belongs to somebody else, and stays.
"""

from __future__ import annotations

import errno
import fcntl
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from blake3 import blake3

NOT_THERE = (errno.EINVAL, errno.ENOTSUP, errno.ENOSYS)     # some network folders have no such call
PART, UNDER_WAY = ".moss-part", "user.moss-crate.under-way"
LONGEST = 255                            # bytes of a name, on most file systems
MOST = 1000                              # names that are tried


def write_whole(path: Path, data: bytes) -> None:
    """Write a small file beside its final place, sync it, then put it there. Raises OSError."""
    with under_way(path) as (fd, part):
        with open(fd, "wb", closefd=False) as file:
            file.write(data)
        settle(fd)
        part.replace(path)
    sync_folder(path.parent)


@contextmanager
def under_way(path: Path) -> Iterator[tuple[int, Path]]:
    """A file that is `begun`; it goes where the block fails: half a file is none. Raises OSError."""
    fd, part = begun(path)
    try:
        yield fd, part
    except BaseException:
        with suppress(OSError):
            part.unlink()
        raise
    finally:
        os.close(fd)


def begun(path: Path) -> tuple[int, Path]:
    """An empty file beside a place, and its name; it is locked while its descriptor is open. Raises OSError."""
    for number in range(MOST):
        part = _part(path, number)
        if not _is_free(part):
            continue
        try:
            fd = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o666)
        except FileExistsError:
            continue
        if _lock(fd) and _is_named(fd, part):
            with suppress(OSError):                         # where there are none, it is not known again
                os.setxattr(fd, UNDER_WAY, b"1")
            return fd, part
        os.close(fd)
    raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), os.fspath(path))


def settle(fd: int) -> None:
    """What was made is on the disk, and no longer under way. Raises OSError."""
    unmark(fd)
    os.fsync(fd)


def unmark(fd: int) -> None:
    """What was made is no longer under way, so that nobody takes it away."""
    with suppress(OSError):
        os.removexattr(fd, UNDER_WAY)


def is_being_made(path: Path) -> bool:
    """Whether another run makes a file of that name now. Raises OSError."""
    try:
        fd = os.open(_part(path, 0), os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        return _is_under_way(fd) and not _lock(fd)
    finally:
        os.close(fd)


def lock(fd: int) -> bool | None:
    """Lock a file, as long as it is open; whether that was done, None where no lock can be had."""
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        return None
    return True


def sync_folder(folder: Path) -> None:
    """Names in a folder are on the disk itself, where its file system can be told so."""
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(fd)
    except OSError as error:
        if error.errno not in NOT_THERE:
            raise
    finally:
        os.close(fd)


def _part(path: Path, number: int) -> Path:
    ending = f"{PART}{f'-{number}' if number else ''}"
    is_long = len(os.fsencode(path.name + ending)) > LONGEST
    return path.with_name((blake3(os.fsencode(path.name)).hexdigest() if is_long else path.name) + ending)


def _is_free(part: Path) -> bool:
    """Whether nothing has that name; what a run that is gone has left there goes. Raises OSError."""
    try:
        fd = os.open(part, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        return True
    except OSError:
        return False
    try:
        if not (_is_under_way(fd) and _lock(fd) and _is_named(fd, part)):
            return False
        part.unlink()
        return True
    finally:
        os.close(fd)


def _is_under_way(fd: int) -> bool:
    try:
        return stat.S_ISREG(os.fstat(fd).st_mode) and bool(os.getxattr(fd, UNDER_WAY))
    except OSError:
        return False


def _is_named(fd: int, part: Path) -> bool:
    """Whether a file still has its name: somebody may have taken it for one that was left."""
    try:
        return os.path.samestat(os.fstat(fd), part.lstat())
    except FileNotFoundError:
        return False


def _lock(fd: int) -> bool:
    """Whether nobody else has it; a network folder may know no locks."""
    return lock(fd) is not False
