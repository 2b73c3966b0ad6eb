"""Tapes of cards, read by place: every chunk once, whole, whatever lies between its pieces and cannot be read."""

from __future__ import annotations

import random

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.crate import reading
from mosscrate.core.crate.reading import TapeReader
from mosscrate.core.crate.taping import Tape
from mosscrate.core.errors import MediumError

SIZE = 512 * 800


class Worn(MemoryBlocks):
    """Some of its sectors cannot be read."""

    bad: frozenset[int] = frozenset()

    def _read_into(self, offset, buffer):
        if any(number in self.bad for number in range(offset // 512, (offset + len(buffer) - 1) // 512 + 1)):
            raise MediumError("This place cannot be read.", offset)
        super()._read_into(offset, buffer)


def some_tape(rnd: random.Random) -> Tape:
    """Files in pieces anywhere, some in order and some not, with room between them."""
    edges = sorted(rnd.sample(range(0, SIZE, 512), 160))
    pieces = [(start, end - start) for start, end in zip(edges[::2], edges[1::2], strict=True)]
    if rnd.random() < 0.8:
        rnd.shuffle(pieces)
    tape = Tape()
    while pieces:
        count = min(len(pieces), rnd.choice((1, 1, 2, 9)))
        start, length = pieces[count - 1]
        tape.add([*pieces[:count - 1], (start, length - rnd.randrange(512))], rnd.choice((1024, 5120, 40_960)))
        pieces = pieces[count:]
    return tape


@pytest.mark.parametrize("seed", range(30))
def test_every_chunk_of_a_tape_is_given_once_and_whole(seed, monkeypatch):
    rnd = random.Random(seed)
    monkeypatch.setattr(reading, "STRETCH", 50_000)
    monkeypatch.setattr(reading, "GAP", rnd.choice((0, 3000)))
    monkeypatch.setattr(reading, "WAITING", rnd.choice((0, 9000, 1 << 20)))
    card, tape = Worn(rnd.randbytes(SIZE)), some_tape(rnd)
    card.bad = frozenset(rnd.sample(range(card.size // 512), rnd.choice((0, 0, 5))))
    plain = bytearray(card.data)
    for number in card.bad:
        plain[number * 512:number * 512 + 512] = bytes(512)
    wanted = b"".join(plain[at:at + count] for at, count in tape.places)
    reader, found, held = TapeReader(tape, card), {}, []
    for stretch in reader.stretches():
        held = [*held, [(number, data, bytes(data)) for number, data in stretch]][1 - reading.BUFFERS:]
        assert all(bytes(data) == was for each in held for _, data, was in each)        # its buffers still hold it
        for number, data in stretch:
            assert number not in found
            found[number] = bytes(data)
    assert b"".join(found[number] for number in range(len(tape.cuts))) == wanted
    assert reader.done == tape.size
    assert {at for extent in reader.unreadable for at in range(extent.start, extent.end)} == {
        at for start, count in tape.places for at in range(start, start + count) if at // 512 in card.bad}
