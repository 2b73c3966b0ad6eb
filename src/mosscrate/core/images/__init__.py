"""Containers that hold a disk, and what a file turns out to be before it is taken for one."""

from mosscrate.core.images.raw import PACKED, open_image, packed_kind

__all__ = ["PACKED", "open_image", "packed_kind"]
