"""Byte-swapped drives: recognised by themselves, read, changed and verified as if they were straight."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import Extent, MemoryBlocks
from mosscrate.core.blocks.swapped import SwappedBlocks, swapped
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, GuardRefusal
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps.shared.comparing import verify_copy
from mosscrate.core.volumes import Making, format_for
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld
from tests.journals import begun, cut_short, taken_back


@given(st.binary(min_size=2, max_size=64).filter(lambda b: len(b) % 2 == 0), st.data())
def test_swapping_twice_is_equal_and_any_stretch_reads_and_writes_as_on_a_straight_medium(data, draw):
    assert swapped(swapped(data)) == data
    plain, view = MemoryBlocks(data), SwappedBlocks(MemoryBlocks(swapped(data)))
    start = draw.draw(st.integers(0, len(data)))
    piece = draw.draw(st.binary(max_size=len(data) - start))
    assert view.read(start, len(piece)) == plain.read(start, len(piece))
    plain.write(start, piece)
    view.write(start, piece)
    assert swapped(view.inner.data) == bytes(plain.data)


@pytest.mark.parametrize("kind", ["rdb", "ahdi", "mbr"])
def test_a_drive_is_swapped_for_an_adapter_and_back_again(kind):
    plain = drives()[kind]
    before, layout = bytes(plain.data), survey(plain)
    for order, wanted in (("swapped", swapped(before)), ("raw", before)):
        seen = forecast(JobSheet((s.SwapBytes(),)), None, survey(plain))
        assert seen.layout.container == order
        perform(s.SwapBytes(), plain, None, Watch())
        assert bytes(plain.data) == wanted
        assert (survey(plain).container, survey(plain).partitions) == (order, layout.partitions)


@given(st.integers(0, 2**32), st.integers(1, 40), st.integers(0, 40))
def test_a_swap_that_was_cut_between_any_two_sectors_is_taken_back(seed, sectors, written):
    before = np.random.default_rng(seed).integers(0, 256, sectors * 512 - 2 * (seed % 5), np.uint8).tobytes()
    medium = MemoryBlocks(before)
    with tempfile.TemporaryDirectory() as folder:
        over = begun(medium, Path(folder))
        over.foreswap(Extent(0, len(before)), before)
        over.write(0, swapped(before))
        over.flush()
        assert bytes(medium.data) == swapped(before)
        medium.data[written * 512:] = before[written * 512:]          # only the first sectors had arrived
        torn = bytes(medium.data)
        medium.write(0, bytes(64) + b"else")
        with pytest.raises(GuardRefusal, match="somebody else has written"):
            taken_back(medium, Path(folder))
        medium.data[:] = torn
        taken_back(medium, Path(folder))
        assert bytes(medium.data) == before


def test_a_card_is_swapped_with_a_journal_of_a_small_part_of_its_size(tmp_path):
    card = handheld(40 * MIB)
    card.write(20 * MIB, np.random.default_rng(1).bytes(16 * MIB))
    before = bytes(card.data)
    assert cut_short(s.SwapBytes(), card, None, tmp_path) < len(before) / 30
    assert bytes(card.data) == swapped(before)
    taken_back(card, tmp_path)
    assert bytes(card.data) == before


def test_what_would_not_be_known_again_is_not_swapped():
    ext = MemoryBlocks(bytes(8 * MIB))
    format_for("ext4").make(ext, Making("ext4", "LONE"))
    for medium in (ext, MemoryBlocks(b"loom" * 4096)):
        before = bytes(medium.data)
        assert "known again" in forecast(JobSheet((s.SwapBytes(),)), None, survey(medium)).problems[0].sentence
        with pytest.raises(FitError, match="known again"):
            perform(s.SwapBytes(), medium, None, Watch())
        assert bytes(medium.data) == before


def drives():
    rdb, ahdi = MemoryBlocks(bytes(24 * MIB)), MemoryBlocks(bytes(24 * MIB))
    for blocks, kind, fs in ((rdb, "rdb", "ffs"), (ahdi, "ahdi", "gemdos")):
        perform(s.NewMap(kind), blocks, None, Watch())
        perform(s.AddPartition(fs, 8 * MIB, label="MOSS"), blocks, None, Watch())
        perform(s.MakeFolder(1, "SAVES"), blocks, None, Watch())
    return {"rdb": rdb, "ahdi": ahdi, "mbr": handheld(40 * MIB)}


@pytest.mark.parametrize("kind", ["rdb", "ahdi", "mbr"])
def test_a_swapped_drive_is_shown_and_changed_like_a_straight_one(kind):
    plain = drives()[kind]
    card = MemoryBlocks(swapped(bytes(plain.data)))
    seen, wanted = survey(card, thorough=True), survey(plain, thorough=True)
    assert (seen.container, wanted.container) == ("swapped", "raw")
    assert seen.partitions == wanted.partitions
    assert "are swapped" in " ".join(f.sentence for f in seen.findings)
    assert verify_copy(plain, card, Watch()).partitions == len(wanted.partitions)
    for blocks in (plain, card):
        step = s.RenameFile(1, "SAVES", "STATES") if kind != "mbr" else s.MakeFolder(1, "STATES")
        perform(step, blocks, None, Watch())
    assert "STATES" in {e.path for e in open_partition(card, 1).tree().entries}
    assert survey(card).container == "swapped"
