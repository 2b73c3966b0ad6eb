"""What steps do to a medium: write an image onto it, grow one of its partitions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mosscrate.core.blocks import Blocks, Window
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.blocks.streaming import chunks, copy, digest
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.maps import MapKind, PartitionMap, edits, mbr, read_map, write_map
from mosscrate.core.sizes import binary, exact
from mosscrate.core.volumes.fat import growing, open_fat
from mosscrate.core.watch import Watch

EDGE = 1 << 20


@dataclass(frozen=True)
class Grown:
    """Lengths of a partition in bytes, and the limit that stopped it short of what was asked."""

    before: int
    after: int
    limit: str = ""


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
    end = max((p.end for p in read_map(source).partitions), default=0)
    if end > target.size:
        raise FitError(f"{numbers} A partition reaches into what would be cut. Nothing was written; take a "
                       "larger card.")
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


def room_for(map_: PartitionMap, index: int, size: int) -> int:
    """Bytes a partition could have without moving anything: to the next one or the medium's end."""
    partition = map_.partition(index)
    behind = [p.start for p in map_.partitions if p.start >= partition.end]
    return min([*behind, size]) - partition.start


def grow_partition(blocks: Blocks, index: int, size: int | None, watch: Watch) -> Grown:
    """Grow a partition and the FAT volume on it.

    Args:
        blocks: the whole medium, with a journal below.
        index: number of the partition; 0 is a volume without a map.
        size: bytes wanted; None takes all the room behind it.
        watch: is told while clusters move and FATs are written.

    Raises:
        FitError: there is no room, or the volume cannot grow. Nothing was written.
        FormatError: the volume is damaged. Nothing was written.
    """
    map_ = read_map(blocks)
    try:
        partition = map_.partition(index)
    except StopIteration:
        raise FitError(f"There is no partition {index} to grow.") from None
    room = room_for(map_, index, blocks.size)
    length = (room if size is None else size) // blocks.sector * blocks.sector
    if length > room:
        raise FitError(f"Partition {index} can have {binary(room)} at most, {binary(length)} were asked for.")
    if map_.kind == MapKind.MBR:
        length = min(length, mbr.LARGEST * blocks.sector - partition.start)
    volume = open_fat(Window(blocks, partition.start, min(partition.length, room)))
    plan = growing.plan(volume, length)
    after = max(plan.size if plan.limit else length, partition.length)
    changed = edits.placed(map_, index, blocks.size, length=after)       # refuses before anything is written
    growing.grow(Window(blocks, partition.start, length), length, watch,
                 hidden_sectors=partition.start // blocks.sector if map_.kind == MapKind.MBR else None)
    write_map(blocks, changed)
    blocks.flush()
    return Grown(partition.length, after, plan.limit)
