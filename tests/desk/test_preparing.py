"""Preparing a card: laid out anew for a purpose, labelled, with files on it."""

from __future__ import annotations

import random

import pytest
from PyQt6.QtWidgets import QFileDialog

from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from tests.cards import put_card
from tests.desk.person import medium, words_of
from tests.fill.samples import SAMPLES


@pytest.fixture
def large(bench):
    put_card(bench, "large", 64_000_000_000, name="Large card")


def prepared(person, name):
    """The layout of a card once its sheet has run."""
    w = person.window
    person.type_tag(w.move_.guard_panel.entry, medium(person, name).tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    with medium(person, name).open() as blocks:
        return survey(blocks)


def test_a_blank_card_becomes_one_labelled_volume_with_a_file_in_five_acts(large, person, tmp_path, monkeypatch):
    w = person.window
    (tmp_path / "note.txt").write_text("moss")
    person.pick_card("Large card")
    person.acts = 0
    person.click(w.look.prepare_button)
    person.wait(lambda: w.move_.plan is not None)
    assert w.move_.title.text() == "Prepare a card"
    panel = w.move_.prepare_panel
    person.type_text(panel.name, "GAMES")
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(tmp_path / "note.txt")], ""))
    person.click(panel.files_button)
    assert "note.txt" in panel.listed.text()
    assert [line.sentence for line in w.move_.plan.forecast.lines][:3] == [
        "Put an empty MBR map on Large card", "Make the partition GAMES, 59.6 GiB, FAT32", "Put “note.txt” into GAMES"]
    layout = prepared(person, "Large card")
    assert (layout.partitions[0].volume.kind, layout.partitions[0].volume.label) == ("fat32", "GAMES")
    with medium(person, "Large card").open() as blocks:
        assert [e.path for e in open_partition(blocks, 1).tree().entries] == ["note.txt"]
    assert person.acts <= 5


def test_a_games_card_is_laid_out_and_filled_by_one_sheet_in_six_acts(large, person, tmp_path, monkeypatch):
    w, rnd, top = person.window, random.Random(4), tmp_path / "library"
    for place, data in (("GB/Hill Run.gb", SAMPLES["gb"][1](rnd)), ("GB/Hill Run.sav", rnd.randbytes(8192)),
                        ("Advance/Moss.gba", SAMPLES["gba"][1](rnd)), ("odd/what.xyz", b"nobody knows")):
        (top / place).parent.mkdir(parents=True, exist_ok=True)
        (top / place).write_bytes(data)
    person.pick_card("Large card")
    person.acts = 1                                                                   # the card
    person.click(w.look.prepare_button)
    person.wait(lambda: w.move_.plan is not None)
    panel = w.move_.prepare_panel
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(top))
    person.click(panel.games_button)
    person.acts += 1
    next(act for act in w.move_.games.menu.actions() if act.text() == "A folder…").trigger()
    w.move_.games.menu.close()
    assert not w.move_.guard_panel.entry.field.isEnabled()                            # nothing runs while it is sorted
    person.wait(lambda: w.move_.plan is not None and len(w.move_.plan.sheet.steps) == 4)
    assert panel.sorted.text().startswith("3 files, ")
    assert "1 file is left out" in panel.sorted.text()
    panel.plans.setCurrentIndex(panel.plans.findText("short codes, saves beside"))    # as it was chosen the last time
    panel.plans.activated.emit(panel.plans.currentIndex())
    person.wait(lambda: w.model.asker.is_idle and w.move_.guard_panel.entry.field.isEnabled())
    prepared(person, "Large card")
    with medium(person, "Large card").open() as blocks:
        assert {e.path for e in open_partition(blocks, 1).tree().entries} == {
            "gb", "gba", "gb/Hill Run.gb", "gb/Hill Run.sav", "gba/Moss.gba"}
    assert person.acts <= 6
    assert "Read back and equal." in words_of(w.move_.sheet_panel)


def test_a_target_without_a_source_offers_every_fresh_layout(large, person):
    w = person.window
    person.window.go_to(2)
    w.move_.choose_target(medium(person, "Large card"))
    person.wait(lambda: w.move_.plan is not None)
    panel = w.move_.prepare_panel
    seen = {}
    for number in range(panel.layouts.count()):
        panel.layouts.setCurrentIndex(number)
        panel.layouts.activated.emit(number)
        seen[panel.layouts.currentText()] = [look.name for look in w.move_.right.layout_shown.with_contents]
        if panel.layouts.currentText() == "As its machine wants it":
            assert "Choose the machine" in panel.error.text()
    assert seen["Firmware and games"] == ["FIRMWARE", "Partition 2"]
    assert len(seen["Drives of an old PC"]) == 4
    w.model.mean_for("rdb-64bit")
    assert panel.error.text() == ""
    assert [look.volume.kind for look in w.move_.right.layout_shown.with_contents] == ["ffs", "ffs"]
    w.move_.choose_source(medium(person, "Worn card"))
    person.wait(lambda: w.move_.plan is not None)
    assert w.move_.title.text() == "Copy partitions onto another card"             # as that machine needs it


def test_a_card_with_files_is_kept_first_and_can_be_taken_back(person):
    w = person.window
    before = medium(person, "Worn card").path.read_bytes()
    person.pick_card("Worn card")
    person.click(w.look.prepare_button)
    person.wait(lambda: w.move_.plan is not None)
    assert [type(step).__name__ for step in w.move_.plan.sheet.steps] == ["KeepCard", "NewMap", "AddPartition", "Eject"]
    layout = prepared(person, "Worn card")
    assert (len(layout.partitions), layout.files) == (1, 0)
    person.type_tag(w.move_.run_panel.entry, medium(person, "Worn card").tag)
    person.click(w.move_.run_panel.entry.buttons[0])
    person.wait_for_job()
    with medium(person, "Worn card").open() as blocks:
        assert survey(blocks).files > 0
    assert len(medium(person, "Worn card").path.read_bytes()) == len(before)
