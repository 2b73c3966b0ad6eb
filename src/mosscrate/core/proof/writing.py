"""Does a card take what is written? Every stretch is marked, read back, and given its contents again.

One stretch at a time: what stands there is in the journal before the first mark, and back before the next one begins.
The first MiB, with map and boot code, is left alone. The size of the card is proved before: where writes lead
elsewhere, contents could be lost.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.blocks.proof_marks import BLOCK, NONE, TORN
from mosscrate.core.blocks.runs import joined
from mosscrate.core.contents import Layout
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import Hit, hits, named
from mosscrate.core.proof.size.journal import Journal
from mosscrate.core.proof.size.plans import FIRST, Numbers, Plan
from mosscrate.core.proof.size.rounds import PIECE, Rounds
from mosscrate.core.sizes import MIB, binary, counted, rate
from mosscrate.core.watch import Watch

STRETCH = 32 * MIB
TIMED = 64 << 10                         # shorter commands say little about speed


@dataclass(frozen=True)
class Wear:
    """What a writing pass found.

    Attributes:
        writes, reads: speeds, and places that failed.
        lost: stretches that took what was written and did not hold it.
        hits: files on places that failed or did not hold.
        not_back: bytes from the start of blocks that did not take their contents back; these are still held.
    """

    writes: DepthLog
    reads: DepthLog
    lost: tuple[Extent, ...]
    hits: tuple[Hit, ...]
    not_back: tuple[int, ...] = ()

    @property
    def is_sound(self) -> bool:
        """Whether all of it took what was written, and held it."""
        return not (self.writes.bad or self.lost or self.not_back)

    def sentence(self, name: str) -> str:
        """The verdict with its reason, and what became of the contents."""
        speeds = f"written at {rate(self.writes.rate)} and read at {rate(self.reads.rate)}" \
            if self.writes.rate and self.reads.rate else "too quickly to be measured"
        if self.is_sound:
            return f"All of {name} takes and holds what is written; it was {speeds}. Everything on it is as it was."
        told = [f"{name} is failing or worn:"]
        bad, lost = self.writes.bad, self.lost
        if bad:
            told.append(f"{counted(len(bad), 'place')}, the first at byte {bad[0].start:,}, cannot be written or read;")
        if lost:
            told.append(f"{counted(len(lost), 'place')}, {binary(sum(e.length for e in lost))} in all and the first at "
                        f"byte {lost[0].start:,}, did not hold what was written;")
        told.append(f"{named(self.hits)} {'lies' if len(self.hits) == 1 else 'lie'} there." if self.hits else
                    "no file lies there.")
        if self.not_back:
            told.append(f"{counted(len(self.not_back), 'block')} did not take back what stood there, the first at byte "
                        f"{self.not_back[0]:,}; it is kept aside, and “Put back” tries again.")
        else:
            told.append("Everything on it is as it was.")
        return " ".join([*told, "Keep it now and use another card."])


def write_all(card: Blocks, journal: Journal, layout: Layout | None, watch: Watch, log: DepthLog | None = None) -> Wear:
    """Mark every block but the first MiB, stretch by stretch, and leave contents as they were.

    Whatever happens, what was on the card is in the journal until it is back.

    Args:
        card: open for writing, everybody else kept out.
        journal: a new one.
        layout: as surveyed before, so that files can be named.
        watch: is told; stopping puts the stretch at hand back first.
        log: of writing, to be filled and drawn meanwhile.

    Raises:
        MediumError: the card is gone.
        JobError: what stands there cannot be kept.
        Stopped: everything is back.
    """
    writes, reads = log or DepthLog(card.size), DepthLog(card.size)
    rounds = Rounds(_Timed(card, reads, writes), journal, _Quiet(watch))
    lost: list[Extent] = []
    blocks, step = card.size // BLOCK, STRETCH // BLOCK
    for first in range(FIRST, blocks, step):
        watch.progress(f"Writing {card.name} and putting back", first * BLOCK, card.size)
        for plan in _plans(first, min(step, blocks - first), rounds):
            seen = rounds.go(plan)
            shown = seen.shown[seen.is_marked]
            lost += _extents(seen.blocks[seen.is_marked][(shown == NONE) | (shown == TORN)])
        for extent in _extents(np.array(sorted(rounds.bad), np.int64)):
            writes.add_bad(extent.start, extent.length)
        journal.forget(rounds.not_back)
    failed = joined([*writes.bad, *lost])
    return Wear(writes, reads, tuple(joined(lost)),
                tuple(hits(card, layout, failed)) if failed and layout is not None else (),
                tuple(sorted(block * BLOCK for block in rounds.not_back)))


def _plans(first: int, count: int, rounds: Rounds) -> Iterator[Plan]:
    """The stretch in long commands; then what has failed of it block by block, so that bad places stand alone."""
    nothing = np.zeros(0, np.int64)
    before = set(rounds.bad)
    yield Plan("write", nothing, nothing, (first, count))
    failed = sorted(rounds.bad - before)
    rounds.bad = before
    for at in range(0, len(failed), PIECE):
        yield Plan("write", np.array(failed[at:at + PIECE], np.int64), nothing)


def _extents(blocks: Numbers) -> list[Extent]:
    return joined(Extent(block * BLOCK, BLOCK) for block in blocks.tolist())


class _Quiet(Watch):
    """Progress is told for the whole card, not for each round."""

    def __init__(self, watch: Watch) -> None:
        super().__init__(should_stop=watch.should_stop)

    def progress(self, phase: str, done: int, total: int | None) -> None:
        """See Watch."""
        self.check()


class _Timed(View):
    """Notes how long commands take."""

    def __init__(self, inner: Blocks, reads: DepthLog, writes: DepthLog) -> None:
        super().__init__(inner)
        self.reads, self.writes = reads, writes

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        begun = self.inner.now()
        super()._read_into(offset, buffer)
        if len(buffer) >= TIMED:
            self.reads.add(offset, len(buffer), self.inner.now() - begun)

    def _write(self, offset: int, data: Buffer) -> None:
        begun = self.inner.now()
        super()._write(offset, data)
        if len(data) >= TIMED:
            self.writes.add(offset, len(data), self.inner.now() - begun)
