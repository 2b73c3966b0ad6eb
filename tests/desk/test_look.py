"""Look: structures, files and images of the card in hand."""

from __future__ import annotations

import gzip
import threading
import zipfile
from dataclasses import replace
from hashlib import sha256

from PyQt6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QFileDialog

from mosscrate.core.blocks import open_blocks
from mosscrate.core.contents.fresh_images import floppy, make_floppy
from mosscrate.core.contents.survey import open_partition, survey
from mosscrate.core.errors import NotReadYet
from mosscrate.core.images import Reach
from mosscrate.core.maps import read_map
from mosscrate.core.slots import Shelf
from mosscrate.core.volumes import edit
from mosscrate.desk import bench_model
from mosscrate.desk.shared.strata import strata_of
from tests.cards import MIB, handheld, put_card
from tests.desk.person import files_of, medium, words_of


def test_the_structures_of_a_card_are_shown_field_by_field(person):
    look = person.window.look
    person.pick_card("Worn card")
    person.click(look.structure_button)
    person.wait(lambda: look.structure.tree.isVisible())
    tree = look.structure.tree
    titles = [tree.topLevelItem(k).text(0) for k in range(tree.topLevelItemCount())]
    assert titles[0].startswith("Master boot record")
    boot = next(tree.topLevelItem(k) for k in range(len(titles)) if tree.topLevelItem(k).isExpanded())
    fields = {boot.child(k).text(0): boot.child(k).text(1) for k in range(boot.childCount())}
    assert (boot.text(0)[:20], fields["bytes per sector"]) == ("Boot sector of GAMES", "512")
    tree.setCurrentItem(next(boot.child(k) for k in range(boot.childCount()) if boot.child(k).text(0) == "media"))
    assert look.structure.bytes.accessibleDescription() == "f8"
    person.click(look.files_button)
    assert look.files.isVisible()
    assert not tree.isVisible()


def test_a_folder_is_taken_out_to_this_computer(person, tmp_path, monkeypatch):
    look = person.window.look
    said = []
    person.window.model.said.connect(said.append)
    person.pick_card("Worn card")
    person.wait(lambda: look.files.tree.isVisible())
    tree = look.files.tree
    tree.setCurrentIndex(tree.model().index(0, 0))
    entry = look.files._model.entry(tree.currentIndex())
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    person.click(look.files.acts.take)
    person.wait(lambda: bool(said))
    assert (tmp_path / entry.name).exists()
    assert "copied to" in said[0]


def test_nothing_is_taken_out_of_a_packed_image_that_is_not_what_its_checksum_says(person, tmp_path, monkeypatch):
    look, told = person.window.look, []
    person.window.model.failed.connect(told.append)
    packed = gzip.compress(bytes(handheld(40 * MIB).data), 1)
    path, to = tmp_path / "set.img.gz", tmp_path / "to"
    to.mkdir()
    path.write_bytes(packed[:-8] + bytes([packed[-8] ^ 1]) + packed[-7:])
    person.window.model.open_image(path)
    person.wait(lambda: look.files.tree.isVisible() and person.window.model.asker.is_idle)
    look.files.tree.setCurrentIndex(look.files.tree.model().index(0, 0))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(to))
    person.click(look.files.acts.take)
    person.wait(lambda: bool(told))
    assert "Fetch it again" in told[0]
    assert list(to.iterdir()) == []


def test_a_comment_and_protection_bits_are_set_in_look(person, tmp_path):
    look, model = person.window.look, person.window.model
    disk = tmp_path / "disk.adf"
    make_floppy(disk, floppy("home-880"))
    with open_blocks(disk, writable=True) as blocks:
        editor = edit(blocks)
        editor.add_file("a song", b"la")
        editor.commit()
    model.open_image(disk)
    person.wait(lambda: model.asker.is_idle and look.files.tree.isVisible() and model.selected.name == "disk")
    for ask, text in ((look.files.acts.comment, "from the attic"), (look.files.acts.protect, "----rw-d")):
        look.files.tree.setCurrentIndex(look.files.tree.model().index(0, 0))
        person.click(ask)
        look.files.strip.field.setText(text)
        person.type_tag(look.files.strip.entry, model.selected.tag)
        person.click(look.files.strip.entry.buttons[0])
        person.wait(lambda: not model.busy and model.asker.is_idle and look.files.tree.isVisible())
    with open_blocks(disk) as blocks:
        entry = open_partition(blocks, 0).tree().find("a song")
    assert (entry.comment, entry.protection) == ("from the attic", 2)


