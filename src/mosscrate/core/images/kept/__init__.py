"""A kept card, read from a crate: a list of chunks, and where each of its bytes lies on the card.

`frames` declares the files, `packs` finds and reads chunks by their names, `manifest` reads what one backup is made of,
`disk` is the card as it was. docs/formats/crate.md describes all of it for whoever writes another reader.
"""

from __future__ import annotations

from pathlib import Path

from mosscrate.core.blocks import Blocks, FileBlocks
from mosscrate.core.errors import FormatError
from mosscrate.core.images.container import ContainedDisk
from mosscrate.core.images.kept.disk import KeptDisk
from mosscrate.core.images.kept.frames import KEPT_MAGIC
from mosscrate.core.images.kept.manifest import Manifest, read_manifest
from mosscrate.core.images.kept.packs import Packs, packs_of

__all__ = ["Kept", "KeptDisk", "Manifest", "Packs", "crate_of", "kept_in", "packs_of", "read_manifest"]


def crate_of(manifest: Path) -> Path | None:
    """The crate that a manifest lies in; None where it lies in none."""
    folders = manifest.resolve().parents
    return folders[2] if len(folders) > 2 and (folders[2] / "packs").is_dir() else None


def kept_in(blocks: Blocks) -> KeptDisk | None:
    """The kept card that blocks are, if they are one."""
    return blocks if isinstance(blocks, KeptDisk) else None


class Kept:
    """See ContainerFormat."""

    def begins(self, first: bytes) -> bool:
        """See ContainerFormat."""
        return first.startswith(KEPT_MAGIC)

    def probe(self, file: Blocks) -> bool:
        """See ContainerFormat."""
        return file.size >= len(KEPT_MAGIC) and file.read(0, len(KEPT_MAGIC)) == KEPT_MAGIC

    def open(self, file: Blocks) -> ContainedDisk:
        """See ContainerFormat: its chunks are looked for in the crate that it lies in."""
        crate = crate_of(file.path) if isinstance(file, FileBlocks) else None
        if crate is None:
            raise FormatError("backup", "place", 0, file.name, "a folder of a crate, with its packs beside it")
        return KeptDisk(file, read_manifest(file.read(0, file.size)), packs_of(crate))
