"""What of a partition has to be moved or copied."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import FormatError
from mosscrate.core.sheet.steps.shared.places import EDGE
from mosscrate.core.volumes import open_volume, soundness

PIECE = 4 << 20


def used_of(window: Blocks) -> tuple[Extent, ...]:
    """What of a partition has to be moved: its used extents, or all of it where they are not known."""
    try:
        volume = open_volume(window)
        if not volume.is_clean or soundness(volume, volume.tree()).because:
            return (Extent(0, window.size),)
        used = volume.used_extents()
    except FormatError:
        return (Extent(0, window.size),)
    tail = window.size - volume.size
    return (*used, Extent(volume.size, tail)) if 0 < tail <= EDGE else used
