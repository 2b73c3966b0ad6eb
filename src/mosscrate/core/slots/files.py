"""Image files that somebody opened, or named."""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from mosscrate.core.blocks import FileBlocks
from mosscrate.core.errors import MediumError
from mosscrate.core.images import ContainedDisk, disk_in, open_image
from mosscrate.core.slots.medium import Medium, Source

_WRITE_BITS = 0o222


@dataclass(frozen=True)
class ImageFiles:
    """Those that are open on the bench; every other file is found by its path."""

    paths: list[Path]

    def media(self) -> list[Medium]:
        """See Slot."""
        return [self.medium_at(path) for path in self.paths if path.exists()]

    def medium_at(self, path: Path) -> Medium:
        """See Slot."""
        if not path.is_file():
            raise MediumError(f"{path} is a folder, not a card image.")
        about = path.stat()
        size, kind = _disk_at(path, about.st_size, about.st_mtime_ns)
        return Medium(path.stem, path, size, Source.IMAGE, reader=f"{kind} image file".strip(),
                      is_write_protected=bool(kind) or not may_be_written(path), slot=self)

    def open(self, medium: Medium, *, writable: bool) -> FileBlocks:
        """See Slot."""
        return open_image(medium.path, writable=writable)


@lru_cache(64)
def _disk_at(path: Path, size: int, _changed: int) -> tuple[int, str]:
    """Bytes of the disk in a file of `size` bytes, and the container that holds it; "" for none."""
    try:
        with disk_in(open_image(path)) as disk:
            return disk.size, disk.kind if isinstance(disk, ContainedDisk) else ""
    except MediumError:
        return size, ""                      # what is wrong is said when somebody opens it


def may_be_written(path: Path) -> bool:
    """Whether somebody may write to a file by its own permission bits, which also bind those who could pass over them.
    """
    return bool(path.stat().st_mode & _WRITE_BITS) and os.access(path, os.W_OK)
