"""A fresh firmware and what the old one held: saves, settings and system files come back to where it wants them."""

from __future__ import annotations

import random

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.files import FileKind
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.parts import Choice, keep_part
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning import fetching
from mosscrate.core.sheet.planning.propose import propose
from mosscrate.core.sheet.planning.putting_back import Ends, putting_back
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.steps import PutFiles, Verify
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, lay_out, put_card
from tests.fill.samples import gb, md

HILL, TIDE = (make(random.Random(seed)) for seed, make in ((1, gb), (2, md)))
OLD = {"gb": None, "md": None, "bios": None, "gb/Hill.gb": HILL, "gb/Hill.sav": b"s" * 32768, "md/Tide.md": TIDE,
       "md/Tide.srm": b"t" * 8192, "gb/Hill.st0": b"state" * 900, "md/gone.sav": b"g" * 8192, "notes.txt": b"mine"}
NEW = {"Roms": None, "Roms/GB": None, "Roms/MD": None, "Roms/FC": None, "Saves": None, "Menu": None, "BIOS": None}


def card(firmware, games, size=40 * MIB):
    """A handheld's card: a firmware partition and one for games."""
    blocks = MemoryBlocks(bytes(size))
    lay_out(blocks, [(MIB, 5 * MIB, FatType.FAT16, "PEAT", firmware), (6 * MIB, size - 6 * MIB, FatType.FAT32, "GAMES",
                                                                      games)])
    return blocks.data


@pytest.fixture
def handheld(bench, tmp_path):
    """(old card, image of the new firmware)"""
    put_card(bench, "pipkin", 100 * MIB, card({"zImage": b"old" * 99, "panel.ini": b"bright=7", "own.cfg": b"x",
                                               "same.cfg": b"as ever"}, OLD,
                                              100 * MIB), name="Pipkin")
    image = tmp_path / "firmware-2.img"
    image.write_bytes(card({"zImage": b"new" * 99, "panel.ini": b"bright=3", "same.cfg": b"as ever"}, NEW))
    return bench.shelf.find("Pipkin"), bench.shelf.find(str(image))


def ends_of(source, target):
    with source.open() as a, target.open() as b:
        return Ends(source, survey(a), target, survey(b))


def files_on(medium, index):
    with medium.open() as blocks:
        volume = open_partition(blocks, index)
        return {e.path: (b"".join(volume.read_file(e)), e.modified) for e in volume.tree().entries if e.kind == "file"}


def test_what_a_card_holds_comes_back_onto_the_firmware_that_is_written_over_it(bench, handheld):
    old, image = handheld
    before = files_on(old, 2)
    ends = ends_of(image, old)
    sheet = propose(image, ends.source_layout, old, ends.target_layout, bench.crate)
    back = putting_back(old, sheet, ends, bench.state, Watch())
    assert back.files == {"save": 3, "setting": 1}
    assert [path for path, _why in back.left] == ["gb/Hill.st0", "own.cfg"]
    assert back.sentence == ("Of Pipkin come back: 3 saves and 1 setting. 2 files have no place there: gb/Hill.st0, "
                             "own.cfg.")
    made = back.into(sheet)
    kinds = [type(step) for step in made.steps]
    assert kinds.index(PutFiles) > kinds.index(Verify)
    done = run(made, bench, Watch(), typed_tag=old.tag)
    assert sum("Read back and equal." in each.sentence for each in done.done) >= kinds.count(PutFiles)
    now = files_on(old, 2)
    assert now["Saves/Hill.sav"] == before["gb/Hill.sav"]
    assert now["Saves/Tide.sav"] == before["md/Tide.srm"]
    assert now["Saves/gone.sav"] == before["md/gone.sav"]                         # its game is nowhere
    assert not any(path.startswith("Roms/") for path in now)
    firmware = files_on(old, 1)
    assert firmware["panel.ini"][0] == b"bright=7"
    assert b"bright=3" in {data for data, _when in firmware.values()}              # the new one stays beside it
    assert firmware["zImage"][0] == b"new" * 99
    with old.open() as blocks:
        assert survey(blocks).partitions[1].partition.end > 99 * MIB              # it grew before
    assert "holds again what it held" in recovering.undo(done.job, bench, Watch(), typed_tag=old.tag)
    assert files_on(old, 2) == before


def test_a_backup_serves_as_well_and_what_cannot_be_read_is_told(bench, handheld, monkeypatch):
    old, image = handheld
    put_card(bench, "spare", 100 * MIB, name="Spare")
    spare = bench.shelf.find("Spare")
    ends = ends_of(image, spare)
    sheet = propose(image, ends.source_layout, spare, ends.target_layout, bench.crate)

    def fetch(pieces, modified, state):
        data = b"".join(pieces)
        if data.startswith(b"t"):
            raise FitError("the card gave up")
        return real((data,), modified, state)
    real = fetching.fetch
    monkeypatch.setattr("mosscrate.core.sheet.planning.putting_back.fetch", fetch)
    back = putting_back(old, sheet, ends, bench.state, Watch())
    assert back.unread == (("Tide.srm", "the card gave up"),)
    assert "1 file could not be read: Tide.srm." in back.sentence
    run(back.into(sheet), bench, Watch(), typed_tag=spare.tag)
    assert files_on(spare, 2)["Saves/Hill.sav"][0] == OLD["gb/Hill.sav"]


def test_a_backup_of_saves_alone_tells_by_its_folders_whose_they_are(bench, handheld):
    old, image = handheld
    with old.open() as blocks:
        backup = keep_part(bench.crate, card_of(old), blocks, survey(blocks), Choice((FileKind.SAVE,)), Watch())
    ends = ends_of(image, old)
    sheet = propose(image, ends.source_layout, old, ends.target_layout, bench.crate)
    back = putting_back(bench.shelf.medium_at(backup.path), sheet, ends, bench.state, Watch())
    assert back.files == {"save": 3}
    assert {place for step in back.steps for place in step.places} == {f"Saves/{name}.sav"
                                                                       for name in ("Hill", "Tide", "gone")}


def test_where_the_new_firmware_has_the_same_folders_everything_has_the_place_that_it_had(bench, tmp_path):
    games = {"saves": None, "saves/odd": None, "saves/odd/gb-Hill.sav": b"s" * 99, "saves/odd/Hill.st0": b"state",
             "lost": None, "lost/x.sav": b"x", "themes": None, "themes/own.ini": b"of the release"}
    put_card(bench, "pipkin", 60 * MIB, card({}, games, 60 * MIB), name="Pipkin")
    (tmp_path / "same.img").write_bytes(card({}, {"saves": None, "saves/odd": None, "themes": None}))
    old, image = bench.shelf.find("Pipkin"), bench.shelf.find(str(tmp_path / "same.img"))
    ends = ends_of(image, old)
    sheet = propose(image, ends.source_layout, old, ends.target_layout, bench.crate)
    back = putting_back(old, sheet, ends, bench.state, Watch())
    assert (back.files, [path for path, _why in back.left]) == ({"save": 1, "save state": 1}, ["lost/x.sav"])
    run(back.into(sheet), bench, Watch(), typed_tag=old.tag)
    assert {path for path in files_on(old, 2) if path.startswith("saves")} == {"saves/odd/gb-Hill.sav",
                                                                              "saves/odd/Hill.st0"}
