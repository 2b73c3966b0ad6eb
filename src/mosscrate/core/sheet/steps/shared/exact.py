"""A partition copied exactly into another place, and read back."""

from __future__ import annotations

from blake3 import blake3

from mosscrate.core.blocks import Window
from mosscrate.core.blocks.streaming import copy, digest
from mosscrate.core.errors import JobError
from mosscrate.core.sheet.steps.shared.moving import PIECE, used_of
from mosscrate.core.watch import Watch

NOT_EQUAL = "What was copied does not read back as it was. The source is untouched; take another card."


def exactly(window: Window, new: Window, *, is_mostly_room: bool, watch: Watch) -> int:
    """Copy a partition: of large modern volumes what is in use, of all others every byte."""
    if not is_mostly_room:
        copied = copy(window, new, window.size, watch, phase="Copying the partition", zeros=new.zero)
        new.flush()
        new.drop_cache()
        if digest(new, window.size, watch, phase="Reading it back") != copied.digest:
            raise JobError(NOT_EQUAL)
        return window.size
    pieces = [(e.start + at, min(PIECE, e.length - at)) for e in used_of(window) for at in range(0, e.length, PIECE)]
    total, done = sum(length for _, length in pieces), 0
    sent, arrived = blake3(), blake3()
    for start, length in pieces:
        data = window.read(start, length)
        sent.update(data)
        new.write(start, data)
        done += length
        watch.progress("Copying the partition", done, total)
    new.flush()
    new.drop_cache()
    for start, length in pieces:
        arrived.update(new.read(start, length))
        watch.progress("Reading it back", start, window.size)
    if arrived.digest() != sent.digest():
        raise JobError(NOT_EQUAL)
    return done
