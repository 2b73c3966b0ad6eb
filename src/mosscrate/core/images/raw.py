"""Raw images: the file is the disk, byte for byte, unless it is something that cannot be one."""

from __future__ import annotations

from pathlib import Path

from mosscrate.core.blocks import Blocks, FileBlocks, open_blocks
from mosscrate.core.blocks.base import SECTOR
from mosscrate.core.errors import MediumError

TEXT = 4096                                 # bytes by which a text is told from a disk


def open_image(path: Path | str, *, writable: bool = False) -> FileBlocks:
    """A file that holds a disk, or a device. Raises MediumError.

    Only the guard opens for writing what a person owns.
    """
    return open_blocks(path, writable=writable)


def must_be_a_disk(blocks: Blocks) -> None:
    """Raises MediumError for a text, and for less than a sector; a device is one whatever it holds."""
    if isinstance(blocks, FileBlocks) and blocks.is_device:
        return
    why = _no_disk(blocks.read(0, min(TEXT, blocks.size)), blocks.size)
    if why:
        raise MediumError(f"It is {why}; nothing was changed.")


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
