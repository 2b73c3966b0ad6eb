"""The real window, driven through its widgets: the whole move, refusals, recovery, keyboard, both themes."""

from __future__ import annotations

import time
from itertools import pairwise

import pytest
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PyQt6.QtGui import QDropEvent, QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QPushButton

from mosscrate.core.blocks import MemoryBlocks, Window, open_blocks
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.fresh_images import floppy, make_floppy
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.findings import Severity
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.slots import medium as medium_module
from mosscrate.core.volumes import Making, edit, format_for
from mosscrate.core.watch import Watch
from mosscrate.desk import theme
from mosscrate.desk.app import make_application
from mosscrate.desk.finder import Finder
from mosscrate.desk.shared.strata import lay_out, strata_of
from mosscrate.desk.window import KEEP, LOOK, MOVE, MainWindow
from tests.cards import MIB, contents, handheld, put_card


@pytest.fixture(scope="session")
def qapp():
    return QApplication.instance() or make_application(["test"], "dark")


class Person:
    """Sits before one window; every act goes through a widget and is counted."""

    def __init__(self, bench):
        self.window = MainWindow(lambda: bench)
        self.window.show()
        self.acts = 0
        self.wait(lambda: self.window.is_furnished)
        self.wait(lambda: self.window.model.asker.is_idle and bool(self.window.model.media))

    def wait(self, ready, seconds=30):
        end = time.monotonic() + seconds
        while not ready():
            assert time.monotonic() < end, "the window did not get there"
            QApplication.processEvents()
            time.sleep(0.005)
        for _ in range(3):
            QApplication.processEvents()

    def click(self, widget, at=None):
        assert widget.isVisible(), "only what is seen can be clicked"
        assert widget.isEnabled(), "only what is enabled can be clicked"
        self.acts += 1
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at or QPoint())

    def pick_card(self, name):
        shelf = self.window.look.shelf
        row = [m.name for m in self.window.model.media].index(name)
        self.click(shelf.viewport(), shelf.visualItemRect(shelf.item(row)).center())
        self.wait(lambda: self.window.model.asker.is_idle)

    def choose(self, chooser, name):
        self.acts += 1
        number = chooser.box.findText(name)
        assert number > 0, name
        chooser.box.setCurrentIndex(number)
        chooser.box.activated.emit(number)

    def type_tag(self, entry, tag):
        self.acts += 1
        assert entry.field.isEnabled()
        QTest.keyClicks(entry.field, tag)

    def carry(self, core, stratum, to, at=None):
        self.acts += 1
        start = core.stratum_rect(stratum).center().toPoint()
        end = core.mapFromGlobal(to.mapToGlobal(at or to.rect().center()))
        QTest.mousePress(core, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        QTest.mouseMove(core, end)
        QTest.mouseRelease(core, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)

    def plan(self, source, target):
        self.pick_card(source)
        self.click(self.window.look.move_button)
        self.choose(self.window.move_.to_box, target)
        self.wait(lambda: self.window.move_.plan is not None)

    def wait_for_job(self):
        self.wait(lambda: self.window.move_.job is None and self.window.model.asker.is_idle)


@pytest.fixture
def person(qapp, bench):
    put_card(bench, "old", 40 * MIB, handheld(40 * MIB).data, name="Worn card", order=1)
    put_card(bench, "new", 100 * MIB, name="New card", order=2)
    put_card(bench, "tail", 70 * MIB, handheld(70 * MIB, tail=0).data, name="Full card", order=3, write_protected=True)
    bench.machines.folder.mkdir()
    (bench.machines.folder / "loom.toml").write_text(
        'name = "loom"\nmaps = ["mbr"]\nvolumes = ["fat16", "fat32"]\n'
        '[partition]\nsize = "64 MiB"\nbecause = "its shuttle is short"\n')
    made = Person(bench)
    yield made
    made.window.close()
    assert not [t for t in made.window.findChildren(QTimer) if t.isActive()], "a closed window leaves timers behind"


def medium(person, name):
    return next(m for m in person.window.model.media if m.name == name)


def words_of(panel):
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    return "\n".join(words.text() for words in panel.findChildren(QLabel))


def files_of(person, name):
    with medium(person, name).open() as blocks:
        return [contents(Window(blocks, p.start, p.length)) for p in read_map(blocks).partitions]


def test_a_worn_card_is_kept_planned_rehearsed_and_moved_in_six_acts(person):
    w = person.window
    person.plan("Worn card", "New card")
    assert [type(s).__name__ for s in w.move_.plan.sheet.steps] == ["KeepCard", "WriteImage", "GrowPartition", "Verify",
                                                                   "Eject"]
    with medium(person, "New card").open() as blocks:
        before = blocks.read(0, blocks.size)
    planned_acts = person.acts
    person.click(w.move_.rehearse_button)
    person.wait_for_job()
    assert w.move_.run_panel.head.text() == "Rehearsed: it works"
    with medium(person, "New card").open() as blocks:
        assert blocks.read(0, blocks.size) == before
    person.click(w.move_.run_panel.close_button)
    person.wait(lambda: w.move_.plan is not None)
    person.acts = planned_acts
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert person.acts <= 6
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    assert files_of(person, "New card") == files_of(person, "Worn card")
    with medium(person, "New card").open() as blocks:
        layout = survey(blocks, thorough=True)
    assert (layout.tail, layout.findings) == (0, ())
    assert len(w.model.bench.crate.backups_of(medium(person, "Worn card").key)) == 1


def test_the_run_button_needs_the_right_tag_and_the_guards_consent(person):
    entry = person.window.move_.guard_panel.entry
    person.plan("Worn card", "New card")
    assert not entry.buttons[0].isEnabled()
    person.type_tag(entry, "WXYZ")
    assert not entry.buttons[0].isEnabled()
    person.choose(person.window.move_.to_box, "Full card")
    person.wait(lambda: person.window.move_.plan is not None)
    assert not entry.field.isEnabled()                       # write-protected: no tag can confirm that
    said = " ".join(w.accessibleName() for w in person.window.move_.guard_panel.findChildren(type(entry).__base__))
    assert "write-protected" in said
    assert "in no backup" in said


def test_a_card_pulled_while_it_is_written_is_offered_and_finished(person, monkeypatch):
    w = person.window
    person.plan("Worn card", "New card")
    original = medium_module.Medium.open_for_guard
    with monkeypatch.context() as patched:
        patched.setattr(medium_module.Medium, "open_for_guard",
                        lambda self: FaultyBlocks(original(self), Faults(pulled_after_writes=9)))
        person.type_tag(w.move_.guard_panel.entry, w.move_.plan.target.tag)
        person.click(w.move_.guard_panel.entry.buttons[0])
        person.wait_for_job()
    assert "was pulled" in w.move_.run_panel.words.text()
    person.wait(lambda: w.move_.run_panel.entry.isVisible())
    assert w.move_.run_panel.head.text() == "New card is in the middle of a job"
    person.type_tag(w.move_.run_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.run_panel.entry.buttons[1])
    person.wait_for_job()
    assert files_of(person, "New card") == files_of(person, "Worn card")
    person.wait(lambda: not w.model.interrupted_on(medium(person, "New card")))


def test_a_finished_move_is_taken_back_from_the_result(person):
    w = person.window
    person.plan("Worn card", "New card")
    person.type_tag(w.move_.guard_panel.entry, w.move_.plan.target.tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    person.type_tag(w.move_.run_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.run_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text() == "Taken back"
    with medium(person, "New card").open() as blocks:
        assert not any(blocks.read(0, blocks.size))


def test_the_edge_is_dragged_nudged_and_typed(person):
    w = person.window
    person.plan("Worn card", "New card")
    core, size = w.move_.right, lambda: w.move_.plan.size()
    full = size()
    grip = core._handle_rect().center().toPoint()
    QTest.mousePress(core, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, grip)
    QTest.mouseMove(core, grip - QPoint(0, core.height() // 4))
    QTest.mouseRelease(core, Qt.MouseButton.LeftButton)
    dragged = size()
    assert 34 * MIB < dragged < full == 94 * MIB
    QTest.keyClick(core, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert size() == full
    field = w.move_.size_panel.field
    field.selectAll()
    QTest.keyClicks(field, "50 MiB")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert size() == 50 * MIB
    field.selectAll()
    QTest.keyClicks(field, "7 TiB")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert size() == 50 * MIB
    assert "It can have 34 MiB to 94 MiB" in w.move_.size_panel.error.text()


def test_a_machine_gives_findings_and_a_stop_at_every_station(person):
    w = person.window
    person.plan("Worn card", "New card")
    move, look = w.move_, w.look

    def mean_for(chooser, key):
        chooser.setCurrentIndex(chooser.findData(key) if key else 0)
        chooser.activated.emit(chooser.currentIndex())

    mean_for(move.machine, "loom")
    grown = move.plan.growing
    assert [s.name for s in move.plan.stops()] == ["as it was", "its shuttle is short", "fills the card"]
    assert "its shuttle is short" in words_of(move.sheet_panel)
    assert any(f.partition == grown and f.severity == Severity.PROBLEM for f in move.right.layout_shown.findings)
    move.size_panel.stops.setCurrentIndex(2)
    move.size_panel.stops.activated.emit(2)
    assert move.plan.size() == 64 * MIB
    assert "It suits a loom" in words_of(move.sheet_panel)
    assert look.findings.machine.currentData() == "loom"
    w.go_to(LOOK)
    assert "It suits a loom" in words_of(look.findings)
    mean_for(look.findings.machine, None)
    assert "loom" not in words_of(look.findings)
    assert (move.machine.currentIndex(), move.plan.suits) == (0, ())


def test_stations_cards_and_files_are_reached_from_the_keyboard(person):
    w = person.window
    for key, station in (("Ctrl+3", MOVE), ("Ctrl+2", KEEP), ("Ctrl+1", LOOK)):
        QTest.keySequence(w, QKeySequence(key))
        assert w.stack.currentIndex() == station
    w.look.shelf.setFocus()
    w.look.shelf.setCurrentRow(0)
    QTest.keyClick(w.look.shelf, Qt.Key.Key_Down)
    assert w.model.selected.name == "New card"
    QTest.keyClick(w.look.shelf, Qt.Key.Key_Up)
    person.wait(lambda: w.look.files.tree.isVisible())
    assert w.look.core.accessibleDescription().startswith("GAMES, 34 MiB")
    QTest.keyClick(w.look.core, Qt.Key.Key_Up)
    assert w.look.core.accessibleDescription().startswith("PEAT, 5 MiB, FAT16")
    person.wait(lambda: w.look.files.tree.model() is not None and w.look.files.tree.model().rowCount() == 2)
    QTest.keySequence(w, QKeySequence("Ctrl+K"))
    finder = w.findChild(Finder)
    QTest.keyClicks(finder.field, "full games")
    QTest.keyClick(finder.field, Qt.Key.Key_Return)
    assert w.model.selected.name == "Full card"


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
    person.click(look.files.take_button)
    person.wait(lambda: bool(said))
    assert (tmp_path / entry.name).exists()
    assert "copied to" in said[0]


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
    for ask, text in ((look.files.comment_button, "from the attic"), (look.files.protect_button, "----rw-d")):
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


def test_a_dropped_image_is_opened_and_a_packed_one_is_explained(person, tmp_path):
    w, image = person.window, tmp_path / "found.img"
    image.write_bytes(bytes(2 * MIB))
    packed = tmp_path / "found.img.gz"
    packed.write_bytes(b"\x1f\x8b" + bytes(30))
    for path in (image, packed):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path))])
        w.dropEvent(QDropEvent(QPointF(200, 200), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                               Qt.KeyboardModifier.NoModifier, QEvent.Type.Drop))
    assert w.model.selected.name == "found"
    assert "is a gzip file, not a card image" in w.strip.words.text()


def test_a_backup_is_made_checked_and_put_back_from_keep(person):
    w = person.window
    w.go_to(KEEP)
    assert w.keep.empty.isVisible()
    person.click(w.keep.keep_button)
    person.wait(lambda: bool(w.model.lanes) and w.model.asker.is_idle)
    person.wait(lambda: w.keep.detail.core.layout_shown is not None)
    mark = w.keep.lanes.timeline().marks[0]
    person.click(w.keep.lanes, QPoint(round(mark.x + 5), round(mark.top + 5)))
    person.click(w.keep.detail.check)
    person.wait(lambda: not w.model.jobs)
    assert any("exactly what was kept" in r.accessibleName() for r in w.keep.detail.findChildren(
        type(w.move_.guard_panel.entry).__base__))
    person.click(w.keep.detail.put_back)
    assert w.stack.currentIndex() == MOVE
    person.choose(w.move_.to_box, "New card")
    person.wait(lambda: w.move_.plan is not None)
    assert next(type(s).__name__ for s in w.move_.plan.sheet.steps) == "WriteImage"


def sizes_on(blocks, index):
    """Sizes and times of all files, whatever they are called there."""
    return sorted((e.size, e.modified) for e in open_partition(blocks, index).tree().entries if e.kind == "file")


def arrange(person, index, title, **values):
    """One action of the panel, by its button and its form."""
    move = person.window.move_
    core = move.right
    stratum = next(p for p in core.placed() if p.index == index)
    person.click(core, core.stratum_rect(stratum).center().toPoint())
    panel = move.arrange_panel
    person.wait(lambda: True)                                # what was there before is really gone
    button = next(b for b in reversed(panel.choices.findChildren(QPushButton)) if b.text() == title)
    person.click(button)
    for name, value in values.items():
        panel.fill_in(name.replace("_", " "), value)
    person.click(panel.add_button)


def test_partitions_are_sized_rebuilt_and_added_on_the_page(person):
    w = person.window
    put_card(w.model.bench, "wide", 120 * MIB, handheld(60 * MIB).data, name="Wide card", order=4)
    w.model.refresh()
    person.wait(lambda: any(m.name == "Wide card" for m in w.model.media) and w.model.asker.is_idle)
    person.pick_card("Wide card")
    files = files_of(person, "Wide card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    assert not w.move_.rehearse_button.isEnabled()
    arrange(person, 1, "Size…", size="20 MiB")
    arrange(person, 2, "Make anew…", **{"file_system": "ext4"})
    arrange(person, 2, "Call it…", label="MOSS")
    arrange(person, 2, "New partition…", label="EXTRA", **{"file_system": "exfat"})
    assert [type(s).__name__ for s in w.move_.plan.sheet.steps] == [
        "KeepCard", "MovePartition", "GrowPartition", "RebuildPartition", "LabelPartition", "AddPartition", "Eject"]
    arrange(person, 1, "Size…", size="9 TiB")
    assert "would run into" in w.move_.arrange_panel.error.text()
    w.move_.arrange_panel.fill_in("size", "large")
    person.click(w.move_.arrange_panel.add_button)
    assert "is not a size" in w.move_.arrange_panel.error.text()
    seen = w.move_.plan.forecast.layout
    person.click(w.move_.rehearse_button)
    person.wait_for_job()
    assert w.move_.run_panel.head.text() == "Rehearsed: it works", w.move_.run_panel.words.text()
    person.click(w.move_.run_panel.close_button)
    person.wait(lambda: w.move_.plan is not None)
    assert len(w.move_.plan.sheet.steps) == 7                # a rehearsal does not throw the plan away
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Wide card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    with medium(person, "Wide card").open() as blocks:
        layout = survey(blocks, thorough=True)
    assert [(p.index, p.partition.start, p.partition.length) for p in layout.partitions] == \
        [(p.index, p.partition.start, p.partition.length) for p in seen.partitions]
    assert [(p.name, p.volume.kind) for p in layout.partitions] == [("PEAT", "fat16"), ("MOSS", "ext4"),
                                                                    ("EXTRA", "exfat")]
    now = files_of(person, "Wide card")
    assert now[0] == files[0]
    assert {p: d for p, (d, _) in now[1].items() if p != "lost+found"} == {p: d for p, (d, _) in files[1].items()}
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []


def test_the_bytes_of_a_card_are_swapped_for_its_machine(person):
    w = person.window
    before = files_of(person, "Worn card")
    person.pick_card("Worn card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    arrange(person, 2, "Swap bytes")
    assert {r.word for r in w.move_.plan.ribbons()} == {"swapped"}
    assert w.move_.right.layout_shown.container == "swapped"
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Worn card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    with medium(person, "Worn card").open() as blocks:
        assert survey(blocks).container == "swapped"
        held = [contents(Window(straight(blocks), p.start, p.length)) for p in read_map(straight(blocks)).partitions]
    assert held == before


def test_single_partitions_are_brought_over_instead_of_the_whole_card(person):
    w = person.window
    person.plan("Worn card", "New card")
    person.click(w.move_.arrange_button)
    panel = w.move_.arrange_panel
    for name, how in (("2 GAMES", "exfat"), ("1 PEAT", "exactly")):
        person.wait(lambda: True)
        person.click(next(b for b in reversed(panel.choices.findChildren(QPushButton)) if b.text() == "Bring over…"))
        panel.fill_in("partition", name)
        panel.fill_in("how", how)
        person.click(panel.add_button)
    assert [type(s).__name__ for s in w.move_.plan.sheet.steps] == ["KeepCard", "NewMap", "CopyPartition",
                                                                   "CopyPartition", "Eject"]
    assert [(r.index, r.to, r.word) for r in w.move_.plan.ribbons()] == [(2, 1, "anew, exFAT"), (1, 2, "moved")]
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    assert files_of(person, "New card") == list(reversed(files_of(person, "Worn card")))


def test_a_stratum_that_is_dragged_across_is_brought_over(person):
    move = person.window.move_
    person.plan("Worn card", "New card")
    games = next(s for s in move.left.placed() if s.name == "GAMES")
    for at, steps in ((QPoint(10, -300), ["KeepCard", "WriteImage"]), (None, ["KeepCard", "NewMap", "CopyPartition"])):
        person.carry(move.left, games, move.right, at)
        assert [type(s).__name__ for s in move.plan.sheet.steps][:len(steps)] == steps
    assert [(r.index, r.to) for r in move.plan.ribbons()] == [(2, 1)]


def test_an_emulated_drive_without_a_map_becomes_one_of_its_machine_in_six_acts(person, bench):
    bare = MemoryBlocks(bytes(20 * MIB))
    format_for("ffs-intl").make(bare, Making("ffs-intl", "Work"))
    editor = edit(bare)
    editor.add_file("readme", b"x" * 70_000)
    editor.commit()
    put_card(bench, "bare", 20 * MIB, bare.data, name="Tarn image", order=4)
    person.window.model.refresh()
    person.wait(lambda: any(m.name == "Tarn image" for m in person.window.model.media)
                and person.window.model.asker.is_idle)
    move = person.window.move_
    person.acts = 0
    person.plan("Tarn image", "New card")
    person.carry(move.left, move.left.placed()[-1], move.right)
    person.type_tag(move.guard_panel.entry, medium(person, "New card").tag)
    person.click(move.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert (move.run_panel.head.text()[:4], person.acts) == ("Done", 6), move.run_panel.words.text()
    layout = person.window.model.layout_of(medium(person, "New card"))
    assert (layout.map_kind, [(p.name, p.volume.variant) for p in layout.partitions]) == ("rdb", [("Work", "ffs-intl")])
    assert files_of(person, "New card") == [contents(bare)]


def test_a_drive_goes_under_another_map_with_the_names_that_change_in_a_table(person):
    w = person.window
    with medium(person, "Worn card").open() as blocks:
        kinds = [p.volume.kind for p in survey(blocks).partitions]
    person.plan("Worn card", "New card")
    person.click(w.move_.arrange_button)
    panel = w.move_.arrange_panel
    person.wait(lambda: True)                                # what was there before is really gone
    person.click(next(b for b in reversed(panel.choices.findChildren(QPushButton)) if b.text() == "All of it under…"))
    panel.fill_in("map", "an RDB")
    person.click(panel.add_button)
    person.wait(lambda: w.model.asker.is_idle)
    layout = w.move_.right.layout_shown
    assert (layout.map_kind, [p.volume.kind for p in layout.partitions]) == ("rdb", ["ffs"] * len(kinds))
    assert {r.word for r in w.move_.plan.ribbons()} == {"anew, FFS international"}
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    person.click(w.move_.run_panel.close_button)
    with medium(person, "New card").open() as blocks:
        now = survey(blocks, thorough=True)
        files = [sizes_on(blocks, p.index) for p in now.partitions]
    assert [f.sentence for f in now.findings if f.severity in ("problem", "warning")] == []
    with medium(person, "Worn card").open() as blocks:
        assert files == [sizes_on(blocks, p.index) for p in survey(blocks).partitions]


def test_a_machine_of_another_family_gets_a_plan_that_it_can_read_unless_it_was_corrected(person):
    move = person.window.move_

    def kinds_for(key):
        move.machine.setCurrentIndex(move.machine.findData(key) if key else 0)
        move.machine.activated.emit(move.machine.currentIndex())
        return [type(step).__name__ for step in move.plan.sheet.steps]

    person.plan("Worn card", "New card")
    assert "WriteImage" in kinds_for("handheld-linux")
    assert kinds_for("gemdos-late") == ["KeepCard", "NewMap", "CopyPartition", "CopyPartition", "Eject"]
    assert "does not know the source’s map" in words_of(move.sheet_panel)
    person.wait(lambda: move.arrange_panel.error.isVisible())
    assert "becomes" in move.arrange_panel.error.text()
    assert "WriteImage" in kinds_for(None)
    move.sheet_panel._steps[0].box.click()
    assert kinds_for("gemdos-late") == ["WriteImage", "GrowPartition", "Verify", "Eject"]


def test_a_folder_is_copied_to_another_partition_of_the_same_card(person):
    w = person.window
    person.pick_card("Worn card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    for what, ending in (("not there", "It could not be done"), ("roms/gb", "Done")):
        arrange(person, 1, "Copy files…", **{"from": "2 GAMES", "what": what, "into": "1 PEAT", "folder": "kept"})
        person.type_tag(w.move_.guard_panel.entry, medium(person, "Worn card").tag)
        person.click(w.move_.guard_panel.entry.buttons[0])
        person.wait_for_job()
        assert w.move_.run_panel.head.text().startswith(ending), w.move_.run_panel.words.text()
        person.click(w.move_.run_panel.close_button)                   # nothing was touched: nothing to finish first
        person.wait(lambda: w.move_.plan is not None)
    peat, games = files_of(person, "Worn card")
    wanted = {f"kept/{p.removeprefix('roms/')}": v[0] for p, v in games.items() if p.startswith("roms/gb")}
    assert {p: v[0] for p, v in peat.items() if p.startswith("kept/")} == wanted
    assert len(wanted) > 2


def test_names_that_change_are_listed_beside_the_sheet(person):
    w = person.window
    with open_blocks(medium(person, "New card").path, writable=True) as blocks:
        perform(s.NewMap("mbr"), blocks, None, Watch())
        perform(s.AddPartition("fat16", 20 * MIB, label="LONG"), blocks, None, Watch())
        part = read_map(blocks).partition(1)
        editor = edit(Window(blocks, part.start, part.length))
        for number in range(9):
            editor.add_file(f"a name that is too long {number}.txt", b"x")
        editor.commit()
    w.model.look_again(medium(person, "New card"))
    person.wait(lambda: w.model.asker.is_idle)
    person.pick_card("New card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    arrange(person, 1, "Make anew…", **{"file system": "gemdos"})
    panel = w.move_.arrange_panel
    person.wait(lambda: panel.names_button.isVisible())
    assert "7 more names" in panel.error.text()
    person.click(panel.names_button)
    names = w.move_.names_panel.table.model()
    rows = {names.index(k, 0).data(): names.index(k, 1).data() for k in range(names.rowCount())}
    assert len(rows) == 9
    assert rows["a name that is too long 3.txt"] == "ANAMET~4.TXT"


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
    person.click(look.files.rename_button)
    look.files.strip.field.setText("roms/renamed.sav")
    confirm()
    assert "roms/renamed.sav" in files_of(person, "Worn card")[1]
    person.wait(lambda: look.files.tree.isVisible())
    choose("roms")
    person.click(look.files.remove_button)
    confirm()
    assert not any(p.startswith("roms") for p in files_of(person, "Worn card")[1])
    person.type_tag(look.files.strip.undo, tag)
    person.click(look.files.strip.undo.buttons[0])
    person.wait(lambda: not w.model.jobs and w.model.asker.is_idle)
    after = files_of(person, "Worn card")
    assert {**before[1], "roms/renamed.sav": after[1]["roms/renamed.sav"]} == after[1]


def contrast(a: str, b: str) -> float:
    """WCAG 2.1: relative luminance of two colours, as a ratio."""
    def luminance(text):
        parts = [int(text[k:k + 2], 16) / 255 for k in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("used", [theme.DARK, theme.LIGHT], ids=lambda t: t.name)
def test_every_text_passes_wcag_aa(used):
    for ink in ("text", "muted", "accent", "good", "note", "warning", "problem"):
        for ground in ("ground", "panel", "raised"):
            assert contrast(getattr(used, ink), getattr(used, ground)) >= 4.5, (ink, ground)
    assert contrast(used.on_accent, used.accent) >= 4.5


@pytest.mark.parametrize("height", [120, 300, 700])
def test_strata_fill_the_column_in_order_and_stay_readable(height):
    card = handheld(60 * MIB, tail=10 * MIB)
    placed = lay_out(strata_of(survey(card)), height, header="map")
    assert placed[0].top == 0
    assert placed[-1].bottom == pytest.approx(height)
    assert all(a.bottom == pytest.approx(b.top) and a.start <= b.start for a, b in pairwise(placed))
    assert all(s.height >= 20 for s in placed if s.index and height >= 300)
