"""Where two kept states of a card differ, by place: told from their lists of chunks, without reading one."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.runs import joined
from mosscrate.core.images.kept import Manifest
from mosscrate.core.images.kept.frames import UNREAD
from mosscrate.core.images.kept.packs import prefixes_of

NOTHING = 0                              # what free room holds in every state


def differing_places(older: Manifest, newer: Manifest) -> list[Extent]:
    """Stretches of the newer card that hold something else than in the older state, in order."""
    size = min(older.about.card.size, newer.about.card.size)
    sides = [_pieces(manifest) for manifest in (older, newer)]
    edges = np.unique(np.concatenate([np.array([0, size], np.int64), *(side[:, 0] for side in sides),
                                      *(side[:, 1] for side in sides)]))
    edges = edges[(edges >= 0) & (edges <= size)]
    starts, lengths = edges[:-1], np.diff(edges)
    then, now = (_held(side, starts) for side in sides)
    changed = (then != now).any(axis=1)
    found = [Extent(a, n) for a, n in zip(starts[changed].tolist(), lengths[changed].tolist(), strict=True)]
    if newer.about.card.size > size:
        found.append(Extent(size, newer.about.card.size - size))
    return joined(found)


def _pieces(manifest: Manifest) -> NDArray[np.int64]:
    """Rows (start, end on the card, first bytes of the chunk’s name, byte of the chunk) in order."""
    names = prefixes_of(manifest.names).astype(np.uint64).view(np.int64)
    rows = []
    for run in manifest.runs.tolist():
        start, length, tape = run
        if tape == UNREAD:
            rows.append(np.array([[start, start + length, -1, start]], np.int64))
            continue
        first = int(np.searchsorted(manifest.tape, tape, "right")) - 1
        last = int(np.searchsorted(manifest.tape, tape + length))
        begins = np.maximum(manifest.tape[first:last], tape)
        ends = np.minimum(manifest.tape[first + 1:last + 1], tape + length)
        rows.append(np.stack([start + begins - tape, start + ends - tape, names[first:last],
                              begins - manifest.tape[first:last]], axis=1))
    return np.concatenate(rows) if rows else np.zeros((0, 4), np.int64)


def _held(pieces: NDArray[np.int64], at: NDArray[np.int64]) -> NDArray[np.int64]:
    """What stands at some places: rows (name, byte of the chunk); NOTHING twice where nothing was kept."""
    if not len(pieces):
        return np.full((len(at), 2), NOTHING, np.int64)
    row = np.searchsorted(pieces[:, 0], at, "right") - 1
    inside = (row >= 0) & (at < pieces[np.maximum(row, 0), 1])
    row = np.maximum(row, 0)
    return np.where(inside[:, None], np.stack([pieces[row, 2], pieces[row, 3] + at - pieces[row, 0]], axis=1), NOTHING)
