"""Writing a card through: contents stay whatever happens, and places that fail are found to the block."""

from __future__ import annotations

import random
from contextlib import suppress

import numpy as np
import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Bad, CardState, Faults, FaultyBlocks, Speed
from mosscrate.core.blocks.proof_marks import BLOCK
from mosscrate.core.errors import MediumError, Stopped
from mosscrate.core.proof.size import Journal, put_back
from mosscrate.core.proof.writing import write_all
from mosscrate.core.watch import Watch

MIB = 1 << 20
SIZE = 70 * MIB + 512
CONTENTS = np.random.default_rng(3).integers(0, 256, SIZE, np.uint8).tobytes()


def journal_in(folder) -> Journal:
    return Journal.begin(folder, "key", "Pipkin", "ABCD", SIZE, 32 * MIB)


def test_a_sound_card_is_written_read_and_as_before(tmp_path):
    room, journal = MemoryBlocks(CONTENTS, name="Pipkin"), journal_in(tmp_path)
    card = FaultyBlocks(room, Faults(speed=Speed(2e7, 8e6)))
    wear = write_all(card, journal, None, Watch())
    assert wear.is_sound, wear.sentence("Pipkin")
    assert bytes(room.data) == CONTENTS
    assert wear.writes.bytes.sum() >= 2 * (SIZE - 2 * MIB), "marks, and contents again"
    assert 7e6 < wear.writes.rate < 8e6
    assert "it was written at 7.98 MB/s and read at 19.8 MB/s" in wear.sentence("Pipkin")
    assert (journal.folder / "old").stat().st_size == 0, "only the stretch at hand is held"


def test_places_that_fail_are_found_to_the_block_and_cost_no_neighbour(tmp_path):
    faults = Faults(bad=(Bad(10 * MIB, BLOCK, reading=False, writing=True), Bad(40 * MIB + BLOCK, 2 * BLOCK),
                         Bad(60 * MIB, 512, reading=False, silent=True)))
    room = MemoryBlocks(CONTENTS, name="Pipkin")
    wear = write_all(FaultyBlocks(room, faults), journal_in(tmp_path), None, Watch())
    assert [(e.start, e.length) for e in wear.writes.bad] == [(10 * MIB, BLOCK), (40 * MIB + BLOCK, 2 * BLOCK)]
    assert [(e.start, e.length) for e in wear.lost] == [(60 * MIB, BLOCK)]
    assert bytes(room.data) == CONTENTS
    assert not wear.not_back, "what failed never took a mark"


@pytest.mark.parametrize("seed", range(6))
def test_stopped_or_pulled_anywhere_it_comes_back(tmp_path, seed):
    rnd = random.Random(seed)
    room, journal = MemoryBlocks(CONTENTS, name="Pipkin"), journal_in(tmp_path)
    state = CardState()
    card = FaultyBlocks(room, Faults(pulled_after_writes=rnd.randrange(1, 130)) if seed % 2 else Faults(), state)
    left = [rnd.randrange(2, 300)]

    def stop() -> bool:
        left[0] -= 1
        return not seed % 2 and left[0] < 0
    with suppress(Stopped, MediumError):
        write_all(card, journal, None, Watch(should_stop=stop))
    found = list(Journal.unfinished(tmp_path))
    assert len(found) == 1
    assert put_back(FaultyBlocks(room, Faults()), found[0], Watch()).left == ()
    assert bytes(room.data) == CONTENTS
    assert not list(Journal.unfinished(tmp_path))
