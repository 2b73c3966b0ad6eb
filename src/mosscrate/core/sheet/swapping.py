"""Every word of a card turned round: for an adapter that swaps bytes, or away from one."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.streaming import read_pieces
from mosscrate.core.contents.straight import SWAPPED, is_known_swapped, straight
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.changes import Done
from mosscrate.core.sizes import binary
from mosscrate.core.watch import Watch

PIECE = 16 << 20
UNKNOWN = ("Nothing is on it that would be known again with its bytes swapped, so it is left as it is. "
           "It takes a partition map, or a FAT, OFS or FFS volume.")


def swap_bytes(blocks: Blocks, watch: Watch) -> Done:
    """Swap a whole medium in place, as it stands and not as its machine sees it; holes stay holes.

    Raises FitError before the first write where it would not be known again.
    """
    view = straight(blocks)
    if not is_known_swapped(view):
        raise FitError(UNKNOWN)
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
    order = "straight" if view.container == SWAPPED else "swapped"
    return Done(f"The bytes of {blocks.name or 'the card'} are {order} now, {binary(total)} in all.", total)


def _pieces(blocks: Blocks) -> list[Extent]:
    """Everything that may hold data, in pieces that begin and end between words."""
    size, pieces = blocks.size // 2 * 2, []
    for extent in blocks.extents():
        if extent.is_hole:
            continue
        first, last = extent.start // 2 * 2, min(size, -(-(extent.start + extent.length) // 2) * 2)
        pieces += [Extent(at, min(PIECE, last - at)) for at in range(first, last, PIECE)]
    return pieces
