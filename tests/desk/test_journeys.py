"""Whole journeys through the window, from the card in hand to the result; acts are counted as a person has them.

A click, a typed value or a choice is an act; waiting is not. The card in hand is chosen by the first act.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QFileDialog

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import Kind
from mosscrate.core.watch import Watch
from mosscrate.desk.shared.saving import choices
from mosscrate.desk.window import KEEP, MOVE
from tests.cards import MIB, handheld, put_card
from tests.core.maps.test_ahdi import drive as ahdi_drive
from tests.core.maps.test_rdb import drive as rdb_drive
from tests.core.sheet.test_propose import small_clusters
from tests.core.sheet.test_steps import put_in
from tests.core.test_images import dynamic
from tests.desk.person import medium
from tests.packs import PACKERS

GB = 10**9


def made(*steps, size=40 * MIB, files=None):
    """A card laid out by steps, the same files on each of its volumes."""
    card = MemoryBlocks(bytes(size), name="Card")
    for step in steps:
        perform(step, card, None, Watch())
    for look in survey(card).with_contents:
        if look.volume:
            put_in(partition_window(card, look.partition), files or {"A.BIN": b"a" * 900, "B.BIN": b"b" * 5000})
    return card.data


def bring(person, bench, stem, size, data, name):
    put_card(bench, stem, size, data, name=name)
    person.window.model.refresh()
    person.wait(lambda: any(m.name == name for m in person.window.model.media) and person.window.model.asker.is_idle)


def confirm(person, name):
    """The tag, Run, and the wait; gives the layout of the card."""
    entry = person.window.move_.guard_panel.entry
    person.type_tag(entry, medium(person, name).tag)
    person.click(entry.buttons[0])
    person.wait_for_job()
    move = person.window.move_
    assert move.run_panel.head.text().startswith("Done"), move.run_panel.words.text()
    with medium(person, name).open() as blocks:
        return survey(blocks, thorough=True)


def onto(person, source, target):
    person.acts = 0
    person.plan(source, target)


def files(person, name, index):
    with medium(person, name).open() as blocks:
        volume = open_partition(blocks, index)
        return {e.path.upper(): b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == Kind.FILE}


def test_an_instruments_card_goes_onto_a_larger_one_and_stays_as_large_as_it_was(person, bench):
    organ = made(s.NewMap("mbr"), s.AddPartition("fat16", label="ORGAN"), size=12 * MIB)
    bring(person, bench, "organ", 12 * MIB, organ, "Organ CF")
    bring(person, bench, "cf", 200 * MIB, b"", "Spare CF")
    onto(person, "Organ CF", "Spare CF")
    layout = confirm(person, "Spare CF")
    assert person.acts <= 5
    assert [p.partition for p in layout.partitions] == [p.partition for p in survey(MemoryBlocks(organ)).partitions]


def test_a_home_computers_card_is_kept(person, bench):
    drive = rdb_drive()
    bring(person, bench, "tarn", drive.size, drive.data, "Tarn CF")
    person.acts = 0
    person.pick_card("Tarn CF")
    person.click(person.window.look.keep_button)
    person.wait(lambda: not person.window.model.busy and person.window.model.asker.is_idle)
    assert person.acts <= 2
    assert [lane.card.name for lane in bench.crate.lanes()] == ["Tarn CF"]


def test_a_dos_image_comes_onto_a_large_card_with_drives_up_to_eight_gigabytes(person, bench):
    lantern = made(s.NewMap("mbr"), s.AddPartition("fat16", label="C", alignment=63 * 512),
                   s.FlagPartition(1, "active"))
    bring(person, bench, "lantern", 40 * MIB, lantern, "Lantern image")
    bring(person, bench, "large", 32 * GB, b"", "Large CF")
    onto(person, "Lantern image", "Large CF")
    offer = next(row for row in person.window.move_.sheet_panel._steps if "logical drives" in row.sentence.text())
    assert not offer.box.isChecked()
    person.click(offer.box, offer.box.rect().center())
    layout = confirm(person, "Large CF")
    assert person.acts <= 6
    assert [p.volume.kind for p in layout.with_contents] == ["fat16"] * 5
    assert max(p.partition.end for p in layout.with_contents) <= 8 * GB
    assert layout.with_contents[0].partition.length < 40 * MIB


def test_a_handheld_card_is_kept_written_and_grown(person):
    onto(person, "Worn card", "New card")
    layout = confirm(person, "New card")
    assert person.acts <= 6
    assert layout.partitions[1].partition.end > 99 * MIB
    assert person.window.model.lanes[0].card.name == "Worn card"


def test_hidden_partitions_are_cleared_and_an_ext4_volume_grows_over_them(person, bench):
    pc = made(s.NewMap("gpt"), *(s.AddPartition("fat12", 4 * MIB) for _ in range(4)), s.FlagPartition(2, "hidden"))
    linux = made(s.NewMap("mbr"), s.AddPartition("fat16", 8 * MIB, label="BOOT"), s.AddPartition("ext4", label="root"))
    bring(person, bench, "pc", 100 * MIB, pc, "Old stick")
    bring(person, bench, "linux", 40 * MIB, linux, "System image")
    onto(person, "System image", "Old stick")
    layout = confirm(person, "Old stick")
    assert person.acts <= 5
    assert [(p.volume.kind, p.name) for p in layout.partitions] == [("fat16", "BOOT"), ("ext4", "root")]
    assert layout.partitions[1].partition.end > 99 * MIB
    assert [f.sentence for f in layout.findings if f.severity in ("problem", "warning")] == []


def test_a_card_that_did_not_grow_is_mended_and_one_of_its_files_replaced(person, bench, tmp_path, monkeypatch):
    card = handheld(40 * MIB)
    bring(person, bench, "pipkin", 120 * MIB, card.data, "Pipkin")
    (tmp_path / "new.dtb").write_bytes(b"another panel")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "new.dtb"), ""))
    w = person.window
    person.acts = 0
    person.pick_card("Pipkin")
    person.click(w.look.grow_button)
    person.wait(lambda: w.move_.plan is not None)
    layout = confirm(person, "Pipkin")
    assert layout.partitions[1].partition.end > 99 * MIB
    person.click(w.move_.run_panel.look_button)
    person.wait(lambda: w.model.asker.is_idle)
    stratum = next(p for p in w.look.core.placed() if p.index == 1)
    person.click(w.look.core, w.look.core.stratum_rect(stratum).center().toPoint())
    person.wait(lambda: w.look.files.tree.isVisible() and w.look.files.head.text() == "PEAT")
    person.click(w.look.files.tree.viewport(), w.look.files.tree.visualRect(
        w.look.files._model.find("panel.dtb")).center())
    person.click(w.look.files.acts.replace)
    person.type_tag(w.look.files.strip.entry, medium(person, "Pipkin").tag)
    QTest.keyClick(w.look.files.strip.entry.field, Qt.Key.Key_Return)
    person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
    assert person.acts <= 9
    assert files(person, "Pipkin", 1)["PANEL.DTB"] == b"another panel"


def test_the_games_volume_of_a_move_is_made_anew_to_fill_its_card(person):
    onto(person, "Worn card", "New card")
    panel = person.window.move_.size_panel
    person.acts += 1
    panel.ways.setCurrentIndex(1)
    panel.ways.activated.emit(1)
    assert "Make GAMES anew" in person.window.move_.plan.forecast.lines[2].sentence
    before = files(person, "Worn card", 2)
    layout = confirm(person, "New card")
    assert person.acts <= 6
    assert (layout.partitions[1].name, layout.partitions[1].partition.end > 99 * MIB) == ("GAMES", True)
    assert files(person, "New card", 2) == before


def test_a_volume_whose_clusters_are_too_small_fills_its_card_by_one_choice(person, bench):
    bring(person, bench, "small", 30 * MIB, small_clusters(30 * MIB).data, "Small clusters")
    bring(person, bench, "wide", 200 * MIB, b"", "Wide CF")
    onto(person, "Small clusters", "Wide CF")
    stops = person.window.move_.size_panel.stops
    last = stops.count() - 1
    person.acts += 1
    stops.setCurrentIndex(last)
    stops.activated.emit(last)
    layout = confirm(person, "Wide CF")
    assert person.acts <= 6
    assert layout.partitions[0].partition.end > 199 * MIB


@pytest.mark.parametrize("machine", ["ahdi", "rdb"])
def test_files_are_put_into_a_drive_of_an_older_machine(person, bench, tmp_path, monkeypatch, machine):
    drive = {"ahdi": ahdi_drive, "rdb": rdb_drive}[machine]()
    bring(person, bench, "old-drive", drive.size, drive.data, "Old drive")
    songs = [tmp_path / f"SONG{k}.SNG" for k in range(3)]
    for song in songs:
        song.write_bytes(song.name.encode())
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(p) for p in songs], ""))
    w = person.window
    person.acts = 0
    person.pick_card("Old drive")
    person.wait(lambda: w.look.files.acts.put.isEnabled())
    person.click(w.look.files.acts.put)
    person.type_tag(w.look.files.strip.entry, medium(person, "Old drive").tag)
    person.click(w.look.files.strip.entry.buttons[0])
    person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
    assert person.acts <= 5
    assert set(files(person, "Old drive", w.look.core.selected)) == {p.name for p in songs}


def test_a_card_is_cloned(person, bench):
    bring(person, bench, "twin", 40 * MIB, b"", "Twin")
    onto(person, "Worn card", "Twin")
    assert person.window.move_.title.text() == "Move a card as it is onto another one"
    confirm(person, "Twin")
    assert person.acts <= 5
    with medium(person, "Worn card").open() as a, medium(person, "Twin").open() as b:
        assert a.read(0, a.size) == b.read(0, b.size)


def test_from_the_shelf_to_a_finished_move_by_the_keyboard_alone(person):
    w, keys = person.window, 0

    def press(key, modifier=Qt.KeyboardModifier.NoModifier):
        nonlocal keys
        keys += 1
        QTest.keyClick(QApplication.focusWidget() or w, key, modifier)
        person.wait(lambda: w.model.asker.is_idle)

    w.activateWindow()
    w.look.shelf.setFocus()
    w.look.shelf.setCurrentRow(0)
    person.wait(lambda: w.model.asker.is_idle and QApplication.focusWidget() is w.look.shelf)
    press(Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    assert keys <= 3
    assert (w.move_.source.name, QApplication.focusWidget()) == ("Worn card", w.move_.to_box.box)
    press(Qt.Key.Key_Down)
    person.wait(lambda: w.move_.plan is not None)
    assert w.move_.target.name == "New card"
    press(Qt.Key.Key_Tab)
    assert QApplication.focusWidget() is w.move_.guard_panel.entry.field
    for letter in medium(person, "New card").tag:
        press(getattr(Qt.Key, f"Key_{letter}"))
    press(Qt.Key.Key_Return)
    assert QApplication.focusWidget() is w.move_.run_panel.stop_button or w.move_.job is None
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done")
    assert QApplication.focusWidget() is w.move_.run_panel.look_button
    assert keys <= 20
    with medium(person, "New card").open() as blocks:
        assert len(read_map(blocks).partitions) == 2


def test_a_disk_in_a_container_is_moved_onto_a_card_like_any_other(person, tmp_path):
    card = handheld(40 * MIB)
    (tmp_path / "Pipkin.vhd").write_bytes(dynamic(bytes(card.data), 3, absent=0, unwritten=0)[0])
    w = person.window
    w.model.open_image(tmp_path / "Pipkin.vhd")
    person.wait(lambda: w.model.asker.is_idle and w.model.selected.name == "Pipkin")
    assert "VHD image file" in w.look.subtitle.text()
    onto(person, "Pipkin", "New card")
    layout = confirm(person, "New card")
    assert person.acts <= 5
    assert layout.partitions[1].partition.end > 99 * MIB
    assert files(person, "New card", 1)["PANEL.DTB"] == b"tree" * 300


def drop_on_move(person, path):
    """A file falls onto the button of Move: one act."""
    person.acts = 1
    window, data = person.window, QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    button = window.rail.findChildren(QAbstractButton)[MOVE]
    point = QPointF(button.mapTo(window, button.rect().center()))
    window.dropEvent(QDropEvent(point, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                Qt.KeyboardModifier.NoModifier, QEvent.Type.Drop))
    person.wait(lambda: window.model.asker.is_idle)


def test_an_image_in_an_archive_is_written_straight_onto_a_card(person, tmp_path):
    path = PACKERS["xz in a zip"](tmp_path, bytes(handheld(40 * MIB).data))
    drop_on_move(person, path)
    person.choose(person.window.move_.to_box, "New card")
    person.wait(lambda: person.window.move_.plan is not None and not person.window.model.reading)
    person.wait(lambda: person.window.model.asker.is_idle)
    layout = confirm(person, "New card")
    assert person.acts <= 4
    assert layout.partitions[1].partition.end > 99 * MIB
    assert files(person, "New card", 1)["PANEL.DTB"] == b"tree" * 300


def test_an_image_in_three_parts_gets_a_larger_volume_of_the_size_that_was_typed(person, tmp_path):
    path = PACKERS["7z in parts"](tmp_path, bytes(handheld(40 * MIB).data))
    drop_on_move(person, path)
    move = person.window.move_
    person.choose(move.to_box, "New card")
    person.wait(lambda: move.plan is not None and not person.window.model.reading)
    person.wait(lambda: person.window.model.asker.is_idle and move.plan.growing == 2)
    person.type_text(move.size_panel.field, "60MiB")
    QTest.keyClick(move.size_panel.field, Qt.Key.Key_Return)
    person.wait(lambda: person.window.model.asker.is_idle)
    layout = confirm(person, "New card")
    assert person.acts <= 5
    assert layout.partition(2).partition.length == layout.partition(2).volume.size == 60 * MIB


def test_a_kept_drive_is_saved_for_an_emulator(person, bench, tmp_path, monkeypatch):
    drive = rdb_drive()
    bring(person, bench, "tarn", drive.size, drive.data, "Tarn 68")
    person.pick_card("Tarn 68")
    person.click(person.window.look.keep_button)
    person.wait_for_job()
    person.wait(lambda: person.window.model.asker.is_idle and bool(person.window.model.lanes))
    person.window.go_to(KEEP)
    keep = person.window.keep
    person.wait(lambda: keep.lanes.selected is not None and person.window.model.asker.is_idle)
    person.acts = 1                                          # the backup is picked
    way = next(words for words, (kind, used) in choices().items() if kind.key == "qcow2" and not used)
    monkeypatch.setattr(QFileDialog, "getSaveFileName",
                        lambda _self, _title, suggested, kinds: (str(tmp_path / Path(suggested).name), way))
    person.click(keep.detail.save)
    person.acts += 1                                         # the kind is chosen
    person.wait(lambda: not person.window.model.jobs and person.window.model.asker.is_idle)
    assert person.acts <= 3
    saved = next(tmp_path.glob("Tarn 68*.qcow2"))
    with disk_in(open_image(saved)) as disk:
        assert (disk.container, disk.read(0, disk.size)) == ("qcow2", bytes(drive.data))
