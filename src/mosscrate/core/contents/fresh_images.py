"""Fresh image files as raw sectors: empty floppies of the common sizes, and blank drives to be laid out."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.blocks import begun_image
from mosscrate.core.errors import FitError
from mosscrate.core.new_file import new_file
from mosscrate.core.sizes import binary, parse_size
from mosscrate.core.volumes import Making, format_for, kind_name


@dataclass(frozen=True)
class Floppy:
    """One kind of disk.

    Attributes:
        key: for the shell.
        name: for people.
        size: bytes of its sectors.
        kinds: of file systems, the usual one first.
    """

    key: str
    name: str
    size: int
    kinds: tuple[str, ...]


LEAST_DRIVE = 1 << 20
DRIVES = {name: parse_size(name) // 512 * 512 for name in (
    "32 MB", "128 MB", "500 MB", "1 GB", "2 GB", "4 GB", "8 GB", "16 GB", "32 GB")}
_HOME = ("ofs", "ffs", "ofs-intl", "ffs-intl", "ofs-cache", "ffs-cache")
FLOPPIES = (
    Floppy("pc-360", "PC, 5.25 inch, 360 KB", 368640, ("fat12",)),
    Floppy("pc-720", "PC, 3.5 inch, 720 KB", 737280, ("fat12",)),
    Floppy("gemdos-720", "GEMDOS, 3.5 inch, 720 KB", 737280, ("gemdos-floppy",)),
    Floppy("gemdos-800", "GEMDOS, 3.5 inch, 800 KB", 819200, ("gemdos-floppy",)),
    Floppy("pc-1200", "PC, 5.25 inch, 1.2 MB", 1228800, ("fat12",)),
    Floppy("pc-1440", "PC, 3.5 inch, 1.44 MB", 1474560, ("fat12",)),
    Floppy("pc-2880", "PC, 3.5 inch, 2.88 MB", 2949120, ("fat12",)),
    Floppy("home-880", "home computer, 3.5 inch, 880 KB", 901120, _HOME),
    Floppy("home-1760", "home computer, 3.5 inch, 1.76 MB", 1802240, _HOME))


def floppy(key: str) -> Floppy:
    """One by its key. Raises FitError."""
    found = next((f for f in FLOPPIES if f.key == key), None)
    if found is None:
        raise FitError(f"There is no floppy “{key}”; these are known: {', '.join(f.key for f in FLOPPIES)}.")
    return found


def make_drive(path: Path, size: int) -> str:
    """Make the image of a blank drive, which takes no room until it is filled; returns a sentence.

    Raises FitError, MediumError; a file that is there stays.
    """
    if size < LEAST_DRIVE or size % 512:
        raise FitError(f"A drive has whole sectors of 512 bytes, and {binary(LEAST_DRIVE)} at least.")
    with new_file(path) as part:
        begun_image(part, size).close()
    return f"{path.name} is a blank drive of {binary(size)}."


def make_floppy(path: Path, disk: Floppy, *, kind: str = "", label: str = "") -> str:
    """Make the image of an empty disk; returns a sentence. Raises FitError, MediumError; a file that is there stays."""
    kind = kind or disk.kinds[0]
    if kind not in disk.kinds:
        raise FitError(f"On a floppy of this kind stands {' or '.join(disk.kinds)}, not {kind}.")
    with new_file(path) as part, begun_image(part, disk.size) as blocks:
        format_for(kind).make(blocks, Making(kind, label))
    return f"{path.name} is an empty disk: {disk.name}, {kind_name(kind)}."
