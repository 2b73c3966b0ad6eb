"""A tape read in the order of its card, a stretch at a time: every chunk is there once all its pieces are.

A packed stream would have to be begun again for whatever lies behind, and a card answers quicker in order.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Any, TypeAlias

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import distinct
from mosscrate.core.blocks.streaming import read_around
from mosscrate.core.blocks.witnesses import Witnesses
from mosscrate.core.crate.taping import Tape
from mosscrate.core.errors import BrokenOff, MediumError

STRETCH = 4 << 20                        # bytes of the card that are read at once
GAP = 32 << 10                           # between two pieces that are read together
AHEAD = 4 * STRETCH                      # the system is told so far ahead what comes next
BUFFERS = 6                              # of that size
WAITING = 64 << 20                       # bytes of chunks that wait for their other pieces
_PIECE = np.dtype([("place", np.int64), ("length", np.int64), ("chunk", np.int64), ("at", np.int64)])
Pieces: TypeAlias = np.ndarray[Any, np.dtype[np.void]]
Chunks: TypeAlias = list[tuple[int, memoryview]]                        # (number on the tape, bytes)


class TapeReader:
    """Reads all of a tape once, over buffers that are used again: what a stretch gave holds for `BUFFERS` - 1 more.

    Attributes:
        unreadable: what became zeros.
        done: bytes of the tape that were given.
    """

    def __init__(self, tape: Tape, card: Blocks) -> None:
        self.tape, self.card = tape, card
        self.unreadable: list[Extent] = []
        self.done = 0
        self._pieces = _pieces_of(tape)
        self._lengths = np.diff(np.array([*tape.cuts, tape.size], np.int64))
        self._waiting: dict[int, tuple[bytearray, int]] = {}             # chunk: its bytes, how many are missing
        self._fetched: set[int] = set()                                  # chunks that were not waited for
        self._witnesses = Witnesses(card)

    def stretches(self) -> Iterator[Chunks]:
        """What became whole with each stretch. Raises MediumError where the card is gone or what packs it broke off."""
        by_place = self._pieces[np.argsort(self._pieces["place"], kind="stable")]
        buffers, given = [memoryview(bytearray(STRETCH)) for _ in range(BUFFERS)], 0
        for pieces in _read_together(by_place):
            start = int(pieces["place"][0])
            data = buffers[given % BUFFERS][:int(pieces["place"][-1] + pieces["length"][-1]) - start]
            self.card.will_need(start + AHEAD, STRETCH)
            self._fill(start, data, pieces)
            whole = [*self._whole(start, data, pieces), *self._fetched_instead()]
            self.done += sum(len(chunk) for _, chunk in whole)
            if whole:
                given += 1
                yield whole

    def _whole(self, start: int, data: memoryview, pieces: Pieces) -> Iterator[tuple[int, memoryview]]:
        lengths = self._lengths[pieces["chunk"]].tolist()
        for (place, length, chunk, at), wanted in zip(pieces.tolist(), lengths, strict=True):
            piece = data[place - start:place - start + length]
            if length == wanted:
                yield chunk, piece
            elif chunk not in self._fetched:
                buffer, missing = self._waiting.pop(chunk, None) or (bytearray(wanted), wanted)
                buffer[at:at + length] = piece
                if missing > length:
                    self._waiting[chunk] = (buffer, missing - length)
                else:
                    yield chunk, memoryview(buffer)

    def _fetched_instead(self) -> Iterator[tuple[int, memoryview]]:
        """Where too many wait, those that have least: their pieces are read wherever they lie."""
        while sum(len(buffer) for buffer, _ in self._waiting.values()) > WAITING:
            chunk = max(self._waiting, key=lambda number: self._waiting[number][1])
            data = memoryview(self._waiting.pop(chunk)[0])
            self._fetched.add(chunk)
            first, behind = np.searchsorted(self._pieces["chunk"], (chunk, chunk + 1)).tolist()
            for place, length, _, at in self._pieces[first:behind].tolist():
                self._read_around(Extent(place, length), data[at:at + length])
            yield chunk, data

    def _fill(self, start: int, data: memoryview, pieces: Pieces) -> None:
        try:
            self.card.read_into(start, data)
            self._witnesses.saw(start)
        except BrokenOff:
            raise
        except MediumError:
            for place, length, _, _ in pieces.tolist():
                self._read_around(Extent(place, length), data[place - start:place - start + length])

    def _read_around(self, extent: Extent, data: memoryview) -> None:
        bad = read_around(self.card, extent, data)
        if bad and not self._witnesses.is_there():
            raise MediumError(f"{self.card.name} does not answer any more at byte {extent.start:,}. No backup was "
                              "made; what was read is used again next time.", extent.start)
        self.unreadable += bad
        self._witnesses.saw_around(extent, bad)


def _pieces_of(tape: Tape) -> Pieces:
    """Places of a tape, cut where its chunks begin; in its order."""
    places = np.array(tape.places, np.int64).reshape(-1, 2)
    starts = np.cumsum(places[:, 1]) - places[:, 1]
    cuts = np.array(tape.cuts, np.int64)
    edges = distinct(np.concatenate([starts, cuts]))
    row, chunk = np.searchsorted(starts, edges, "right") - 1, np.searchsorted(cuts, edges, "right") - 1
    pieces = np.zeros(len(edges), _PIECE)
    pieces["place"] = places[row, 0] + edges - starts[row]
    pieces["length"] = np.diff(edges, append=tape.size)
    pieces["chunk"], pieces["at"] = chunk, edges - cuts[chunk]
    return pieces


def _read_together(by_place: Pieces) -> Iterator[Pieces]:
    """Pieces that lie close to one another, within one stretch."""
    ends = by_place["place"] + by_place["length"]
    parts = [0, *(np.flatnonzero(by_place["place"][1:] - ends[:-1] > GAP) + 1).tolist(), len(by_place)]
    for first, behind in itertools.pairwise(parts):
        while first < behind:
            reach = int(np.searchsorted(ends[first:behind], by_place["place"][first] + STRETCH, "right"))
            yield by_place[first:first + max(1, reach)]
            first += max(1, reach)
