"""Where marks are put and looked for, in each of the four steps. Block numbers; derived in docs/proof.md."""

from __future__ import annotations

import math
import random
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.proof_marks import BLOCK
from mosscrate.core.sizes import GIB, MIB

Numbers = NDArray[np.int64]
FIRST = MIB // BLOCK                       # below it is only read: map, boot code, tables
BASE = 3001
SCATTERED = 48
RUN = 384 * MIB                            # drives out every cache of up to two thirds of it
STRIDE = 128 * MIB                         # reads that find every fold of more than this


@dataclass(frozen=True)
class Plan:
    """One round.

    Attributes:
        name: "knock", "comb" or "run".
        single: blocks that are marked, in the order of writing; none twice.
        looked: blocks that are read besides, when the marks are there.
        run: first block and number of blocks of one contiguous stretch that is marked after the single ones; (0, 0)
            for none.
    """

    name: str
    single: Numbers
    looked: Numbers
    run: tuple[int, int] = (0, 0)


def knock(blocks: int, chance: random.Random) -> Plan:
    """Seven marks over the card and one in its last block; block 0 is looked at."""
    eighths = [blocks * k // 8 + chance.randrange(max(1, blocks // 9)) for k in range(1, 8)]
    return Plan("knock", _places([*eighths, blocks - 1], blocks), np.array([0]))


def comb(blocks: int, chance: random.Random) -> Plan:
    """Pairs that differ in one line of the address, some scattered marks, and the teeth from the end down."""
    last = blocks - 1
    single = [*_pairs(blocks, chance), *(chance.randrange(FIRST, blocks) for _ in range(SCATTERED))]
    step = tooth(blocks)
    width = max(1, round(math.sqrt(blocks / step / 5)))
    teeth = last - step * np.arange(width)
    looked = last - step * width * np.arange(1, last // (step * width) + 1)
    marked = _places([*single, *teeth.tolist()], blocks)
    return Plan("comb", marked, np.setdiff1d(np.append(looked, 0), marked))


def tooth(blocks: int) -> int:
    """Blocks from tooth to tooth: 1 MiB, less on cards below 4 GB."""
    return MIB // BLOCK if blocks * BLOCK >= 4 * GIB else max(1, blocks >> 14)


def run(blocks: int, chance: random.Random, length: int = RUN) -> Plan:
    """One long stretch at the top, an eighth of the card at most; then single looks all the way down."""
    count = min(length // BLOCK, blocks // 8, blocks - FIRST)
    stride = max(1, count // (RUN // STRIDE))
    first = blocks - count
    looked = np.arange(first - stride, -1, -stride)
    scattered = [chance.randrange(FIRST, max(FIRST + 1, first)) for _ in range(SCATTERED // 2)]
    return Plan("run", _places([*_pairs(first, chance), *scattered], first), np.append(looked, 0), (first, count))


def _pairs(blocks: int, chance: random.Random) -> list[int]:
    """Blocks of which two differ in one line of the address, for every line."""
    last, base = blocks - 1, BASE if blocks > 4 * BASE else FIRST + (blocks - FIRST) // 16
    high = chance.randrange(blocks // 2, blocks)
    pairs = [base, high]
    for line in range(blocks.bit_length()):
        pairs += [base + (1 << line), high ^ (1 << line), last - (1 << line)]
    return pairs


def _places(numbers: list[int], blocks: int) -> Numbers:
    """Each once, in their order, without what may not be marked."""
    kept = dict.fromkeys(n for n in numbers if FIRST <= n < blocks)
    return np.array(list(kept), np.int64)
