"""File systems: each is one module or package that reads, checks, makes and changes its kind.

`open_volume` asks them in turn; what none of them knows is named by its signature and stays closed.
"""

from __future__ import annotations

from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes import fat
from mosscrate.core.volumes.base import Entry, Kind, Tree, Volume
from mosscrate.core.volumes.signatures import FIRST_BYTES, name_by_signature


class VolumeFormat(Protocol):
    """What a package for a file system offers."""

    def probe(self, first: bytes) -> bool:
        """Whether the first 68 KiB of a partition carry this file system."""

    def kind_of(self, first: bytes) -> str:
        """Its short name, from the same bytes."""

    def open_volume(self, blocks: Blocks) -> Volume:
        """Open it. Raises FormatError, MediumError."""


FORMATS: tuple[VolumeFormat, ...] = (fat,)

__all__ = ["FORMATS", "Entry", "Kind", "Tree", "Volume", "name_by_signature", "open_volume", "volume_kind"]


def open_volume(blocks: Blocks) -> Volume:
    """The file system on a partition. Raises FormatError where none is known or it is damaged."""
    first = blocks.read(0, min(blocks.size, FIRST_BYTES))
    for module in FORMATS:
        if module.probe(first):
            return module.open_volume(blocks)
    name = name_by_signature(first)
    raise FormatError(name or "volume", "signature", 0, name or "nothing known", "a file system opened here")


def volume_kind(blocks: Blocks) -> str:
    """A short name such as "fat32" or "ext4"; "" where nothing is recognised. Raises MediumError."""
    first = blocks.read(0, min(blocks.size, FIRST_BYTES))
    for module in FORMATS:
        if module.probe(first):
            return module.kind_of(first)
    return name_by_signature(first)
