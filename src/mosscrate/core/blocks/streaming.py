"""Whole media in order: read ahead, hash and write at the same time, over buffers that are reused.

A reader thread fills the next buffers while the current one is hashed on a second thread and
written on the caller's. Zero runs are found while a buffer is warm and are never written as data.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks.base import Blocks, Extent
from mosscrate.core.blocks.runs import joined, runs_of
from mosscrate.core.blocks.witnesses import Witnesses
from mosscrate.core.errors import BrokenOff, MediumError
from mosscrate.core.watch import Watch

BLOCK = 4 << 20
GRAIN = 64 << 10              # zero runs are told apart at this size
BUFFERS = 4
AHEAD = 8 * BLOCK             # the system is told so far ahead what comes next
Marks: TypeAlias = dict[int, bytes]     # byte at which a block begins, its BLAKE3
_ZERO_BLOCK = memoryview(bytes(BLOCK))


@dataclass(frozen=True)
class Chunk:
    """One block read: `data` is valid until the next one is asked for, None stands for zeros."""

    start: int
    length: int
    data: memoryview | None
    unreadable: tuple[Extent, ...] = ()

    @property
    def bytes(self) -> memoryview:
        """Its bytes, zeros too; valid as long as `data` is."""
        return _ZERO_BLOCK[:self.length] if self.data is None else self.data[:self.length]

    def data_runs(self) -> Iterator[tuple[int, memoryview]]:
        """(offset, bytes) of the runs that are not zeros, in whole grains."""
        if self.data is None:
            return
        words = np.frombuffer(self.data[:self.length // GRAIN * GRAIN], np.uint64).reshape(-1, GRAIN // 8)
        filled = np.append(np.bitwise_or.reduce(words, axis=1) != 0, self.length % GRAIN != 0)
        edges = runs_of(filled)
        for first, last in edges.tolist():
            begin, end = first * GRAIN, min(last * GRAIN, self.length)
            yield self.start + begin, self.data[begin:end]


@dataclass(frozen=True)
class Copied:
    """What a copy did. `digest` is BLAKE3 over all bytes, zeros and holes included."""

    length: int
    written: int
    digest: str
    unreadable: tuple[Extent, ...]


def chunks(source: Blocks, length: int, *, mend: bool = False) -> Iterator[Chunk]:
    """The first `length` bytes in blocks, read ahead. Raises MediumError.

    Args:
        source: what is read.
        length: bytes from the start.
        mend: go on over what cannot be read, as long as the source is there; the chunk names it and holds zeros there.
    """
    return _read_ahead(source, _blocks_of(source, length), _Mending(source) if mend else _read_strict)


def chunks_to_end(source: Blocks) -> Iterator[Chunk]:
    """All of it in the same way, wherever it ends. Raises MediumError."""
    endless = (Extent(start, BLOCK) for start in itertools.count(0, BLOCK))
    return itertools.takewhile(lambda chunk: chunk.length > 0, _read_ahead(source, endless, _read_what_there_is))


def _read_ahead(source: Blocks, extents: Iterable[Extent],
                read: Callable[[Blocks, Extent, memoryview], Chunk]) -> Iterator[Chunk]:
    buffers = [memoryview(bytearray(BLOCK)) for _ in range(BUFFERS)]
    pending: deque[Future[Chunk]] = deque()
    with ThreadPoolExecutor(1, "read-ahead") as reader:
        try:
            for number, extent in enumerate(extents):
                pending.append(reader.submit(read, source, extent, buffers[number % BUFFERS]))
                if len(pending) == BUFFERS - 1:
                    yield pending.popleft().result()
            while pending:
                yield pending.popleft().result()
        finally:
            for future in pending:
                future.cancel()


def read_pieces(source: Blocks, pieces: Sequence[Extent]) -> Iterator[memoryview]:
    """The bytes of each piece, the next one read meanwhile; a buffer is used again two pieces later.

    Raises MediumError.
    """
    if not pieces:
        return
    size = max(piece.length for piece in pieces)
    buffers = [memoryview(bytearray(size)) for _ in range(min(2, len(pieces)))]

    def read(number: int) -> memoryview:
        data = buffers[number % 2][:pieces[number].length]
        source.read_into(pieces[number].start, data)
        return data

    with ThreadPoolExecutor(1, "read-ahead") as reader:
        coming = reader.submit(read, 0)
        for number in range(1, len(pieces)):
            data = coming.result()
            coming = reader.submit(read, number)
            yield data
        yield coming.result()


def copy(source: Blocks, target: Blocks, length: int, watch: Watch, *, phase: str,
         zeros: Callable[[int, int], None] | None = None, mend: bool = False, marks: Marks | None = None) -> Copied:
    """Copy the first `length` bytes of `source` to the start of `target`. Raises MediumError, Stopped.

    Args:
        source: what is read.
        target: what is written; not flushed.
        length: bytes.
        watch: is told after every block.
        phase: what the onlooker is told.
        zeros: called with (offset, length) for zero runs; None leaves the target as it is there.
        mend: go on over what cannot be read.
        marks: gets a digest of every block that is not zeros, for `reads_back`.
    """
    def tell(at: int) -> None:
        watch.progress(phase, at, length)

    return put(chunks(source, length, mend=mend), target, tell, zeros=zeros, marks=marks)


def put(pieces: Iterable[Chunk], target: Blocks, tell: Callable[[int], None], *,
        zeros: Callable[[int, int], None] | None = None, marks: Marks | None = None) -> Copied:
    """The same for what is read elsewhere; `tell` is given the byte that was reached."""
    hasher = blake3()
    written = at = 0
    bad: list[Extent] = []
    with ThreadPoolExecutor(1, "hash") as pool:
        for chunk in pieces:
            hashed = pool.submit(_hash, hasher, chunk, marks)
            at = chunk.start
            for start, data in chunk.data_runs():
                if zeros and start > at:
                    zeros(at, start - at)
                target.write(start, data)
                written += len(data)
                at = start + len(data)
            end = chunk.start + chunk.length
            if zeros and at < end:
                zeros(at, end - at)
            at = end
            target.begin_flush(chunk.start, chunk.length)
            bad += chunk.unreadable
            hashed.result()
            tell(at)
    return Copied(at, written, hasher.hexdigest(), tuple(bad))


def digest(source: Blocks, length: int, watch: Watch, *, phase: str) -> str:
    """BLAKE3 of the first `length` bytes, read from the medium itself. Raises MediumError, Stopped."""
    hasher = blake3(max_threads=blake3.AUTO)
    for chunk in chunks(source, length):
        _hash(hasher, chunk)
        watch.progress(phase, chunk.start + chunk.length, length)
    return hasher.hexdigest()


def reads_back(target: Blocks, length: int, marks: Marks, watch: Watch, *, phase: str) -> bool:
    """Whether a target holds what was copied: blocks by their marks, zeros elsewhere. Raises MediumError, Stopped.

    The same as comparing digests of all of it, but zeros need not be hashed again.
    """
    for chunk in chunks(target, length):
        mark = marks.get(chunk.start)
        is_zero = chunk.data is None or not np.frombuffer(chunk.bytes, np.uint8).any() if mark is None else False
        if not is_zero and (mark is None or blake3(chunk.bytes, max_threads=blake3.AUTO).digest() != mark):
            return False
        watch.progress(phase, chunk.start + chunk.length, length)
    return True


def _hash(hasher: blake3, chunk: Chunk, marks: Marks | None = None) -> None:
    hasher.update(chunk.bytes)
    if marks is not None and chunk.data is not None and np.frombuffer(chunk.bytes, np.uint8).any():
        marks[chunk.start] = blake3(chunk.bytes).digest()


def _blocks_of(source: Blocks, length: int) -> Iterator[Extent]:
    """Blocks in order; a block that lies wholly in a hole is a hole."""
    holes = iter([e for e in source.extents() if e.is_hole])
    hole = next(holes, None)
    for start in range(0, length, BLOCK):
        size = min(BLOCK, length - start)
        while hole and hole.end < start + size:
            hole = next(holes, None)
        yield Extent(start, size, is_hole=bool(hole and hole.start <= start))


def _read_strict(source: Blocks, extent: Extent, buffer: memoryview) -> Chunk:
    if extent.is_hole:
        return Chunk(extent.start, extent.length, None)
    source.will_need(extent.start + AHEAD, BLOCK)
    data = buffer[:extent.length]
    source.read_into(extent.start, data)
    return Chunk(extent.start, extent.length, data)


def _read_what_there_is(source: Blocks, extent: Extent, buffer: memoryview) -> Chunk:
    done = 0
    while done < extent.length and (count := source.read_some(extent.start + done, buffer[done:extent.length])):
        done += count
    return Chunk(extent.start, done, buffer[:done])


class _Mending:
    """Reads over what cannot be read. Raises MediumError where the source is gone."""

    def __init__(self, source: Blocks) -> None:
        self._witnesses = Witnesses(source)

    def __call__(self, source: Blocks, extent: Extent, buffer: memoryview) -> Chunk:
        try:
            chunk = _read_strict(source, extent, buffer)
        except BrokenOff:
            raise
        except MediumError:
            if not self._witnesses.is_there():
                raise
            data = buffer[:extent.length]
            bad = read_around(source, extent, data)
            self._witnesses.saw_around(extent, bad)
            return Chunk(extent.start, extent.length, data, tuple(bad))
        if not extent.is_hole:
            self._witnesses.saw(extent.start)
        return chunk


STEPS = (64 << 10, 4 << 10)             # parts of a command that failed: each failure may take seconds


def read_around(source: Blocks, extent: Extent, data: memoryview) -> list[Extent]:
    """Fill `data` but for the sectors that cannot be read, which become zeros and are told, neighbours as one.

    One bad sector costs four commands that fail: the whole, then the part of each size where it lies. They go past
    the system's memory, which knows whole pages only. Raises BrokenOff: of a packed stream there is nothing left.
    """
    try:
        source.read_into(extent.start, data)
        return []
    except BrokenOff:
        raise
    except MediumError:
        source.read_directly()
        return joined(parts_around(source, extent, data))


def parts_around(source: Blocks, extent: Extent, data: memoryview) -> list[Extent]:
    """What cannot be read of a stretch that has failed as a whole."""
    if extent.length <= source.sector:
        data[:] = bytes(extent.length)
        return [extent]
    step = next((step for step in STEPS if source.sector < step < extent.length), source.sector)
    bad, at = list[Extent](), extent.start
    while at < extent.end:
        end = min(extent.end, (at // step + 1) * step)
        part = data[at - extent.start:end - extent.start]
        try:
            source.read_into(at, part)
        except BrokenOff:
            raise
        except MediumError:
            bad += parts_around(source, Extent(at, end - at), part)
        at = end
    return bad