def test_a_partition_is_saved_as_an_image_and_an_empty_floppy_is_made(person, tmp_path, monkeypatch):
    look, model = person.window.look, person.window.model
    person.pick_card("Worn card")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "one.img"), ""))
    person.click(look.files.image_button)
    person.wait(lambda: not model.busy and (tmp_path / "one.img").exists())
    with medium(person, "Worn card").open() as blocks:
        part = read_map(blocks).partition(look.core.selected)
        assert (tmp_path / "one.img").read_bytes() == blocks.read(part.start, part.length)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda _self, _title, _place, kinds: (
        str(tmp_path / "two.img"), next(k for k in kinds.split(";;") if "880 KB, ffs " in k)))
    person.click(look.new_button)
    person.wait(lambda: model.asker.is_idle and model.selected.name == "two")
    layout = model.layout_of(model.selected)
    assert (layout.size, layout.partition(0).volume.variant) == (901120, "ffs")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda _self, _title, _place, kinds: (
        str(tmp_path / "three.img"), next(k for k in kinds.split(";;") if "drive, 500 MB" in k)))
    person.click(look.new_button)
    person.wait(lambda: model.asker.is_idle and model.selected.name == "three")
    layout = model.layout_of(model.selected)
    assert (layout.size, layout.is_blank) == (500_000_000 // 512 * 512, True)


def drop(window, *paths):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    window.dropEvent(QDropEvent(QPointF(200, 200), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                Qt.KeyboardModifier.NoModifier, QEvent.Type.Drop))


def test_a_dropped_image_is_opened_and_a_damaged_packed_one_is_explained(person, tmp_path):
    w, image = person.window, tmp_path / "found.img"
    image.write_bytes(bytes(2 * MIB))
    packed = tmp_path / "other.img.gz"
    packed.write_bytes(b"\x1f\x8b\x08" + bytes(30))
    drop(w, image)
    drop(w, packed)
    assert w.model.selected.name == "found"
    assert "other.img is damaged" in w.strip.words.text()


def only_the_beginning(_reach, name, offset):
    """A glance that ends after the first MiB."""
    if offset >= MIB:
        raise NotReadYet(f"{name} has not been read that far")


def test_what_was_seen_last_stays_when_an_earlier_look_ends_after_it(person, monkeypatch):
    model, card = person.window.model, medium(person, "Worn card")
    real, held, looks = bench_model._survey, threading.Event(), []

    def slow_at_first(medium, bench):
        looks.append(medium)
        is_first, seen = len(looks) == 1, real(medium, bench)
        if not is_first:
            return seen
        assert held.wait(30)
        return replace(seen, layout=replace(seen.layout, partitions=()))

    monkeypatch.setattr(bench_model, "_survey", slow_at_first)
    model.look_again(card)
    person.wait(lambda: looks)
    model.look_again(card)
    person.wait(lambda: card.key not in model._surveys)
    held.set()
    person.wait(lambda: model.asker.is_idle)
    assert model.layout_of(card).partitions


def test_a_packed_image_is_shown_in_its_wrapping_and_read_through(person, tmp_path, monkeypatch):
    w, card, elsewhere = person.window, handheld(40 * MIB), tmp_path / "lists"
    packed = tmp_path / "set.zip"
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("release/card.img.gz", gzip.compress(bytes(card.data), 1))
        archive.writestr("release/other.img", bytes(65536))
        archive.writestr("read me.txt", "not a disk")
    elsewhere.mkdir()
    (elsewhere / "SHA256SUMS").write_text(f"{sha256(bytes(card.data)).hexdigest()} *card.img\n")
    monkeypatch.setattr(Reach, "must_do", only_the_beginning)
    drop(w, elsewhere / "SHA256SUMS", packed)
    person.wait(lambda: w.model.asker.is_idle and w.model.layout_of(w.model.selected) is not None)
    medium, strip = w.model.selected, w.look.packing
    layout = w.model.layout_of(medium)
    assert (medium.name, layout.packing.kinds, layout.is_read_through) == ("card", ("zip", "gzip"), False)
    assert [p.is_unread for p in layout.partitions] == [True, True]
    assert "gzip in zip" in strip.how.text()
    assert "not known" in strip.known.text()
    assert w.look.core.unwrapped == 0
    person.click(strip.read_button)
    person.wait(lambda: not w.model.reading and w.model.asker.is_idle)
    layout = w.model.layout_of(medium)
    assert (layout.size, layout.is_read_through, layout.is_size_known) == (40 * MIB, True, True)
    assert [p.volume.label for p in layout.partitions] == ["PEAT", "GAMES"]
    assert "SHA-256 as SHA256SUMS says" in strip.known.text()
    assert w.look.core.unwrapped == 1
    person.click(strip.others_button)
    strip.menu.actions()[0].trigger()
    person.wait(lambda: w.model.asker.is_idle and w.model.selected.name == "other")
    assert w.model.layout_of(w.model.selected).size == 65536


def test_files_are_dropped_renamed_removed_and_taken_back_with_the_tag(person, tmp_path):
    w = person.window
    person.pick_card("Worn card")
    look, tag = w.look, medium(person, "Worn card").tag
    person.wait(lambda: look.files.tree.isVisible())
    before = files_of(person, "Worn card")
    (tmp_path / "fresh.sav").write_bytes(b"a save")

    def confirm():
        person.type_tag(look.files.strip.entry, tag)
        person.click(look.files.strip.entry.buttons[0])
        person.wait(lambda: not w.model.jobs and w.model.asker.is_idle)
        assert look.files.strip.undo.isVisible(), look.files.strip.sentence.text()

    def choose(path):
        model = look.files.tree.model()
        row = next(r for r in range(model.rowCount()) if model.entry(model.index(r, 0)).path == path)
        look.files.tree.setCurrentIndex(model.index(row, 0))

    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "fresh.sav"))])
    look.files.dropEvent(QDropEvent(QPointF(2, 2), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                    Qt.KeyboardModifier.NoModifier, QEvent.Type.Drop))
    assert not look.files.strip.entry.buttons[0].isEnabled()
    confirm()
    assert "fresh.sav" in files_of(person, "Worn card")[1]
    person.wait(lambda: look.files.tree.isVisible())
    choose("fresh.sav")
    person.click(look.files.acts.rename)
    look.files.strip.field.setText("roms/renamed.sav")
    confirm()
    assert "roms/renamed.sav" in files_of(person, "Worn card")[1]
    person.wait(lambda: look.files.tree.isVisible())
    choose("roms")
    person.click(look.files.acts.remove)
    confirm()
    assert not any(p.startswith("roms") for p in files_of(person, "Worn card")[1])
    person.type_tag(look.files.strip.undo, tag)
    person.click(look.files.strip.undo.buttons[0])
    person.wait(lambda: not w.model.jobs and w.model.asker.is_idle)
    after = files_of(person, "Worn card")
    assert {**before[1], "roms/renamed.sav": after[1]["roms/renamed.sav"]} == after[1]


