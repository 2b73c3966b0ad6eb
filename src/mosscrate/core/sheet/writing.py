"""Writing a whole image onto a target: as it is, or with its last volume shrunk until it fits."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks, Overlay, Window
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.blocks.streaming import chunks, copy, digest
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.maps import MapKind, edits, read_map, write_map
from mosscrate.core.sheet.changes import EDGE, Done, shrink_partition
from mosscrate.core.sizes import binary, exact
from mosscrate.core.watch import Watch


class _HeadLast(View):
    """Holds the first MiB back until `settle`, so that a half-written card shows no map at all."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self._head = bytearray(min(EDGE, inner.size))

    def settle(self) -> None:
        """Write the head; everything else is on the medium already."""
        self.inner.flush()
        self.inner.write(0, self._head)
        self.inner.flush()

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        rest = max(offset, len(self._head))
        if rest < offset + length:
            self.inner.zero(rest, offset + length - rest)

    def _write(self, offset: int, data: Buffer) -> None:
        held = max(0, min(len(data), len(self._head) - offset))
        if held:
            self._head[offset:offset + held] = memoryview(data)[:held]
        if held < len(data):
            self.inner.write(offset + held, memoryview(data)[held:])


def length_that_fits(source: Blocks, target: Blocks, watch: Watch) -> int:
    """Bytes of the source to write. Raises FitError where more than unused zeros would be cut."""
    if source.size <= target.size:
        return source.size
    excess = source.size - target.size
    numbers = (f"The image has {exact(source.size)}, {target.name} has {exact(target.size)}: "
               f"{binary(excess)} too few.")
    map_ = read_map(source)
    end = max((p.end for p in map_.partitions), default=0)
    if end > target.size or map_.kind == MapKind.GPT:
        raise FitError(f"{numbers} A partition or its map reaches into what would be cut. Nothing was written; take a "
                       "larger card, or let the last volume be shrunk first.")
    for chunk in chunks(Window(source, target.size, excess), excess):
        if any(np.frombuffer(data, np.uint8).any() for _, data in chunk.data_runs()):
            raise FitError(f"{numbers} What would be cut is not empty. Nothing was written; take a larger card.")
        watch.check()
    return target.size


def write_image(source: Blocks, target: Blocks, watch: Watch, *, verify: bool) -> int:
    """Write a source onto a target from its first byte; returns the bytes covered.

    The head with the map goes last; old maps at the target's end are cleared.

    Raises:
        FitError: it does not fit; nothing was written.
        JobError: it does not read back equal.
    """
    length = length_that_fits(source, target, watch)
    target.zero(0, min(EDGE, target.size))
    if target.size - length > 0:
        start = max(length, target.size - EDGE)
        target.zero(start, target.size - start)
    target.flush()
    held = _HeadLast(target)
    copied = copy(source, held, length, watch, phase=f"Writing {target.name}", zeros=held.zero)
    held.settle()
    if verify:
        target.drop_cache()
        if digest(target, length, watch, phase=f"Reading {target.name} back") != copied.digest:
            raise JobError(f"{target.name} does not read back as it was written. It may be failing or smaller "
                           "than it says; the source is untouched.")
    return length


def write_fitted(source: Blocks, target: Blocks, watch: Watch) -> Done:
    """Write a source whose last volume is shrunk on a view until the image fits. Raises FitError."""
    map_ = read_map(source)
    last = max(map_.partitions, key=lambda p: p.end, default=None)
    if last is None or map_.kind not in (MapKind.MBR, MapKind.GPT, MapKind.NONE):
        raise FitError("The source has no partition that could be shrunk to make it fit.")
    with Overlay(source) as view:
        end = edits.room(map_, target.size).end if map_.kind != MapKind.NONE else target.size
        if last.end > end:
            shrink_partition(view, last.index, end - last.start, watch)
        short = Window(view, 0, target.size)
        if map_.kind == MapKind.GPT:
            write_map(short, read_map(view))
        length = write_image(short, target, watch, verify=False)
    return Done(f"{binary(length)} written onto {target.name}; the last partition was shrunk to fit.", length)
