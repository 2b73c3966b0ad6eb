"""What every sector of a job holds in each of its states, and how a card compares with that."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.base import Blocks, Extent, View
from mosscrate.core.blocks.runs import distinct, runs_of
from mosscrate.core.blocks.streaming import read_pieces
from mosscrate.core.blocks.swapped import swapped
from mosscrate.core.sheet.running.journal import structures as s
from mosscrate.core.sheet.running.journal.journal import Group, Journal, Stretch
from mosscrate.core.sheet.running.journal.marks import SECTOR, marks_of, sectors_of
from mosscrate.core.sheet.running.journal.structures import Holds
from mosscrate.core.watch import Watch

PIECE = 4 << 20
QUIET = Watch()                         # nobody is told
SHOWN = 16                              # places that are named to the person


@dataclass(frozen=True)
class Layer:
    """A stretch as one group changed it."""

    group: int
    stretch: Stretch


@dataclass(frozen=True)
class Span:
    """Neighbouring sectors that the same groups changed, the earliest first. Bytes of the card."""

    start: int
    end: int
    layers: tuple[Layer, ...]

    def values(self, low: int, high: int) -> range:
        """What the span may hold in one of the states: 0 for the old contents, n for what the n-th layer put there."""
        groups = [layer.group for layer in self.layers]
        return range(sum(g <= low for g in groups), sum(g <= high for g in groups) + 1)

    def pieces(self) -> Iterator[Extent]:
        """It in parts that fit into memory."""
        for start in range(self.start, self.end, PIECE):
            yield Extent(start, min(PIECE, self.end - start))

    def is_known(self, value: int) -> bool:
        """Whether a value can be told sector by sector: not what was let go, nor what only has a digest as a whole."""
        after = self.layers[value].stretch if value < len(self.layers) else None
        return after.holds != Holds.LET_GO if after else self.layers[-1].stretch.holds != Holds.LET_GO


def spans_of(groups: Sequence[Group]) -> list[Span]:
    """Everything that groups changed, in the order of the card, without overlap."""
    layers = [Layer(g.number, stretch) for g in groups for stretch in g.stretches]
    if not layers:
        return []
    starts = np.array([layer.stretch.start for layer in layers], np.int64)
    ends = np.array([layer.stretch.end for layer in layers], np.int64)
    cuts = distinct(np.concatenate((starts, ends)))
    found: list[list[Layer]] = [[] for _ in cuts]
    for layer, first, last in zip(layers, np.searchsorted(cuts, starts).tolist(), np.searchsorted(cuts, ends).tolist(),
                                  strict=True):
        for at in range(first, last):
            found[at].append(layer)
    edges = cuts.tolist()
    return [Span(edges[k], edges[k + 1], tuple(found[k])) for k in range(len(edges) - 1) if found[k]]


def misfits(journal: Journal, card: Blocks, low: int, high: int, *, with_free: bool = True,
            watch: Watch = QUIET) -> list[Extent]:
    """Where a card holds what none of these states has there; at most a few places. Raises MediumError.

    Without `with_free`, what was put into free room is not looked at. `watch` is told of what was.
    """
    found: list[Extent] = []
    known = [(piece, span, values) for span in spans_of(journal.groups)
             if all(map(span.is_known, values := span.values(low, high))) for piece in span.pieces()]
    for (piece, span, values), now in zip(known, _read_each(card, [piece for piece, _, _ in known]), strict=False):
        good = _holds_one_of(journal, now, span, piece, values)
        for first, last in runs_of(~good).tolist():
            start = piece.start + first * SECTOR
            found.append(Extent(start, min(last * SECTOR, piece.length) - first * SECTOR))
        if len(found) > SHOWN:
            return found
    return [*found, *_misfits_in_free(journal, card, low, watch)] if with_free else found


def _misfits_in_free(journal: Journal, card: Blocks, state: int, watch: Watch) -> Iterator[Extent]:
    """Where room that was let go does not hold what a group put there, compared as it was behind the group."""
    if journal.slot.is_free_unclaimed:                   # of an earlier version, where another job may have used it
        return
    let_go = [stretch for group in journal.groups[:state] for stretch in group.stretches
              if stretch.holds == Holds.LET_GO]
    as_put = AsPut(card, journal)
    places = [Extent(stretch.start, stretch.length) for stretch in let_go if stretch.new != s.OF_ZEROS]
    done, total = 0, sum(place.length for place in places)
    for stretch, now in zip((x for x in let_go if x.new != s.OF_ZEROS), _read_each(as_put, places), strict=True):
        if s.digest_of(now) != stretch.new:
            yield Extent(stretch.start, stretch.length)
        done += stretch.length
        watch.progress("Reading back what was written", done, total)
    for stretch in let_go:
        if stretch.new == s.OF_ZEROS:
            for start in range(stretch.start, stretch.end, PIECE):
                length = min(PIECE, stretch.end - start)
                if np.frombuffer(as_put.read(start, length), np.uint8).any():
                    yield Extent(start, length)


def _read_each(card: Blocks, pieces: Sequence[Extent]) -> Iterator[memoryview]:
    """The bytes of each piece; ahead, where there is so much that a thread is worth it."""
    if sum(piece.length for piece in pieces) > PIECE:
        return read_pieces(card, pieces)
    return (memoryview(card.read(piece.start, piece.length)) for piece in pieces)


def shows(journal: Journal, card: Blocks) -> bool:
    """Whether anything that a job put there stands there still; zeros do not count. Raises MediumError."""
    for group in reversed(journal.groups):
        for stretch in group.stretches:
            if stretch.end > card.size or stretch.new == s.OF_ZEROS:
                continue
            for start in range(stretch.start, stretch.end, PIECE):
                length = min(PIECE, stretch.end - start)
                if _shows(journal, stretch, start, card.read(start, length)):
                    return True
    return False


def taken_back(journal: Journal, layers: Sequence[Layer], start: int, now: bytes) -> bytes:
    """What stood at a byte of the card before these layers, given what stands there now."""
    for layer in reversed(layers):
        stretch = layer.stretch
        if stretch.holds in (Holds.OLD, Holds.ZEROS):
            now = journal.old_bytes(stretch, start, len(now))
        elif stretch.holds == Holds.SWAP:
            is_old = marks_of(now) == journal.old_marks(stretch, start, len(now))
            if not is_old.all():
                rows = [sectors_of(data) for data in (now, swapped(now))]
                now = np.where(is_old[:, None], *rows).tobytes()[:len(now)]
    return now


class AsBefore(View):
    """A card as it was before a job, seen through its journal; what was free then shows what it holds now."""

    def __init__(self, card: Blocks, journal: Journal) -> None:
        super().__init__(card)
        self.writable = False
        self._journal = journal
        self._spans = spans_of(journal.groups)
        self._ends = np.array([span.end for span in self._spans], np.int64)

    def extents(self) -> Iterator[Extent]:
        """All data: what was put back may lie in what is a hole now."""
        yield Extent(0, self.size)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        last = offset + len(buffer)
        for number in range(int(np.searchsorted(self._ends, offset, "right")), len(self._spans)):
            span = self._spans[number]
            if span.start >= last:
                break
            layers = self._over(span)
            if not layers:
                continue
            # whole sectors, since marks are of whole ones
            low = max(span.start, offset // SECTOR * SECTOR)
            high = min(span.end, -(-last // SECTOR) * SECTOR)
            old = taken_back(self._journal, layers, low, self.inner.read(low, high - low))
            first, end = max(low, offset), min(high, last)
            buffer[first - offset:end - offset] = old[first - low:end - low]

    def _over(self, span: Span) -> Sequence[Layer]:
        """Layers of a span that are not looked at."""
        return span.layers


class AsPut(AsBefore):
    """The same, but free room shows what was put there first."""

    def _over(self, span: Span) -> Sequence[Layer]:
        """See AsBefore."""
        last = max((n for n, layer in enumerate(span.layers) if layer.stretch.holds == Holds.LET_GO), default=None)
        return span.layers if last is None else span.layers[last + 1:]


def _holds_one_of(journal: Journal, now: memoryview, span: Span, piece: Extent,
                  values: Sequence[int]) -> NDArray[np.bool_]:
    """For each sector of a piece, whether it is one of the values, each of which is known."""
    marks = marks_of(now)
    good = np.zeros(len(marks), bool)
    for value in values:
        after = span.layers[value].stretch if value < len(span.layers) else None
        if after is None:
            good |= marks == journal.new_marks(span.layers[-1].stretch, piece.start, piece.length)
        elif after.holds == Holds.SWAP:
            good |= marks == journal.old_marks(after, piece.start, piece.length)
        else:
            good |= marks == marks_of(journal.old_bytes(after, piece.start, piece.length))
        if good.all():
            break
    return good


def _is_new(stretch: Stretch, now: bytes | memoryview) -> bool:
    """Whether free room holds what was put there; long stretches of it are zeros."""
    if stretch.new == s.OF_ZEROS:
        return not np.frombuffer(now, np.uint8).any()
    return s.digest_of(now) == stretch.new


def _shows(journal: Journal, stretch: Stretch, start: int, now: bytes) -> bool:
    if stretch.holds == Holds.LET_GO:
        return _is_new(stretch, now)
    marks, new = marks_of(now), journal.new_marks(stretch, start, len(now))
    if stretch.holds == Holds.SWAP:
        old = journal.old_marks(stretch, start, len(now))
    else:
        old = marks_of(journal.old_bytes(stretch, start, len(now)))
    return bool(((marks == new) & (new != 0) & (new != old)).any())
