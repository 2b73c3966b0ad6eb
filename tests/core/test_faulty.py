"""Cards that lie: each does what its description says, and nothing else."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks
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
    Slow,
    Speed,
    Stall,
)
from mosscrate.core.errors import MediumError

SIZE = 64 * 4096
REAL = 20 * 4096


def card(**faults) -> FaultyBlocks:
    return FaultyBlocks(MemoryBlocks(bytes(SIZE)), Faults(**faults))


@pytest.mark.parametrize(("faults", "at", "seen_at"), [
    ({"fold": Fold(REAL)}, REAL + 512, 512),
    ({"fold": Fold(REAL, start=4096)}, REAL + 4096, 8192),
    ({"repeat": Repeat(REAL)}, REAL + 9 * 4096, REAL + 3 * 4096),
    ({"address_line": AddressLine(15)}, 0x8000 + 700, 700),
    ({"address_line": AddressLine(15, stuck=1)}, 700, 0x8000 + 700),
    ({"false_middle": FalseMiddle(REAL, REAL + 8192, by=8192)}, REAL, REAL - 8192)])
def test_what_is_written_at_one_address_is_read_at_another(faults, at, seen_at):
    lying = card(**faults)
    lying.write(at, b"x" * 512)
    assert lying.read(at, 512) == lying.read(seen_at, 512) == b"x" * 512


@pytest.mark.parametrize(("faults", "read"), [
    ({"drop": Drop(REAL)}, b"\0"), ({"drop": Drop(REAL, reads="ones")}, b"\xff"),
    ({"drop": Drop(REAL, reads="old")}, b"\0"), ({"fold": Fold(REAL, reads=False)}, b"\0"),
    ({"false_middle": FalseMiddle(REAL, SIZE)}, b"\0")])
def test_what_lies_beyond_is_lost_also_in_a_command_across_the_end(faults, read):
    lying = card(**faults)
    lying.write(REAL - 512, b"x" * 1024)
    assert lying.read(REAL - 512, 1024) == b"x" * 512 + read * 512


@given(st.sampled_from(["last-used", "slot", "volatile"]), st.integers(1, 9), st.booleans(),
       st.lists(st.tuples(st.booleans(), st.integers(0, SIZE - 1), st.integers(1, 20_000)), max_size=30))
def test_a_cache_before_an_honest_card_is_never_noticed(kind, blocks, counts, acts):
    plain = MemoryBlocks(bytes(SIZE))
    cached = FaultyBlocks(MemoryBlocks(bytes(SIZE)), Faults(cache=Cache(kind, blocks, counts)))
    for number, (writes, at, length) in enumerate(acts):
        length = min(length, SIZE - at)
        if writes:
            for each in (plain, cached):
                each.write(at, bytes((number + 1,)) * length)
        assert cached.read(at, length) == plain.read(at, length)
    assert cached.read(0, SIZE) == plain.read(0, SIZE)


def test_a_cache_hides_a_fold_until_its_room_is_needed_and_a_volatile_one_loses_what_it_held():
    lying = card(fold=Fold(REAL), cache=Cache("volatile", blocks=2))
    lying.write(0, b"a" * 4096)
    lying.write(REAL, b"b" * 4096)
    assert lying.read(0, 4096) == b"a" * 4096
    lying.write(5 * 4096, b"c" * 4096)
    lying.write(6 * 4096, b"d" * 4096)
    assert lying.read(0, 4096) == b"b" * 4096
    lying.state.pull()
    assert lying.read(6 * 4096, 4096) == bytes(4096)


def test_bad_places_fail_where_they_are_come_back_by_chance_and_lie_in_silence():
    worn = card(bad=(Bad(8192, 512), Bad(16384, 512, reading=False, writing=True), Bad(32768, 512, silent=True),
                     Bad(65536, 512, comes_back=1.0)))
    with pytest.raises(MediumError, match="cannot be read at byte 8192") as caught:
        worn.read(4096, 8192)
    assert caught.value.offset == 8192
    with pytest.raises(MediumError, match="cannot be written at byte 16384"):
        worn.write(16384, bytes(512))
    worn.write(32256, b"x" * 1536)
    assert worn.read(32256, 1536) == b"x" * 512 + bytes(512) + b"x" * 512
    assert worn.read(65536, 512) == bytes(512)


@pytest.mark.parametrize(("faults", "why"), [
    ({"pulled_after": 8192}, "was pulled"), ({"read_only_after": 8192}, "is write-protected"),
    ({"dies_after": 8192}, "does not answer any more")])
def test_a_card_ends_after_so_many_bytes(faults, why):
    ending = card(**faults)
    ending.write(0, bytes(8192))
    with pytest.raises(MediumError, match=why):
        ending.write(0, bytes(512))


def test_its_clock_is_counted_and_not_waited_for():
    slow = card(speed=Speed(1e6, 5e5, command=0.001), slow=(Slow(8192, 4096, 10),), stalls=(Stall(20_000, 60),),
                bad=(Bad(65536, 512, seconds=30),))
    begun = slow.now()
    slow.read(0, 4096)
    assert slow.now() - begun == pytest.approx(0.001 + 4096 / 1e6)
    slow.write(8192, bytes(4096))
    assert slow.now() - begun == pytest.approx(0.002 + 4096 / 1e6 + 40960 / 5e5)
    with pytest.raises(MediumError):
        slow.read(65536, 512)
    assert slow.now() - begun > 30
    slow.read(0, 16384)
    slow.read(0, 512)
    assert slow.now() - begun > 90
