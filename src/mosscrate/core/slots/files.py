"""Image files that somebody opened, or named."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.blocks import FileBlocks
from mosscrate.core.errors import MediumError
from mosscrate.core.images import open_image
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
        return Medium(path.stem, path, path.stat().st_size, Source.IMAGE, reader="image file",
                      is_write_protected=not may_be_written(path), slot=self)

    def open(self, medium: Medium, *, writable: bool) -> FileBlocks:
        """See Slot."""
        return open_image(medium.path, writable=writable)


def may_be_written(path: Path) -> bool:
    """Whether somebody may write to a file by its own permission bits, which also bind those who could pass over them.
    """
    return bool(path.stat().st_mode & _WRITE_BITS) and os.access(path, os.W_OK)
