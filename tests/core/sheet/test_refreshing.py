"""A new release over an old one: firmware as in the image, games and saves untouched, settings where wanted."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.planning.refreshing import SETTINGS, propose_refresh
from mosscrate.core.sheet.running.recovering import undo
from mosscrate.core.sheet.running.run import rehearse, run
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, lay_out, put_card

OLD = {"zImage": b"old kernel" * 900, "panel.dtb": b"tree" * 300, "my.cfg": b"volume = 3", "menu/list.ini": b"mine"}
NEW = {"zImage": b"new kernel" * 1200, "panel.dtb": b"tree" * 310, "my.cfg": b"volume = 5", "more.dtb": b"x" * 99}


def card_of(firmware: dict[str, bytes], games: dict[str, bytes], *, size: int = 80 * MIB, room: int = 5 * MIB) -> bytes:
    blocks = MemoryBlocks(bytes(size))
    folders = dict.fromkeys(sorted({path.rpartition("/")[0] for path in (*firmware, *games)} - {""}))
    lay_out(blocks, [(MIB, room, FatType.FAT16, "PEAT", {**{f: None for f in folders if f == "menu"}, **firmware}),
                     (MIB + room, size - MIB - room, FatType.FAT32, "GAMES", {
                         **{f: None for f in folders if f != "menu"}, **games})])
    return bytes(blocks.data)


def files(medium, index: int) -> dict[str, bytes]:
    with medium.open() as blocks:
        volume = open_partition(blocks, index)
        return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}


def sheet_for(bench, keep=()):
    image, card = bench.shelf.find("Release"), bench.shelf.find("Pipkin")
    with image.open() as a, card.open() as b:
        return card, propose_refresh(image, survey(a), card, survey(b), bench.crate, keep)


@pytest.mark.parametrize("keep", [(), SETTINGS])
def test_firmware_is_that_of_the_image_and_everything_else_stays_and_can_be_taken_back(bench, keep):
    games = {"roms/a.gb": b"game" * 5000, "roms/a.sav": b"save" * 500}
    put_card(bench, "one", 80 * MIB, card_of(OLD, games, room=8 * MIB), name="Pipkin")
    put_card(bench, "two", 64 * MIB, card_of(NEW, {"readme.txt": b"new"}, size=64 * MIB), name="Release")
    card, made = sheet_for(bench, keep)
    before = card.open().read(0, 80 * MIB)
    rehearse(made, bench, Watch())
    assert files(card, 1) == OLD
    result = run(made, bench, Watch(), typed_tag=card.tag)
    assert files(card, 2) == games
    assert files(card, 1) == NEW | ({"my.cfg": OLD["my.cfg"], "menu/list.ini": OLD["menu/list.ini"]} if keep else {})
    assert "read back and equal" in " ".join(done.sentence for done in result.done)
    with card.open() as blocks:
        assert {look.index: look.volume.is_clean for look in survey(blocks).partitions} == {1: True, 2: True}
    assert before[9 * MIB:] == card.open().read(9 * MIB, 71 * MIB)
    undo(result.job, bench, Watch(), typed_tag=card.tag)
    assert files(card, 1) == OLD


def test_firmware_that_is_too_large_or_of_another_card_is_refused_before_anything_is_written(bench):
    put_card(bench, "one", 80 * MIB, card_of(OLD, {}), name="Pipkin")
    put_card(bench, "two", 64 * MIB, card_of(NEW, {}, size=64 * MIB, room=9 * MIB), name="Release")
    card, made = sheet_for(bench)
    with pytest.raises(FitError, match="Give it more room first"):
        run(made, bench, Watch(), typed_tag=card.tag)
    assert files(card, 1) == OLD
    put_card(bench, "two", 64 * MIB, card_of({"roms.gb": b"x"}, {}, size=64 * MIB), name="Release")
    with pytest.raises(FitError, match="no partition on the source that is known as firmware"):
        sheet_for(bench)
