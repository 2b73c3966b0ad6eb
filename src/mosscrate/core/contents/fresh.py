"""What a fresh volume will look like: one is made on nothing, with the code that makes it on a card."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from functools import lru_cache

from mosscrate.core.blocks import Nothing, Overlay
from mosscrate.core.contents.layout import PartitionLook, VolumeLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.survey import volume_look
from mosscrate.core.maps import Partition
from mosscrate.core.volumes import Making, format_for, open_volume

NOTHING_YET = "nothing is on it yet"


@lru_cache(64)
def _made(making: Making, size: int, sector: int) -> VolumeLook:
    with Overlay(Nothing(size, sector=sector)) as view:
        format_for(making.kind).make(view, making)
        volume = open_volume(view)
        return volume_look(volume, volume.tree(), Counter())


def fresh_volume(making: Making, size: int, sector: int) -> VolumeLook:
    """A volume of `size` bytes once it is made. Raises FitError where it cannot be."""
    like = replace(making, id="", hidden_sectors=0, made=0, boot=b"")
    return replace(_made(like, size, sector), id="")


def fresh_look(partition: Partition, making: Making, sector: int) -> PartitionLook:
    """A partition with a fresh volume; without one where the kind is "". Raises FitError."""
    if not making.kind:
        return PartitionLook(partition, None, Role.UNKNOWN, NOTHING_YET)
    return PartitionLook(partition, fresh_volume(making, partition.length, sector), Role.STORAGE,
                         "it holds no files yet")
