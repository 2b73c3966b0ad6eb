"""Small files that are whole or absent, and names that are on the disk itself."""

from __future__ import annotations

import errno
import os
from pathlib import Path

NOT_THERE = (errno.EINVAL, errno.ENOTSUP, errno.ENOSYS)     # some network folders have no such call


def write_whole(path: Path, data: bytes) -> None:
    """Write a small file beside its final place, sync it, then put it there."""
    part = path.with_name(path.name + ".part")
    with part.open("wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)
    sync_folder(path.parent)


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
