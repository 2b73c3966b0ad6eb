"""Packing a disk in order: read ahead, packed on several threads, taken in the same order."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Generic, TypeVar

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.streaming import BLOCK, chunks
from mosscrate.core.watch import Watch

T = TypeVar("T")
THREADS = max(2, min(8, os.cpu_count() or 2))


@dataclass
class Pipeline(Generic[T]):
    """Packs a disk piece by piece.

    Attributes:
        source: the disk.
        piece: bytes of each piece; BLOCK is a multiple of it, or it of BLOCK.
        pack: makes something of one piece that is not all zeros, on any thread.
        watch: is told.
        digest: BLAKE3 of the disk, once it is through.
    """

    source: Blocks
    piece: int
    pack: Callable[[bytes], T]
    watch: Watch
    digest: str = ""
    _hasher: blake3 = field(default_factory=blake3)

    def __iter__(self) -> Iterator[tuple[int, T | None]]:
        """(number, packed) in order; None for zeros. Raises MediumError, Stopped."""
        pending: deque[tuple[int, Future[T] | None]] = deque()
        ahead = 4 * THREADS * max(1, BLOCK // self.piece)
        with ThreadPoolExecutor(THREADS, "pack") as pool, ThreadPoolExecutor(1, "hash") as hashing:
            try:
                for number, data in self._pieces(hashing):
                    pending.append((number, pool.submit(self.pack, data) if data is not None else None))
                    while len(pending) > ahead:
                        yield self._taken(pending)
                while pending:
                    yield self._taken(pending)
            finally:
                for _, future in pending:
                    if future is not None:
                        future.cancel()
        self.digest = self._hasher.hexdigest()

    @staticmethod
    def _taken(pending: deque[tuple[int, Future[T] | None]]) -> tuple[int, T | None]:
        number, future = pending.popleft()
        return number, future.result() if future is not None else None

    def _pieces(self, hashing: ThreadPoolExecutor) -> Iterator[tuple[int, bytes | None]]:
        """(number, bytes or None for zeros); a block is hashed before its buffer is used again."""
        number, size, held = 0, self.source.size, bytearray()
        for chunk in chunks(self.source, size):
            hashed = hashing.submit(self._hasher.update, chunk.bytes)
            if self.piece <= BLOCK:
                filled = self._filled(chunk.bytes) if chunk.data is not None else None
                for k, at in enumerate(range(0, chunk.length, self.piece)):
                    yield number, bytes(chunk.bytes[at:at + self.piece]) if filled and filled[k] else None
                    number += 1
            else:
                held += chunk.bytes
                if len(held) >= self.piece or chunk.start + chunk.length == size:
                    yield number, bytes(held) if np.frombuffer(held, np.uint8).any() else None
                    number, held = number + 1, bytearray()
            hashed.result()
            self.watch.progress("Writing the file", chunk.start + chunk.length, size)

    def _filled(self, data: memoryview) -> list[bool]:
        whole = len(data) // self.piece * self.piece
        words = np.frombuffer(data[:whole], np.uint64).reshape(-1, self.piece // 8)
        found = (np.bitwise_or.reduce(words, axis=1) != 0).tolist() if whole else []
        return [*found, *([any(data[whole:])] if whole < len(data) else [])]
