"""Containers that hold a disk, and what a file turns out to be before it is taken for one.

A new container is its module and its line in `CONTAINERS`.
"""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FormatError, MediumError, NotReadYet
from mosscrate.core.images import vhd
from mosscrate.core.images.container import ContainedDisk, ContainerFormat, unchanged
from mosscrate.core.images.drive_file import Drive
from mosscrate.core.images.kept import Kept
from mosscrate.core.images.packing import PackedDisk, Packing, Reach, Remembered, join_with, packed_in, unpacked
from mosscrate.core.images.published import Compared, published_for
from mosscrate.core.images.qcow2 import Qcow2
from mosscrate.core.images.raw import must_be_a_disk, open_image
from mosscrate.core.images.vhd import Vhd

HEAD = 512
CONTAINERS: tuple[ContainerFormat, ...] = (Drive(), Kept(), Qcow2(), Vhd())

__all__ = ["CONTAINERS", "Compared", "ContainedDisk", "PackedDisk", "Packing", "Reach", "Remembered", "disk_in",
           "open_image", "packed_in", "published_for", "unchanged"]


def begins_container(first: bytes) -> bool:
    """Whether what begins like this holds a disk in a way of its own, and is never one as it stands."""
    return any(format.begins(first) for format in CONTAINERS)


def _needs_end(first: bytes, name: str) -> bool:
    """Whether a stream has to be known to its end before anything can be said of the disk in it."""
    return begins_container(first) or name.lower().endswith(vhd.SUFFIX)


def disk_in(file: Blocks, wanted: str = "", remembered: Remembered | None = None, reach: Reach | None = None) -> Blocks:
    """The disk that a file holds: itself, what it packs, or what its container says.

    Args:
        file: or one of several that belong together; closed with the disk.
        wanted: the name of what is wanted inside an archive; "" takes the likely one.
        remembered: what is known of it already.
        reach: how far it may be unpacked to find out.

    Raises MediumError, also for what is no disk; the file is closed then.
    """
    opened = file
    try:
        opened = join_with(file)
        disk = unpacked(opened, wanted, remembered, reach, _needs_end)
        if isinstance(disk, PackedDisk) and not disk.is_reached:
            return disk
        for format in CONTAINERS:
            if format.probe(disk):
                return format.open(disk)
        first = disk.head if isinstance(disk, PackedDisk) else disk.read(0, min(HEAD, disk.size))
        if begins_container(first):
            raise MediumError("It begins like a container for a disk, but is damaged or cut; nothing was changed.")
        must_be_a_disk(disk, disk.packing.name if isinstance(disk, PackedDisk) else "")
        if isinstance(disk, PackedDisk):                     # a footer may stand where nobody has read to yet
            disk.is_footer = vhd.is_fixed_footer
    except NotReadYet:
        opened.close()
        raise
    except (FormatError, MediumError) as error:
        opened.close()
        raise MediumError(f"{file.name} cannot be opened: {error}") from error
    return disk
