"""Where a map of used or free, changed or filled places has its runs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.base import Extent


def runs_of(mask: NDArray[np.bool_]) -> NDArray[np.intp]:
    """Every run of true places in order, as rows of (first, last + 1); shape (runs, 2)."""
    return np.flatnonzero(np.diff(mask, prepend=False, append=False)).reshape(-1, 2)


def distinct(values: NDArray[np.int64]) -> NDArray[np.int64]:
    """The values in order, each once; `numpy.unique` would load masked arrays for it."""
    ordered = np.sort(values)
    once: NDArray[np.int64] = ordered[np.append(True, ordered[1:] != ordered[:-1])[:len(ordered)]]
    return once


def joined(extents: Iterable[Extent], gap: int = 0) -> list[Extent]:
    """Stretches in order, those that touch or lie at most `gap` bytes apart as one."""
    found: list[Extent] = []
    for extent in sorted(extents, key=lambda each: each.start):
        if found and extent.start <= found[-1].end + gap:
            found[-1] = Extent(found[-1].start, max(found[-1].end, extent.end) - found[-1].start)
        else:
            found.append(extent)
    return found


def with_holes(data: Iterable[tuple[int, int]], size: int) -> Iterator[Extent]:
    """Stretches (start, end) that hold something, in order and apart, and the holes around them up to `size`."""
    at = 0
    for start, end in data:
        if start > at:
            yield Extent(at, start - at, is_hole=True)
        yield Extent(start, end - start)
        at = end
    if at < size:
        yield Extent(at, size - at, is_hole=True)
