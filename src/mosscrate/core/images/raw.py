"""Raw images: the file is the disk, byte for byte.

A packed file is told from an image by its first bytes, since writing the archive itself to a card
is a common mistake.
"""

from __future__ import annotations

from pathlib import Path

from mosscrate.core.blocks import FileBlocks, open_blocks
from mosscrate.core.blocks.base import SECTOR
from mosscrate.core.errors import MediumError

TEXT = 4096                                 # bytes by which a text is told from a disk
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


def open_image(path: Path | str, *, writable: bool = False) -> FileBlocks:
    """The disk in a file, or a device. Raises MediumError, also for a packed file or a text.

    Only the guard opens for writing what a person owns.
    """
    blocks = open_blocks(path, writable=writable)
    first = blocks.read(0, min(TEXT, blocks.size))
    kind = packed_kind(first)
    why = f"{kind}, not a card image. Unpack it first" if kind else \
        "" if blocks.is_device else _no_disk(first, blocks.size)
    if why:
        blocks.close()
        raise MediumError(f"{path} is {why}; nothing was changed.")
    return blocks


def _no_disk(first: bytes, size: int) -> str:
    """What a file is that cannot be a disk; "" for all others."""
    if size < SECTOR:
        return f"no card image: it has {size} bytes, less than one sector" if size else "empty, not a card image"
    has_lines = b"\n" in first or size <= TEXT           # a card filled with one letter is none
    if not has_lines or any(byte < 0x20 and byte not in b"\t\n\f\r" for byte in first):
        return ""
    try:
        first[:-4].decode()                              # a letter may be cut at the end
    except UnicodeDecodeError:
        return ""
    return "a text file, not a card image"
