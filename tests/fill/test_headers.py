"""Headers: each system's is read, damaged ones are read as it or as nothing, and nothing else is."""

from __future__ import annotations

import random

import pytest

from mosscrate.core.errors import MediumError
from mosscrate.core.fill.headers import Front, read_header
from mosscrate.core.fill.headers.base import Reading
from mosscrate.core.fill.systems import systems
from tests.fill.samples import SAMPLES, gb, nes

UNSURE = {"pce", "col", "vb", "cpc", "msx"}           # too little to be known without its ending
DAMAGED = 60                                             # of each system


def look(data: bytes, ending: str = "") -> Reading:
    return read_header(len(data), lambda at, count: data[at:at + count], ending)


@pytest.mark.parametrize("system", SAMPLES)
def test_each_system_is_known_by_its_header(system):
    ending, build = SAMPLES[system]
    assert system in systems().by_code
    for seed in range(20):
        data = build(random.Random(seed))
        found = look(data, ending)
        assert (found.system, found.sure >= 1) == (system, True), (seed, found)
        assert found.reason
        for strange in ("bin", "", "rom"):
            expected = {system} if system not in UNSURE else {"", system}
            assert look(data, strange).system in expected, (seed, strange)


@pytest.mark.parametrize("system", SAMPLES)
def test_a_damaged_header_is_read_as_its_own_family_or_as_nothing(system):
    ending, build = SAMPLES[system]
    rnd = random.Random(system)
    for _ in range(DAMAGED):
        data = bytearray(build(rnd))
        match rnd.randrange(3):
            case 0:
                data = data[:rnd.randrange(len(data))]
            case 1:
                for _ in range(rnd.randrange(1, 40)):
                    data[rnd.randrange(min(len(data), 0x200))] ^= 1 << rnd.randrange(8)
            case _:
                at = rnd.randrange(min(len(data), 0x10000))
                data[at:at + 300] = rnd.randbytes(300)
        found = look(bytes(data), ending).system
        assert found == "" or systems().are_kin(found, system), (found, len(data))


@pytest.mark.parametrize("ending", ["", "bin", *sorted({ending for ending, _ in SAMPLES.values()})])
def test_noise_zeros_and_text_are_nothing(ending):
    rnd = random.Random(ending)
    for size in (0, 1, 15, 512, 40_000, 65_536, 174_848, 262_144):
        text = (b"a letter to a friend\n" * (size // 20 + 1))[:size]
        for data in (rnd.randbytes(size), bytes(size), text, b"\xff" * size):
            assert look(data, ending).sure < 2, (ending, size)


def test_what_cannot_be_read_is_nothing():
    def fails(_at: int, _count: int) -> bytes:
        raise MediumError("no")

    assert look(b"", "gb").system == read_header(1 << 20, fails, "gb").system == ""


def test_saves_have_the_size_that_the_header_says():
    rnd = random.Random(1)
    for kind, ram, wanted in ((0, 0, (0,)), (3, 2, (8192,)), (3, 3, (32_768,)), (0x10, 3, (32_768, 32_812, 32_816)),
                              (6, 0, (512, 256)), (1, 2, (0,))):
        assert look(gb(rnd, kind=kind, ram=ram), "gb").saves == wanted
    saved = {look(nes(random.Random(seed)), "nes").saves for seed in range(20)}
    assert saved == {(0,), (8192,)}


def test_few_pieces_are_read():
    pieces = taken = 0
    for system, (ending, build) in SAMPLES.items():
        data = build(random.Random(4))
        front = Front(len(data), lambda at, count, data=data: data[at:at + count], ending)
        asked: list[tuple[int, int]] = []

        def read(at: int, count: int, front=front, asked=asked) -> bytes:
            asked.append((at, count))
            return front.read(at, count)

        assert read_header(len(data), read, ending).system == system
        pieces, taken = pieces + len(asked), taken + sum(count for _, count in asked)
    assert pieces <= 3 * len(SAMPLES)
    assert taken <= 1024 * len(SAMPLES)
