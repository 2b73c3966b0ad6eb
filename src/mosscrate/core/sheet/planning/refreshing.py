"""A new release over the old one: firmware partitions of an image over those of a card, games and saves untouched."""

from __future__ import annotations

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.crate import Crate
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import AnyStep, Eject, KeepCard, RefreshPartition, Which
from mosscrate.core.slots import Medium

SETTINGS = ("*.cfg", "*.ini", "*.conf", "*.json", "*.toml", "*.opt")


def refreshing_steps(source: Layout, target: Layout, keep: tuple[str, ...] = ()) -> tuple[AnyStep, ...]:
    """A step for each firmware partition of an image. Raises FitError where the card has none that it would replace.

    A partition is taken for the old one where number and kind agree, else by its label.
    """
    firmware = [look for look in source.partitions if look.role == Role.FIRMWARE]
    if not firmware:
        raise FitError("There is no partition on the source that is known as firmware.")
    return tuple(RefreshPartition(look.index, _old(look, target).index, keep) for look in firmware)


def propose_refresh(image: Medium, image_layout: Layout, card: Medium, layout: Layout, crate: Crate,
                    keep: tuple[str, ...] = ()) -> JobSheet:
    """The whole sheet: keep the card unless it is kept, refresh, eject. Raises FitError, MediumError."""
    is_at_stake = any(each.severity == "warning" for each in what_would_be_lost(card, layout, crate))
    return JobSheet((*((KeepCard(Which.TARGET),) if is_at_stake else ()), *refreshing_steps(image_layout, layout, keep),
                     Eject()), reference(image), reference(card))


def _old(look: PartitionLook, target: Layout) -> PartitionLook:
    same = [each for each in target.partitions if each.role in (Role.FIRMWARE, look.role) and (
        (each.index == look.index and each.variant == look.variant)
        or (each.partition.label or (each.volume.label if each.volume else "")) == _label(look) != "")]
    if not same:
        raise FitError(f"The card has no firmware partition like {look.name} of the source. Write the whole image "
                       "instead, and bring the games back.")
    return next((each for each in same if each.index == look.index), same[0])


def _label(look: PartitionLook) -> str:
    return look.partition.label or (look.volume.label if look.volume else "")
