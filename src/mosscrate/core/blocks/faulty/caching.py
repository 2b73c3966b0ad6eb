"""The memory of a card: what was written or read last is answered by its address, wherever that leads."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from mosscrate.core.blocks.faulty.description import Cache
from mosscrate.core.blocks.faulty.holding import BLOCK
from mosscrate.core.blocks.faulty.state import CardState, Held

Read = Callable[[int, int], bytes]                   # address, length: past the cache
Write = Callable[[int, bytes], None]


class Caching:
    """Holds whole blocks until others need their room; then they go where their addresses lead."""

    def __init__(self, cache: Cache, state: CardState, read: Read, write: Write) -> None:
        self.cache, self.held, self._read, self._write = cache, state.cached, read, write

    def read_into(self, offset: int, buffer: memoryview) -> None:
        """What a reader is told."""
        for number, at, start, count in _blocks(offset, len(buffer)):
            data = self._at_hand(number)
            if data is None:
                data = self._read(number * BLOCK, BLOCK)
                if self.cache.counts_reads:
                    self._hold(Held(number, data, is_new=False))
            buffer[at:at + count] = data[start:start + count]

    def write(self, offset: int, data: memoryview) -> None:
        """What is written."""
        for number, at, start, count in _blocks(offset, len(data)):
            block = bytes(data[at:at + count])
            if count < BLOCK:
                old = self._at_hand(number) or self._read(number * BLOCK, BLOCK)
                block = old[:start] + block + old[start + count:]
            self._hold(Held(number, block, is_new=True))

    def let_go(self) -> None:
        """Everything goes where it leads."""
        while self.held:
            self._evict(next(iter(self.held)))

    def _at_hand(self, number: int) -> bytes | None:
        key = self._key(number)
        found = self.held.get(key)
        if found is None or found.number != number:
            return None
        if self.cache.kind != "slot" and self.cache.counts_reads:
            self.held.move_to_end(key)
        return found.data

    def _hold(self, block: Held) -> None:
        key = self._key(block.number)
        old = self.held.get(key)
        if old is not None and old.number != block.number:
            self._evict(key)
        self.held.pop(key, None)
        self.held[key] = block
        while len(self.held) > self.cache.blocks:
            self._evict(next(iter(self.held)))

    def _evict(self, key: int) -> None:
        block = self.held.pop(key)
        if block.is_new:
            self._write(block.number * BLOCK, block.data)

    def _key(self, number: int) -> int:
        return number % self.cache.blocks if self.cache.kind == "slot" else number


def _blocks(offset: int, length: int) -> Iterator[tuple[int, int, int, int]]:
    """(number, where in what was asked for, where in the block, bytes) of every block that is touched."""
    at = 0
    while at < length:
        number, start = divmod(offset + at, BLOCK)
        count = min(BLOCK - start, length - at)
        yield number, at, start, count
        at += count
