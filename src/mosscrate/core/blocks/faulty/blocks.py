"""Blocks that misbehave as told."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator

from mosscrate.core.blocks.base import Blocks, Buffer, Extent, View
from mosscrate.core.blocks.faulty.caching import Caching
from mosscrate.core.blocks.faulty.description import Bad, Faults
from mosscrate.core.blocks.faulty.holding import BLOCK, Holding
from mosscrate.core.blocks.faulty.state import CardState
from mosscrate.core.errors import Gone, MediumError


class FaultyBlocks(View):
    """A card over the room that it really has. Its clock is counted, not waited for.

    Args:
        inner: the room; as large as the card claims to be, so that what is beyond can be told apart.
        faults: what is wrong.
        state: from an earlier opening.
    """

    def __init__(self, inner: Blocks, faults: Faults, state: CardState | None = None) -> None:
        super().__init__(inner)
        self.faults = faults
        self.state = state or CardState(chance=random.Random(faults.seed))
        self._holding = Holding(faults, inner.size)
        self._caching = Caching(faults.cache, self.state, self._read_through, self._write_through) \
            if faults.cache else None

    @property
    def writes(self) -> int:
        """Commands that wrote."""
        return self.state.writes

    def now(self) -> float:
        """See Blocks: the card's own clock, where it has one."""
        return self.state.seconds if self.faults.speed else time.monotonic()

    def zero(self, offset: int, length: int) -> None:
        """See Blocks: a hole where its room can have one."""
        if not self._is_plain:
            super(View, self).zero(offset, length)
            return
        self._before_writing(offset, length)
        for run in self._holding.runs(offset, length, writing=True):
            if run.place is not None:
                self.inner.zero(run.place, run.length)
        self.state.written += length

    def extents(self) -> Iterator[Extent]:
        """See Blocks: a card whose addresses lead elsewhere has no holes that could be told."""
        return self.inner.extents() if self._is_plain else super(View, self).extents()

    @property
    def _is_plain(self) -> bool:
        """Whether every address that is held leads to itself, at once, and the others to zeros."""
        f = self.faults
        return not (f.cache or f.address_line or f.fold or f.repeat or f.false_middle) and (
            f.drop is None or f.drop.reads == "zeros")

    def close(self) -> None:
        """See Blocks; what is in its cache goes where it belongs, as long as it has power."""
        if self._caching is not None and self.faults.cache is not None and self.faults.cache.kind != "volatile":
            self._caching.let_go()
        super().close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self._be_there(offset)
        self._spend(offset, len(buffer), writing=False)
        self._meet_bad(offset, len(buffer), writing=False)
        if self._caching is not None:
            self._caching.read_into(offset, buffer)
        else:
            self._past_cache(offset, buffer)
        self.state.read += len(buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        view = memoryview(data).cast("B")
        self._before_writing(offset, len(view))
        if self._caching is not None:
            self._caching.write(offset, view)
        else:
            self._write_through(offset, view)
        self.state.written += len(view)

    def _before_writing(self, offset: int, length: int) -> None:
        self._be_there(offset)
        limit = self.faults.read_only_after
        if limit is not None and self.state.written >= limit:
            raise MediumError(f"{self.name} cannot be written at byte {offset}: it is write-protected.", offset)
        self._spend(offset, length, writing=True)
        self.state.writes += 1
        self._meet_bad(offset, length, writing=True)

    def _read_through(self, offset: int, length: int) -> bytes:
        buffer = bytearray(length)
        self._past_cache(offset, memoryview(buffer))
        return bytes(buffer)

    def _past_cache(self, offset: int, buffer: memoryview) -> None:
        for run in self._holding.runs(offset, len(buffer), writing=False):
            part = buffer[run.at:run.at + run.length]
            if run.place is not None:
                self.inner.read_into(run.place, part)
            else:
                part[:] = self._nothing(run.length)

    def _write_through(self, offset: int, data: bytes | memoryview) -> None:
        view = memoryview(data)
        for run in self._holding.runs(offset, len(view), writing=True):
            if run.place is not None:
                self._write_cells(run.place, view[run.at:run.at + run.length])

    def _write_cells(self, place: int, data: memoryview) -> None:
        """Where nothing sticks, nothing is written, and nobody is told."""
        at, end = place, place + len(data)
        for bad in self.faults.bad:
            if bad.silent and self.state.seconds >= bad.after and bad.start < end and at < bad.start + bad.length:
                if bad.start > at:
                    self.inner.write(at, data[at - place:bad.start - place])
                at = bad.start + bad.length
        if at < end:
            self.inner.write(at, data[at - place:])

    def _nothing(self, length: int) -> bytes:
        """What is read where nothing is held."""
        kind = self.faults.drop.reads if self.faults.drop else "zeros"
        if kind == "random":
            return self.state.chance.randbytes(length)
        return (b"\xff" if kind == "ones" else b"\0") * length

    def _meet_bad(self, offset: int, length: int, *, writing: bool) -> None:
        """Raises MediumError at the first bad place of a command."""
        for bad in sorted((*self.faults.bad, *self.state.worse), key=lambda each: each.start):
            is_meant = bad.writing if writing else bad.reading and not bad.silent
            if not is_meant or self.state.seconds < bad.after or bad.start >= offset + length \
                    or bad.start + bad.length <= offset:
                continue
            self.state.seconds += bad.seconds
            if not writing and bad.comes_back and self.state.chance.random() < bad.comes_back:
                continue
            at = max(offset, bad.start)
            if not writing and self.faults.worsens and self.state.chance.random() < self.faults.worsens:
                self.state.worse.append(Bad(bad.start + bad.length, BLOCK, seconds=bad.seconds))
            raise MediumError(f"{self.name} cannot be {'written' if writing else 'read'} at byte {at}: the medium "
                              "reports an error there.", at)

    def _spend(self, offset: int, length: int, *, writing: bool) -> None:
        """The time that a command takes."""
        speed, state = self.faults.speed, self.state
        while state.stalled < len(self.faults.stalls) and \
                state.read + state.written >= self.faults.stalls[state.stalled].after:
            state.seconds += self.faults.stalls[state.stalled].seconds
            state.stalled += 1
        if speed is None:
            return
        rate, taken = speed.writing if writing else speed.reading, float(length)
        for slow in self.faults.slow:
            shared = min(offset + length, slow.start + slow.length) - max(offset, slow.start)
            taken += max(0, shared) * (slow.factor - 1)
        state.seconds += speed.command + taken / rate

    def _be_there(self, offset: int) -> None:
        """Raises MediumError where it was pulled, or is dead."""
        f, state = self.faults, self.state
        if (f.pulled_after_writes is not None and state.writes >= f.pulled_after_writes) or \
                (f.pulled_after is not None and state.written >= f.pulled_after):
            raise Gone(f"{self.name} was pulled: it is no longer there.", offset)
        if (f.dies_after is not None and state.written + state.read >= f.dies_after) or \
                (f.dies_at is not None and state.seconds >= f.dies_at):
            raise MediumError(f"{self.name} does not answer any more at byte {offset}.", offset)
