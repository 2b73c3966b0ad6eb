"""Exchange the two bytes of every word, for an adapter that swaps them or away from one."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.streaming import read_pieces
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.straight import SWAPPED, is_known_swapped, map_is_known_swapped
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sizes import binary
from mosscrate.core.watch import Watch

PIECE = 16 << 20
UNKNOWN = ("Nothing is on it that would be known again with its bytes swapped, so it is left as it is. "
           "It takes a partition map, or a FAT, OFS or FFS volume.")


class SwapBytes(Step, tag="swap", frozen=True):
    """See above. A medium is swapped as it stands and not as its machine sees it; holes stay holes."""

    command: ClassVar[str] = "swap"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        if isinstance(card, Card) and not is_known_swapped(card.blocks):
            raise FitError(UNKNOWN)
        layout = swapped_layout(card.layout)
        return Decision(f"Swap the two bytes of every word on {card.name}", layout.used, layout.used, whole=layout,
                        kept=frozenset(p.index for p in layout.partitions),
                        journal=card.data // 24)             # two marks a sector

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        blocks = card.raw
        pieces = _pieces(blocks)
        total, done = sum(p.length for p in pieces), 0
        for piece, data in zip(pieces, read_pieces(blocks, pieces), strict=True):
            if np.frombuffer(data, np.uint8).any():
                blocks.foreswap(piece, data)
                np.frombuffer(data, "<u2").byteswap(inplace=True)
                blocks.write(piece.start, data)
            done += piece.length
            watch.progress("Swapping bytes", done, total)
        blocks.flush()
        order = "straight" if card.blocks.container == SWAPPED else "swapped"
        return Done(f"The bytes of {card.name} are {order} now, {binary(total)} in all.", total)


def swapped_layout(layout: Layout) -> Layout:
    """The same in the other byte order. Raises FitError where it would not be known again."""
    facts = layout.partitions[0].volume.facts if layout.partitions and layout.partitions[0].volume else None
    has_map = not layout.is_closed and map_is_known_swapped(layout.as_map)
    is_known = has_map or (layout.map_kind == MapKind.NONE and facts is not None and facts.is_known_swapped)
    if not is_known:
        raise FitError(UNKNOWN)
    return replace(layout, container="raw" if layout.container == SWAPPED else SWAPPED)


def _pieces(blocks: Blocks) -> list[Extent]:
    """Everything that may hold data, in pieces that begin and end between words."""
    size, pieces = blocks.size // 2 * 2, []
    for extent in blocks.extents():
        if extent.is_hole:
            continue
        first, last = extent.start // 2 * 2, min(size, -(-(extent.start + extent.length) // 2) * 2)
        pieces += [Extent(at, min(PIECE, last - at)) for at in range(first, last, PIECE)]
    return pieces
