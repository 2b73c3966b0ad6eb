"""Small cards that lie in small ways: by steps of a sector, in single bytes, in stretches that hold nothing."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.size import Journal, Verdict, prove_size
from mosscrate.core.proof.size.whole import prove_whole
from mosscrate.core.watch import Watch

KIB, MIB, BLOCK = 1 << 10, 1 << 20, 4096
KINDS = ("honest", "fold", "answers", "silent", "dead", "flips")


@dataclass
class OddCard:
    """A card, what is true of it, and what it held. `real` is where room ends; `dead` are bytes that do not hold."""

    card: MemoryBlocks
    kind: str
    real: int
    dead: tuple[int, ...]
    before: bytes


class Room(MemoryBlocks):
    """`size` bytes are claimed; those from `real` on are others, a `step` repeating; some bytes do not hold."""

    def __init__(self, size: int, real: int, step: int, seed: int, dead: dict[int, int]) -> None:
        self.real, self.step, self.dead = real, step, dead
        super().__init__(np.random.default_rng(seed).bytes(real), name="Pipkin")
        self.size = size

    def _pieces(self, offset: int, length: int):
        at = offset
        while at < offset + length:
            if at < self.real:
                end, place = min(self.real, offset + length), at
            else:
                turn = (at - self.real) % self.step
                end, place = min(at + self.step - turn, offset + length), self.real - self.step + turn
            yield at - offset, place, end - at
            at = end

    def _read(self, offset: int, length: int) -> bytes:
        return b"".join(bytes(self.data[place:place + count]) for _, place, count in self._pieces(offset, length))

    def _read_into(self, offset: int, buffer) -> None:
        buffer[:] = self._read(offset, len(buffer))

    def _write(self, offset: int, data) -> None:
        view = memoryview(data)
        for at, place, count in self._pieces(offset, len(data)):
            old = {byte: self.data[byte] for byte in self.dead if place <= byte < place + count}
            self.data[place:place + count] = view[at:at + count]
            for byte, was in old.items():
                flip = self.dead[byte]
                self.data[byte] = self.data[byte] ^ flip if flip else was


def odd_case(seed: int) -> OddCard:
    """One of each kind in turn."""
    rnd = random.Random(seed)
    kind = KINDS[seed % len(KINDS)]
    size = rnd.choice((64 * KIB, 200 * KIB, MIB, 3 * MIB, 9 * MIB, 20 * MIB)) + rnd.choice((0, 512, 3584))
    real, step, dead = size, 1, dict[int, int]()
    if kind == "fold":
        real = max(4096, int(size * rnd.uniform(0.1, 0.9)) // 512 * 512)
        step = real
    elif kind == "answers":
        real = max(8192, int(size * rnd.uniform(0.1, 0.9)) // 512 * 512)
        step = 512 * rnd.randint(1, 7)
    elif kind == "silent":
        first, length = rnd.randrange(size // BLOCK) * BLOCK, rnd.choice((512, BLOCK, 64 * KIB, 400 * KIB))
        dead = dict.fromkeys(range(first, min(size // BLOCK * BLOCK, first + length)), 0)
    elif kind in ("dead", "flips"):
        first = rnd.randrange(size // BLOCK * BLOCK)
        count = rnd.choice((9, 60, 14_336)) if kind == "dead" else 1
        dead = {byte: 1 << rnd.randrange(8) if kind == "flips" else 0
                for byte in range(first, min(size // BLOCK * BLOCK, first + count))}
    card = Room(size, real, step, seed, dead)
    return OddCard(card, kind, real, tuple(dead), bytes(card.data))


def judged(seed: int, folder: Path) -> list[str]:
    """What both proofs say wrongly of a card, and what they leave otherwise on it."""
    found = []
    for how in ("quick", "full"):
        case = odd_case(seed)
        journal = Journal.begin(folder / f"{seed} {how}", "key", "Pipkin", "ABCD", case.card.size, 0)
        verdict = prove_size(case.card, journal, Watch()) if how == "quick" else prove_whole(
            case.card, journal, Watch(), nonce=journal.nonce, writes=DepthLog(case.card.size),
            reads=DepthLog(case.card.size))
        journal.close()
        found += [f"{case.kind}, {how}: {what}" for what in _wrong(case, verdict, how)]
    return found


def _wrong(case: OddCard, verdict: Verdict, how: str) -> Iterator[str]:
    is_small_fault = case.kind not in ("fold", "answers") and len(case.dead) < max(BLOCK, case.card.size // 128)
    if is_small_fault and verdict.is_false:
        yield "called false"
    if case.kind == "honest" and (not verdict.is_good or bytes(case.card.data) != case.before):
        yield "an honest card is not good, or has other contents"
    if verdict.is_false and verdict.is_exact and case.kind in ("fold", "answers") and \
            abs(verdict.real - case.real) >= BLOCK:
        yield f"said exactly {verdict.real}, it is {case.real}"
    if how == "quick":
        if case.kind in ("fold", "answers") and case.card.size >= 8 * MIB and case.real < 0.9 * case.card.size \
                and not verdict.is_false:
            yield "not found"
        return
    if case.kind in ("fold", "answers") and not verdict.is_false:
        yield "not found"
    if case.dead and not verdict.is_false:
        named = {block for e in verdict.lost for block in range(e.start // BLOCK, -(-e.end // BLOCK))}
        if named != {byte // BLOCK for byte in case.dead}:
            yield f"names other blocks than those that do not hold: {sorted(named)[:5]}"
