"""What a volume that is made anew keeps of the old one besides its files: label, serial number, boot code, blocks."""

from __future__ import annotations

from dataclasses import replace
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.fresh import fresh_volume
from mosscrate.core.errors import FitError
from mosscrate.core.volumes import Making, Seat, facts_for, facts_of
from mosscrate.core.volumes.base import BARE

BOOT_BYTES = 1024


class Old(Protocol):
    """A volume, or how it looks."""

    @property
    def variant(self) -> str:
        """The kind that makes one like it."""

    @property
    def label(self) -> str:
        """As it says."""

    @property
    def id(self) -> str:
        """Serial number or UUID."""

    @property
    def block(self) -> int:
        """Bytes of an allocation unit."""


def making_like(old: Old, kind: str, *, block: int | None = None, seat: Seat = BARE) -> Making:
    """How to make a volume of a kind after an old one. Raises FitError.

    `block` in bytes; None keeps that of the same kind where it can be chosen.
    """
    was = facts_of(old.variant)
    kind = was.made_as if was is not None and was.made_as and kind == was.kind else kind
    facts = facts_for(kind)
    if block is None and kind == old.variant and facts.blocks:
        block = old.block
    is_alike = was is not None and was.ids == facts.ids
    return Making(kind, facts.cut_label(old.label), block, id=old.id if is_alike else "",
                  seat=seat)


def making_that_fits(old: Old, kind: str, size: int, sector: int, *, block: int | None, seat: Seat) -> Making:
    """The same for another size, in larger blocks where it cannot have as many of its own. Raises FitError."""
    making = making_like(old, kind, block=block, seat=seat)
    if block is None and making.block is not None:
        try:
            fresh_volume(making, size, sector)
        except FitError:
            return replace(making, block=None)
    return making


def with_boot_code(making: Making, old: Old, window: Blocks) -> Making:
    """The same with the boot code that begins `window`, where the kind is the same. Raises MediumError."""
    is_same = making.kind == old.variant
    return replace(making, boot=window.read(0, min(window.size, BOOT_BYTES))) if is_same else making
