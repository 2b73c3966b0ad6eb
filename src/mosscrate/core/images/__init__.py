"""Containers that hold a disk, and what a file turns out to be before it is taken for one.

A new container is its module and its line in `CONTAINERS`.
"""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images.container import ContainedDisk, ContainerFormat, unchanged
from mosscrate.core.images.qcow2 import Qcow2
from mosscrate.core.images.raw import PACKED, open_image, packed_kind
from mosscrate.core.images.vhd import Vhd

CONTAINERS: tuple[ContainerFormat, ...] = (Qcow2(), Vhd())

__all__ = ["CONTAINERS", "PACKED", "ContainedDisk", "disk_in", "open_image", "packed_kind", "unchanged"]


def disk_in(file: Blocks) -> Blocks:
    """The disk that a file holds: itself, or what its container says. Raises MediumError; the file is closed then."""
    try:
        for format in CONTAINERS:
            if format.probe(file):
                return format.open(file)
    except (FormatError, MediumError) as error:
        file.close()
        raise MediumError(f"{file.name} cannot be opened: {error}") from error
    return file
