"""Tables that a volume holds twice: what cannot be read of one is taken from the other."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.straight import SWAPPED, straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.maps import read_map
from mosscrate.core.volumes.fat.structures import parse_boot, probe


@dataclass(frozen=True)
class Twin:
    """`length` bytes from `start` on also stand at `other`; bytes of the card."""

    start: int
    other: int
    length: int


def twins(view: Blocks) -> Iterator[Twin]:
    """Of every FAT on a card. Microsoft, FAT specification 1.03: BPB_NumFATs; the active one is read first."""
    seen = straight(view)
    if seen.container == SWAPPED:
        return
    with suppress(FormatError, MediumError):
        for partition in read_map(seen).partitions:
            with suppress(FormatError, MediumError):
                window = partition_window(seen, partition)
                first = window.read(0, min(512, window.size))
                if not probe(first):
                    continue
                boot = parse_boot(first, window.size)
                geometry, active = boot.geometry, boot.active_fat
                for copy in range(geometry.fat_count):
                    if copy != active:
                        yield Twin(partition.start + geometry.fat_offset(active),
                                   partition.start + geometry.fat_offset(copy), geometry.fat_sectors * geometry.sector)
