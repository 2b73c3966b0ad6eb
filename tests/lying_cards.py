"""Random cards, honest and false, with room that takes no memory where nothing was written."""

from __future__ import annotations

import random
from dataclasses import dataclass

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.faulty import (
    AddressLine,
    Bad,
    Cache,
    Drop,
    FalseMiddle,
    Faults,
    FaultyBlocks,
    Fold,
    Repeat,
)

BLOCK = 4096
MIB = 1 << 20
STANDARD = 24 * MIB                    # the run of a proof here: sixteen times smaller than a real one, like the caches


class Room(Blocks):
    """Every block holds its own number until something else is written."""

    def __init__(self, size: int) -> None:
        super().__init__(size, writable=True, name="Pipkin")
        self.written: dict[int, bytes] = {}

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        first, last = offset // BLOCK, -(-(offset + len(buffer)) // BLOCK)
        numbers = np.repeat(np.arange(first, last, dtype=np.uint64)[:, None], BLOCK // 8, axis=1)
        whole = numbers.view(np.uint8).reshape(-1, BLOCK)
        for block in self.written.keys() & range(first, last) if len(self.written) < last - first else \
                (b for b in range(first, last) if b in self.written):
            whole[block - first] = np.frombuffer(self.written[block], np.uint8)
        buffer[:] = whole.reshape(-1)[offset - first * BLOCK:][:len(buffer)]

    def _write(self, offset: int, data) -> None:
        view = memoryview(data)
        at = 0
        while at < len(view):
            block, start = divmod(offset + at, BLOCK)
            count = min(BLOCK - start, len(view) - at)
            old = b"" if count == BLOCK else self.read(block * BLOCK, BLOCK)
            self.written[block] = old[:start] + bytes(view[at:at + count]) + old[start + count:]
            at += count

    @property
    def changed(self) -> list[int]:
        """Blocks that hold something else than at the beginning."""
        return sorted(b for b, data in self.written.items()
                      if data != np.full(BLOCK // 8, b, np.uint64).tobytes())


@dataclass
class Case:
    """A card, and what is true of it."""

    card: FaultyBlocks
    room: Room
    kind: str
    real: int                          # bytes; the size where it is honest
    is_honest: bool
    has_cache: bool = False

    @property
    def must_be_found(self) -> bool:
        """Whether the quick proof promises it: a false stretch in the middle folded somewhere is for the full one."""
        return not self.is_honest and self.kind != "folded middle"


def random_case(seed: int, largest: int = 250_000) -> Case:
    """A third of them honest, many of those with bad places. `largest` is the size in MiB that is claimed at most."""
    rnd = random.Random(seed)
    most = min(largest, rnd.choice([64, 4000, 4000, 30_000, 30_000, 250_000]))
    size = rnd.randrange(8, most) * MIB + rnd.choice([0, 0, 512 * rnd.randrange(8)])
    share = rnd.uniform(0.02, 0.95)
    unit = rnd.choice([512 * 8, 64 * 1024, MIB, 4 * MIB])
    real = max(4 * MIB, int(size * share) // unit * unit)
    if rnd.random() < 0.34:
        return _honest(rnd, size)
    cache = Cache(rnd.choice(["last-used", "slot", "volatile"]), rnd.choice([16, 256, 2048, 4096]),
                  rnd.random() < 0.5) if rnd.random() < 0.2 and size > 400 * MIB else None
    kind = rnd.choice(["fold", "fold", "upper fold", "drop", "drop", "drop reads fold", "repeat", "middle", "line",
                       "writes fold", "folded middle"])
    faults = _faults(kind, rnd, size, real)
    if kind == "writes fold":
        cache = None                   # behind a cache nothing can keep it from losing what a run hits
    if kind == "line":
        real = 1 << faults.address_line.bit
    if kind in ("middle", "folded middle"):
        real = faults.false_middle.start
    faults = Faults(cache=cache, **{name: getattr(faults, name) for name in (
        "fold", "drop", "address_line", "repeat", "false_middle")}, seed=seed)
    room = Room(size)
    return Case(FaultyBlocks(room, faults), room, kind, real, is_honest=False, has_cache=cache is not None)


def _honest(rnd: random.Random, size: int) -> Case:
    bad = ()
    if rnd.random() < 0.5:
        share = rnd.choice([0.0001, 0.001, 0.01, 0.05])
        count = min(3000, max(1, int(size // BLOCK * share / 4)))
        bad = tuple(Bad(rnd.randrange(256, size // BLOCK - 4) * BLOCK, 4 * BLOCK, **rnd.choice([
            {"reading": True}, {"reading": True, "writing": True}, {"reading": False, "writing": True},
            {"reading": False, "silent": True}])) for _ in range(count))
    cache = Cache(rnd.choice(["last-used", "slot", "volatile"]), 256) if rnd.random() < 0.3 else None
    room = Room(size)
    return Case(FaultyBlocks(room, Faults(bad=bad, cache=cache)), room, "honest", size, is_honest=True)


def _faults(kind: str, rnd: random.Random, size: int, real: int) -> Faults:
    if kind == "fold":
        return Faults(fold=Fold(real))
    if kind == "writes fold":
        return Faults(fold=Fold(real, reads=False))
    if kind == "upper fold":
        return Faults(fold=Fold(real, start=real // rnd.randrange(2, 9) // BLOCK * BLOCK))
    if kind in ("drop", "drop reads fold"):
        reads = "fold" if kind == "drop reads fold" else rnd.choice(["zeros", "ones", "random", "old"])
        return Faults(drop=Drop(real, reads=reads))
    if kind == "repeat":
        return Faults(repeat=Repeat(real))
    if kind == "line":
        line = rnd.randrange(22, max(23, (size - 1).bit_length() - 1))
        return Faults(address_line=AddressLine(line, rnd.randrange(2)))
    first = int(size * rnd.uniform(0.1, 0.5)) // BLOCK * BLOCK
    length = int(size * rnd.uniform(0.15, 0.4)) // BLOCK * BLOCK
    by = rnd.randrange(1, first // BLOCK) * BLOCK if kind == "folded middle" else 0
    return Faults(false_middle=FalseMiddle(first, first + length, by=by))
