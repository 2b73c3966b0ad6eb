"""A bad sector costs few commands that fail, is the same sector in every answer, and is told with the file there."""

from __future__ import annotations

import random

import pytest

from mosscrate.core.blocks import Extent, MemoryBlocks
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks
from mosscrate.core.blocks.file import open_blocks
from mosscrate.core.blocks.streaming import read_around
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.lacking import files_lacking
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.reading import read_all
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.slots.simulated import read_card, write_card
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card


class Counting(FaultyBlocks):
    """Counts commands that fail."""

    failed = 0

    def _read_into(self, offset, buffer):
        try:
            super()._read_into(offset, buffer)
        except MediumError:
            self.failed += 1
            raise


@pytest.mark.parametrize("first", range(0, 200, 50))
def test_every_bad_sector_is_found_and_no_other_with_few_commands_that_fail(first):
    for seed in range(first, first + 50):
        rnd = random.Random(seed)
        size = rnd.choice((4 * MIB, MIB, 99_840, 5120))
        data = bytearray(rnd.randbytes(size))
        sectors = {rnd.randrange(size // 512) * 512 for _ in range(rnd.randint(1, 3))}
        card = Counting(MemoryBlocks(data), Faults(bad=tuple(Bad(at, 512) for at in sectors)))
        buffer = memoryview(bytearray(size))
        bad = read_around(card, Extent(0, size), buffer)
        assert {at for e in bad for at in range(e.start, e.end, 512)} == sectors
        assert all(not any(buffer[at:at + 512]) for at in sectors)
        assert card.failed <= 6 * len(sectors)
        assert {at for e in read_all(card, None, Watch()).log.bad for at in range(e.start, e.end, 512)} == sectors


def test_keeping_names_the_files_where_a_card_could_not_be_read(bench):
    put_card(bench, "card", 48 * MIB, handheld(44 * MIB).data)
    medium = bench.shelf.find("card")
    with open_blocks(medium.path) as blocks:
        volume = open_partition(blocks, 2)
        entry = next(e for e in volume.tree().entries if e.path.endswith(".gb") and e.size > 4096)
        at = survey(blocks).partition(2).partition.start + volume.extents_of(entry)[0].start
    description = read_card(medium.path.with_suffix(".toml"))
    description.faults = Faults(bad=(Bad(at, 512),))
    write_card(medium.path.with_suffix(".toml"), description)
    medium = bench.shelf.find("card")
    with medium.open_for_job() as blocks:
        backup = bench.crate.keep(card_of(medium), blocks, Watch())
    assert backup.record.unreadable == [(at, 512)]
    assert files_lacking(backup) == f"1 file lies there: {entry.path}."