def test_a_card_whose_map_cannot_be_read_says_why_and_is_kept_as_far_as_it_goes(person, bench):
    put_card(bench, "worn-out", 8 * MIB, b"\x5a" * (8 * MIB), name="Worn out", unreadable=[(0, 65536)])
    w = person.window
    w.model.refresh()
    person.wait(lambda: any(m.name == "Worn out" for m in w.model.media) and w.model.asker.is_idle)
    person.pick_card("Worn out")
    person.wait(lambda: w.look.keep_button.isEnabled())
    assert "cannot be read at byte 0" in words_of(w.look.findings)
    assert "“Keep it” saves all that can be read" in words_of(w.look.findings)
    person.click(w.look.keep_button)
    person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
    backup, = (b for lane in bench.crate.lanes() for b in lane.backups)
    assert (backup.record.is_complete, list(map(tuple, backup.record.unreadable))) == (False, [(0, 65536)])
    w.go_to(1)
    person.wait(lambda: w.model.asker.is_idle)
    assert w.keep.lanes.selected.path == backup.path


def test_a_size_that_is_only_supposed_is_drawn_as_such(tmp_path):
    path = tmp_path / "card.img.gz"
    path.write_bytes(gzip.compress(bytes(handheld(48 * MIB, tail=4 * MIB).data), 1))
    medium = Shelf().find(str(path))
    with medium.open_to_look() as disk:
        last = strata_of(survey(disk))[-1]
    assert (last.name, last.is_unread, last.start, last.end) == ("perhaps", True, 44 * MIB, 48 * MIB)
    assert "size not known yet" in medium.subtitle


def test_what_was_wrong_with_one_file_does_not_stand_beside_the_next(person, tmp_path):
    window, bad, disk = person.window, tmp_path / "picture.img", tmp_path / "disk.adf"
    bad.write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(range(1, 256)) * 80)
    make_floppy(disk, floppy("home-880"))
    assert window.model.open_image(bad) is None
    assert "picture.img" in window.strip.words.text()
    assert window.model.open_image(disk) is not None
    assert window.strip.words.text() == "Nothing is running."
    assert window.model.open_images([bad, disk])                    # of several that were dropped, both are told
    assert "picture.img" in window.strip.words.text()
