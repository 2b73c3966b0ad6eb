"""What every place for sectors can do."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TypeAlias

from mosscrate.core.errors import MediumError

Buffer: TypeAlias = bytes | bytearray | memoryview
SECTOR = 512
ZEROS = bytes(1 << 20)


@dataclass(frozen=True)
class Extent:
    """A run of bytes; `is_hole` says that it is known to be zeros without reading it."""

    start: int
    length: int
    is_hole: bool = False

    @property
    def end(self) -> int:
        """The first byte behind the run."""
        return self.start + self.length


class Blocks:
    """Random access to bytes with a size and a sector size, both in bytes.

    Subclasses give `_read_into` and `_write`; offsets and lengths reach them already checked.
    """

    def __init__(self, size: int, *, sector: int = SECTOR, writable: bool = False, name: str = "") -> None:
        self.size, self.sector, self.writable, self.name = size, sector, writable, name
        self.container = "raw"                    # how the medium's bytes stand in what holds them

    def read(self, offset: int, length: int) -> bytes:
        """`length` bytes from `offset`. Raises MediumError, also where that leaves the medium."""
        return self._read(offset, self._within(offset, length))

    def _read(self, offset: int, length: int) -> bytes:
        """Where it can be had without a copy, a subclass gives this too: a copy holds up every other thread."""
        buffer = bytearray(length)
        self.read_into(offset, memoryview(buffer))
        return bytes(buffer)

    def read_into(self, offset: int, buffer: memoryview) -> None:
        """Fill the buffer from `offset` on. Raises MediumError."""
        self._within(offset, len(buffer))
        if len(buffer):
            self._read_into(offset, buffer)

    @property
    def has_end(self) -> bool:
        """Whether it ends at `size`; otherwise nobody knows where before all of it was read."""
        return True

    def read_some(self, offset: int, buffer: memoryview) -> int:
        """Bytes that there are from `offset` on, at least one unless it ends there; returns how many.

        Raises MediumError.
        """
        count = max(0, min(len(buffer), self.size - offset))
        if count:
            self.read_into(offset, buffer[:count])
        return count

    def write(self, offset: int, data: Buffer) -> None:
        """Write all of `data` at `offset`. Raises MediumError."""
        if not self.writable:
            raise MediumError(f"{self.name or 'This medium'} was opened for reading only.", offset)
        self._within(offset, len(data))
        if len(data):
            self._write(offset, data)

    def zero(self, offset: int, length: int) -> None:
        """Make a range read as zeros, by the cheapest way there is. Raises MediumError."""
        for at in range(offset, offset + length, len(ZEROS)):
            self.write(at, memoryview(ZEROS)[:offset + length - at])

    def forgo(self, extents: Sequence[Extent]) -> None:
        """Say which stretches hold nothing that anybody could want back, so that no journal saves them."""

    def foreswap(self, extent: Extent, old: Buffer) -> None:
        """Say that the bytes of every word of a stretch will be exchanged; a journal need only know `old` again."""

    def extents(self) -> Iterator[Extent]:
        """Data and holes in ascending order, without gaps; all data where that is not known."""
        yield Extent(0, self.size)

    def flush(self) -> None:
        """Return when everything written so far is on the medium itself."""

    def begin_flush(self, offset: int, length: int) -> None:
        """Let what was written to a range go to the medium now, without waiting for it."""

    def confirm(self) -> None:
        """After all of it was read in order: raises MediumError where its own checksums say that it was damaged."""

    def drop_cache(self) -> None:
        """Let the next reads come from the medium, not from memory, where that can be had."""

    def refuse_marks(self) -> None:
        """From now on a read that meets marks of an interrupted proof raises InProof: they are no contents."""

    def read_directly(self) -> None:
        """From now on read sector by sector past the system's memory, where that can be had and nothing is written."""

    def write_through(self) -> None:
        """From now on each write returns when it is on the medium: what fails is known by its place."""

    @property
    def changed_at(self) -> int:
        """Another number after every change: of a file when that was, of a device how much was written so far.

        0 where nothing says so.
        """
        return 0

    def now(self) -> float:
        """Seconds of the clock by which its commands are timed."""
        return time.monotonic()

    def will_need(self, offset: int, length: int) -> None:
        """Let the system begin to read what will be asked for soon; ranges may leave the medium."""

    def close(self) -> None:
        """Let go of the medium."""

    def __enter__(self) -> Blocks:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def _within(self, offset: int, length: int) -> int:
        if offset < 0 or length < 0 or offset + length > self.size:
            raise MediumError(
                f"{self.name or 'The medium'} ends at byte {self.size}; "
                f"{length} bytes at byte {offset} lie outside.", offset)
        return length

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        raise NotImplementedError

    def _write(self, offset: int, data: Buffer) -> None:
        raise NotImplementedError


class View(Blocks):
    """Blocks that stand in front of other blocks and pass everything on unless told otherwise."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner.size, sector=inner.sector, writable=inner.writable, name=inner.name)
        self.inner = inner
        self.container = inner.container

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self._within(offset, length)
        self.inner.zero(offset, length)

    def forgo(self, extents: Sequence[Extent]) -> None:
        """See Blocks."""
        self.inner.forgo(extents)

    def foreswap(self, extent: Extent, old: Buffer) -> None:
        """See Blocks."""
        self.inner.foreswap(extent, old)

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        return self.inner.extents()

    def flush(self) -> None:
        """See Blocks."""
        self.inner.flush()

    def begin_flush(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.inner.begin_flush(offset, length)

    def confirm(self) -> None:
        """See Blocks."""
        self.inner.confirm()

    def drop_cache(self) -> None:
        """See Blocks."""
        self.inner.drop_cache()

    def refuse_marks(self) -> None:
        """See Blocks."""
        self.inner.refuse_marks()

    def read_directly(self) -> None:
        """See Blocks."""
        self.inner.read_directly()

    def write_through(self) -> None:
        """See Blocks."""
        self.inner.write_through()

    def now(self) -> float:
        """See Blocks."""
        return self.inner.now()

    def will_need(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.inner.will_need(offset, length)

    def close(self) -> None:
        """See Blocks."""
        self.inner.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        self.inner.write(offset, data)


class FullView(View):
    """A view of all of other blocks that ends where they end; `_seen` is given what passes, to look at or to change."""

    @property
    def has_end(self) -> bool:
        """See Blocks."""
        return self.inner.has_end

    def read_some(self, offset: int, buffer: memoryview) -> int:
        """See Blocks."""
        count = self.inner.read_some(offset, buffer)
        self._seen(offset, buffer[:count])
        self.size = self.inner.size
        return count

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        self._seen(offset, buffer)

    def _seen(self, offset: int, data: memoryview) -> None:
        raise NotImplementedError
