"""What a fresh volume will look like: one is made on nothing, with the code that makes it on a card."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property, lru_cache

from mosscrate.core.blocks import Blocks, Extent, Nothing, Overlay
from mosscrate.core.contents.layout import PartitionLook, VolumeLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.survey import volume_look
from mosscrate.core.maps import Partition
from mosscrate.core.volumes import Making, format_for, open_volume
from mosscrate.core.volumes.base import BARE

NOTHING_YET = "nothing is on it yet"


class _Fresh(Blocks):
    """A fresh volume that is only made once somebody reads it."""

    def __init__(self, making: Making, size: int, sector: int) -> None:
        super().__init__(size, sector=sector)
        self._making = making

    @cached_property
    def _made(self) -> Overlay:
        view = Overlay(Nothing(self.size, sector=self.sector))
        format_for(self._making.kind).make(view, self._making)
        return view

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        return self._made.extents()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self._made.read_into(offset, buffer)


def fresh_view(making: Making, size: int, sector: int) -> Blocks:
    """The bytes of a fresh volume, made when they are first read. Raises FitError then, where it cannot be made."""
    return _Fresh(_plain(making), size, sector)


@lru_cache(64)
def _seen(making: Making, size: int, sector: int) -> VolumeLook:
    volume = open_volume(fresh_view(making, size, sector))
    return volume_look(volume, volume.tree(), Counter())


def _plain(making: Making) -> Making:
    """The same without what no look shows."""
    return replace(making, id="", seat=BARE, made=0, boot=b"")


def fresh_volume(making: Making, size: int, sector: int) -> VolumeLook:
    """A volume of `size` bytes once it is made. Raises FitError where it cannot be."""
    return replace(_seen(_plain(making), size, sector), id="")


def fresh_look(partition: Partition, making: Making, sector: int) -> PartitionLook:
    """A partition with a fresh volume; without one where the kind is "". Raises FitError."""
    if not making.kind:
        return PartitionLook(partition, None, Role.UNKNOWN, NOTHING_YET)
    return PartitionLook(partition, fresh_volume(making, partition.length, sector), Role.STORAGE,
                         "it holds no files yet")
