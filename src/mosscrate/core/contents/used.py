"""Only what is in use on a medium: free room of its volumes reads as zeros, everything else as it stands."""

from __future__ import annotations

from contextlib import suppress

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.blanked import Blanked
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.straight import SWAPPED, straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes import open_volume


def used_only(blocks: Blocks, layout: Layout) -> Blocks:
    """A view of a medium, surveyed before, without what is left in its free room. Raises MediumError.

    A volume whose tables and files contradict one another is left as it is, and so is one that cannot be opened, and a
    medium with swapped bytes.
    """
    view = straight(blocks)
    if view.container == SWAPPED:
        return blocks                                   # rare: it is saved as it stands
    blanks: list[Extent] = []
    for look in layout.partitions:
        if look.volume is None or look.volume.used is None or not look.volume.holds_together:
            continue
        with suppress(FormatError, MediumError):
            window = partition_window(view, look.partition)
            volume = open_volume(window)
            blanks += _between(volume.used_extents(), look.partition.start, min(volume.size, window.size))
    return Blanked(blocks, sorted(blanks, key=lambda extent: extent.start))


def _between(used: tuple[Extent, ...], start: int, size: int) -> list[Extent]:
    """What lies between stretches of a volume of a size that begins at a byte of its medium, and behind them."""
    found, at = [], 0
    ordered = sorted(used, key=lambda extent: extent.start)
    for extent in ordered:
        if extent.start > at:
            found.append(Extent(start + at, extent.start - at))
        at = max(at, extent.end)
    return [*found, *([Extent(start + at, size - at)] if at < size else [])]
