"""Every word of a card turned round: for an adapter that swaps bytes, or away from one."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
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
    for piece, data in _read_ahead(blocks, pieces):
        if np.frombuffer(data, np.uint8).any():
            blocks.foreswap(piece, data)
            np.frombuffer(data, "<u2").byteswap(inplace=True)
            blocks.write(piece.start, data)
        done += piece.length
        watch.progress("Swapping bytes", done, total)
    blocks.flush()
    order = "straight" if view.container == SWAPPED else "swapped"
    return Done(f"The bytes of {blocks.name or 'the card'} are {order} now, {binary(total)} in all.", total)


def _read_ahead(blocks: Blocks, pieces: list[Extent]) -> Iterator[tuple[Extent, memoryview]]:
    """Each piece with its bytes, the next one read meanwhile; a buffer is used again two pieces later."""
    buffers = [memoryview(bytearray(PIECE)) for _ in range(2)]

    def read(number: int) -> memoryview:
        data = buffers[number % 2][:pieces[number].length]
        blocks.read_into(pieces[number].start, data)
        return data

    with ThreadPoolExecutor(1, "read-ahead") as reader:
        coming = reader.submit(read, 0) if pieces else None
        for number, piece in enumerate(pieces):
            assert coming is not None, "there is a piece"
            data = coming.result()
            coming = reader.submit(read, number + 1) if number + 1 < len(pieces) else None
            yield piece, data


def _pieces(blocks: Blocks) -> list[Extent]:
    """Everything that may hold data, in pieces that begin and end between words."""
    size, pieces = blocks.size // 2 * 2, []
    for extent in blocks.extents():
        if extent.is_hole:
            continue
        first, last = extent.start // 2 * 2, min(size, -(-(extent.start + extent.length) // 2) * 2)
        pieces += [Extent(at, min(PIECE, last - at)) for at in range(first, last, PIECE)]
    return pieces
