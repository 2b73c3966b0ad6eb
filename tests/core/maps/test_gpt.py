"""GPT: both copies, repair, growing, hybrids, damage."""

from __future__ import annotations

import contextlib
import random
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import MapKind, edits, gpt, mbr, read_map, write_map

MIB = 1 << 20

def made(size: int = 64 * MIB, parts: int = 3) -> MemoryBlocks:
    card = MemoryBlocks(bytes(size))
    map_ = edits.new_map(MapKind.GPT, size, 512)
    for number in range(parts):
        map_, _ = edits.added(map_, size, start=None, length=8 * MIB, kind=("fat32", "ext4", "exfat")[number % 3],
                              label=f"PEAT {number}", alignment=MIB)
    write_map(card, map_)
    return card


def plain(map_):
    return [(p.index, p.start, p.length, p.type, p.label, p.flags, p.id) for p in map_.partitions]


def test_structures_have_the_sizes_of_the_specification():
    assert (gpt.HEADER.itemsize, gpt.ENTRY.itemsize) == (92, 128)


def test_what_is_written_is_read_from_either_copy_and_mended_by_writing():
    card = made()
    map_ = read_map(card)
    assert (map_.kind, map_.findings, [p.label for p in map_.partitions]) == (MapKind.GPT, (), ["PEAT 0", "PEAT 1",
                                                                                                 "PEAT 2"])
    assert [p.type_name for p in map_.partitions] == ["basic data", "Linux", "basic data"]
    for place, word in ((512 + 60, "first copy"), (card.size - 512 + 20, "second copy"), (1024 + 40, "first copy")):
        damaged = MemoryBlocks(bytes(card.data))
        damaged.write(place, b"\xa5\x5a")
        found = read_map(damaged)
        assert plain(found) == plain(map_)
        assert word in found.findings[0].sentence
        write_map(damaged, found)
        assert bytes(damaged.data) == bytes(card.data)


def test_on_a_larger_card_the_second_copy_is_found_and_moved_to_the_end():
    small = made()
    card = MemoryBlocks(bytes(small.data) + bytes(64 * MIB))
    map_ = read_map(card)
    assert "not at the end" in map_.findings[0].sentence
    grown = edits.placed(map_, 3, card.size, length=edits.bounds(map_, 3, card.size)[1] - map_.partition(3).start)
    write_map(card, grown)
    again = read_map(card)
    assert again.findings == ()
    assert again.partition(3).end == gpt.room(again, card.size).end
    assert (again.id, again.partition(3).id) == (map_.id, map_.partition(3).id)


def test_a_hybrid_keeps_its_other_entries_and_attributes_survive():
    card = made()
    raw = bytearray(card.data[:512])
    raw[446 + 16:446 + 32] = mbr.build((replace(read_map(card).partition(1), index=1, type="0x0c"),),
                                       disk_signature=0)[446:462]
    card.write(0, bytes(raw))
    map_ = read_map(card)
    assert "hybrid" in map_.findings[0].sentence
    write_map(card, edits.flagged(map_, 2, "hidden", is_set=True))
    assert card.data[446 + 16:446 + 32] == raw[446 + 16:446 + 32]
    assert read_map(card).partition(2).flags == ("hidden",)
    write_map(card, edits.removed(read_map(card), 2))
    assert [p.index for p in read_map(card).partitions] == [1, 3]


def test_partitions_stay_between_the_copies():
    map_ = read_map(made())
    with pytest.raises(FitError, match="behind what the map"):
        edits.placed(map_, 3, 64 * MIB, length=64 * MIB - map_.partition(3).start)


@given(st.integers(0, 10**9))
def test_a_damaged_gpt_is_read_or_refused(seed):
    rnd, card = random.Random(seed), made(4 * MIB, 0)
    for _ in range(rnd.choice((1, 2, 6))):
        card.write(rnd.choice((0, 512, card.size - 512)) + rnd.randrange(500), rnd.randbytes(rnd.choice((1, 4, 8))))
    with contextlib.suppress(MossError):
        read_map(card)
