"""Cards that claim more than they have: they are named as such when they are written, with what they hold."""

from __future__ import annotations

import random

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Bad, Drop, Faults, FaultyBlocks, Fold
from mosscrate.core.errors import JobError
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps.shared.false_size import false_size
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, lay_out


def image(size: int, seed: int = 1, filled: float = 0.7) -> MemoryBlocks:
    """Contents in stretches, with zeros between them."""
    rnd, data = random.Random(seed), bytearray(size)
    for at in range(0, size, 256 << 10):
        if rnd.random() < filled:
            data[at:at + (256 << 10)] = rnd.randbytes(256 << 10)
    return MemoryBlocks(bytes(data), name="Image")


def card(size: int, real: int, way: str):
    inner = MemoryBlocks(bytes(size), name="Pipkin")
    return FaultyBlocks(inner, Faults(fold=Fold(real)) if way == "folds" else Faults(drop=Drop(real)))


@pytest.mark.parametrize("way", ["drops", "folds"])
@pytest.mark.parametrize("real", [6, 9, 15, 22])
@pytest.mark.parametrize("verify", [True, False])
def test_a_card_that_claims_too_much_is_named_with_what_it_holds(way, real, verify):
    target = card(32 * MIB, real * MIB, way)
    with pytest.raises(JobError, match="is not what it claims to be") as told:
        write_image(image(24 * MIB), target, Watch(), verify=verify)
    said = float(str(told.value).split("about ")[1].split(" MiB")[0])
    assert said == pytest.approx(real, abs=0.6)
    assert ("overwrites its beginning" in str(told.value)) == (way == "folds")


@pytest.mark.parametrize("seed", range(6))
def test_an_honest_card_and_one_with_single_bad_places_are_not_accused(seed):
    source, target = image(24 * MIB, seed), MemoryBlocks(bytes(32 * MIB), name="Pipkin")
    write_image(source, target, Watch(), verify=True)
    rnd = random.Random(seed)
    for _ in range(seed * 4):
        target.write(rnd.randrange(24 * MIB // 4096) * 4096, rnd.randbytes(4096))
    assert false_size(source, target, source.size, Watch()) is None


@pytest.mark.parametrize("at", [2 * MIB, 13 * MIB, 23 * MIB])
def test_what_does_not_read_back_shows_no_map(at):
    inner = MemoryBlocks(bytes(32 * MIB), name="Pipkin")
    target = FaultyBlocks(inner, Faults(bad=(Bad(at + 4096, 4096, reading=False, silent=True),)))
    with pytest.raises(JobError, match=r"does not read back as it was written.*shows no map now"):
        write_image(image(24 * MIB, filled=1), target, Watch(), verify=True)
    assert not any(inner.read(0, MIB))


def test_verifying_a_move_names_it_too():
    source, target = MemoryBlocks(bytes(40 * MIB)), card(64 * MIB, 12 * MIB, "drops")
    lay_out(source, [(MIB, 39 * MIB, FatType.FAT32, "GAMES", {f"{k}.bin": random.Random(k).randbytes(MIB)
                                                              for k in range(30)})])
    target.inner.write(0, bytes(source.data))                    # as if its own cache had hidden it until now
    target.inner.write(12 * MIB, bytes(52 * MIB))
    with pytest.raises(JobError, match=r"holds about 1[12].*, not 64 MiB"):
        perform(s.Verify(), target, source, Watch())
