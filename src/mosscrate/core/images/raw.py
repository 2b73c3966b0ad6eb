"""Raw images: the file is the disk, byte for byte, unless it is something that cannot be one."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

from mosscrate.core.blocks import Blocks, FileBlocks, open_blocks
from mosscrate.core.blocks.base import SECTOR
from mosscrate.core.errors import MediumError
from mosscrate.core.images.no_disks import known_by
from mosscrate.core.images.packing.disk import PackedDisk
from mosscrate.core.images.packing.members import PACKED

ALSO_PACKED = frozenset((".lzo", ".z", ".br", ".sz", ".cab", ".arj", ".lha", ".lzh"))
TEXT = 4096                                 # bytes by which a text is told from a disk


def open_image(path: Path | str, *, writable: bool = False) -> FileBlocks:
    """A file that holds a disk, or a device. Raises MediumError.

    Only the guard opens for writing what a person owns.
    """
    return open_blocks(path, writable=writable)


def must_be_a_disk(blocks: Blocks, name: str = "") -> None:
    """Raises MediumError for a text, for less than a sector, and for what is known to be something else.

    Args:
        blocks: a file, or what was unpacked of one; a device is a disk whatever it holds.
        name: of what was unpacked; the file's own where it is left out.
    """
    if isinstance(blocks, FileBlocks) and blocks.is_device:
        return
    is_open = isinstance(blocks, PackedDisk) and not blocks.is_size_known
    first = blocks.head if isinstance(blocks, PackedDisk) and is_open else blocks.read(0, min(TEXT, blocks.size))
    name = name or (blocks.path.name if isinstance(blocks, FileBlocks) else "")
    if why := known_by(first) or ("" if is_open else _no_disk(first, blocks.size)) or _by_name(name):
        raise MediumError(f"It is {why}; nothing was changed.")


def _by_name(name: str) -> str:
    """What a file that could not be unpacked says of itself by its name."""
    ending = PurePosixPath(name).suffix.lower()
    is_one = ending in ALSO_PACKED or (ending in PACKED and not ending[1:].isdecimal())      # parts have numbers
    return (f"a {ending} file by its name, so its name says that it is packed, but it cannot be unpacked here. If it "
            "is a disk all the same, give it another name") if is_one else ""


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
