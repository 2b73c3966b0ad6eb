"""How much a journal may have to hold of one partition: upper bounds, in bytes."""

from __future__ import annotations

from mosscrate.core.contents.layout import PartitionLook

MIB = 1 << 20
LEAST = 2 * MIB                        # maps, and what every change writes


def used_of_look(look: PartitionLook) -> int:
    """What a partition may hold."""
    volume = look.volume
    return look.partition.length if volume is None or volume.used is None or not volume.is_clean else volume.used


def tables(look: PartitionLook, length: int) -> int:
    """Tables, bitmaps and folders of a volume of that length."""
    volume = look.volume
    if volume is None or not volume.block:
        return largest_tables(length)
    entries = max(1, volume.files) * 1024
    if volume.facts is not None and volume.facts.has_owners:         # inodes beside the folders
        return length // 48 + length // volume.block // 4 + entries * 4 + LEAST
    return length // volume.block * 8 + length // volume.block // 4 + entries + LEAST


def largest_tables(length: int) -> int:
    """The same for a volume of whatever kind, in its usual allocation units."""
    return length // 40 + LEAST
