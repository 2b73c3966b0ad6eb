"""The one door for files that a person asks for: made beside their place, whole or not at all, never over another."""

from __future__ import annotations

import ctypes
import errno
import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from mosscrate.core.durable import is_being_made, settle, sync_folder, under_way
from mosscrate.core.errors import MediumError

NOT_OVER_ANOTHER, HERE = 1, -100         # RENAME_NOREPLACE of renameat2(2), AT_FDCWD
_libc = ctypes.CDLL(None, use_errno=True)


@contextmanager
def new_file(path: Path) -> Iterator[Path]:
    """Where a file is made, empty to begin with; it gets its name when the block ends, and goes when that fails.

    Raises MediumError where something has the name, now or at the end, or where nothing can be made.
    """
    must_be_new(path)
    with ExitStack() as making:
        with _told(path):
            if is_being_made(path):
                raise MediumError(f"{path} is being made at this moment by another run of Moss Crate. Nothing was "
                                  "changed.")
            fd, part = making.enter_context(under_way(path))
        yield part
        with _told(path):
            settle(fd)
            put_new(part, path)
            sync_folder(path.parent)


def must_be_new(path: Path) -> None:
    """The same as `must_have_no_name`, in words. Raises MediumError."""
    with _told(path):
        must_have_no_name(path)


def put_new(part: Path, path: Path) -> None:
    """Give a file its last name, which nothing has. Raises FileExistsError, OSError."""
    if _libc.renameat2(HERE, os.fsencode(part), HERE, os.fsencode(path), NOT_OVER_ANOTHER) == 0:
        return
    error = ctypes.get_errno()
    if error not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
        raise OSError(error, os.strerror(error), os.fspath(path))
    must_have_no_name(path)                                 # a file system that cannot promise it
    part.rename(path)


def must_have_no_name(path: Path) -> None:
    """Raises FileExistsError where anything has that name, also a link that leads nowhere; OSError."""
    with suppress(FileNotFoundError):
        path.lstat()
        raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), os.fspath(path))


@contextmanager
def _told(path: Path) -> Iterator[None]:
    """What the system says of a new file, in words."""
    try:
        yield
    except FileExistsError as error:
        raise MediumError(f"{path} is there already. Take another name; it was not changed.") \
            from error
    except OSError as error:
        raise MediumError(f"{path} cannot be made: {os.strerror(error.errno or 0)}.") from error
