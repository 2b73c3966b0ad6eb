"""Images that are a few sectors larger than a card of the same name: what would be cut is looked at, and said."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.sights import planned
from mosscrate.core.sheet.steps import Verify, WriteFitted, WriteImage
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card

SMALLER = 44 * MIB - 3 * 4096


def written(bench, path, step):
    source, target = bench.shelf.find(str(path)), bench.shelf.find("Target")
    sheet = JobSheet((step, Verify()), reference(source), reference(target))
    running.run(sheet, bench, Watch(), typed_tag=target.tag)
    return target.path.read_bytes()


def note(card: MemoryBlocks) -> str:
    target = MemoryBlocks(bytes(SMALLER))
    return WriteImage().decide(planned(survey(target), "Target", target), planned(survey(card), "it", card)).note


def test_zeros_that_belong_to_no_partition_may_go_and_that_is_said(bench, tmp_path):
    card = handheld(44 * MIB, tail=MIB)
    (tmp_path / "card.img").write_bytes(card.data)
    put_card(bench, "target", SMALLER)
    assert "empty and left out" in note(card)
    card.write(card.size - 4096, b"x" * 900)
    with pytest.raises(FitError, match="not empty, though it belongs to no partition"):
        note(card)
    plain = bytes(handheld(44 * MIB, tail=MIB).data)
    assert written(bench, tmp_path / "card.img", WriteImage(verify=True)) == plain[:SMALLER]


def test_free_room_of_the_last_volume_may_go_where_it_is_shrunk(bench, tmp_path):
    card = handheld(44 * MIB)
    (tmp_path / "card.img").write_bytes(card.data)
    put_card(bench, "target", SMALLER)
    with pytest.raises(FitError, match="too few"):
        note(card)
    made = MemoryBlocks(written(bench, tmp_path / "card.img", WriteFitted()))
    assert contents(open_partition(made, 2).blocks) == contents(open_partition(card, 2).blocks)


def test_without_a_map_only_zeros_may_go(bench, tmp_path):
    card = MemoryBlocks(b"of a machine that nobody knows".ljust(44 * MIB, b"\0"))
    with pytest.raises(FitError, match="too few"):
        note(card)
