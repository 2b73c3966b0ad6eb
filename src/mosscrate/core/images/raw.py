"""Raw images: the file is the disk, byte for byte.

A packed file is told from an image by its first bytes, since writing the archive itself to a card
is a common mistake.
"""

from __future__ import annotations

from pathlib import Path

from mosscrate.core.blocks import FileBlocks, open_blocks
from mosscrate.core.errors import MediumError

PACKED = (                                  # first bytes, what the file is (each format's own specification)
    (b"\x1f\x8b", "a gzip file"),
    (b"\xfd7zXZ\0", "an xz file"),
    (b"BZh", "a bzip2 file"),
    (b"\x28\xb5\x2f\xfd", "a Zstandard file"),
    (b"PK\x03\x04", "a zip archive"),
    (b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
    (b"Rar!\x1a\x07", "a rar archive"),
)


def packed_kind(first_bytes: bytes) -> str | None:
    """What packs the file, such as "an xz file"; None when it may be an image."""
    return next((kind for magic, kind in PACKED if first_bytes.startswith(magic)), None)


def open_image(path: Path | str) -> FileBlocks:
    """Open an image or a device for reading. Raises MediumError, also for a packed file."""
    blocks = open_blocks(path)
    kind = packed_kind(blocks.read(0, min(8, blocks.size)))
    if kind:
        blocks.close()
        raise MediumError(f"{path} is {kind}, not a card image. Unpack it first; nothing was changed.")
    return blocks
