"""Files in Look: replaced under their name, several at once, dragged between folders, partitions and cards."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QItemSelectionModel, QPointF, Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QFileDialog

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes import Entry, Kind, Tree
from mosscrate.desk.look.tree_model import TreeModel, nodes_of
from tests.cards import MIB, FatType, lay_out, put_card
from tests.desk.person import medium


@pytest.fixture
def look(person, bench):
    """The card of a small machine in hand: a boot volume, and games in folders."""
    from mosscrate.core.blocks import MemoryBlocks

    blocks = MemoryBlocks(bytes(40 * MIB))
    games = {"roms": None, "roms/gb": None, "roms/gba": None, "saves": None}
    games |= {f"roms/gb/game {k}.gb": bytes((k,)) * 500 for k in range(5)} | {"readme.txt": b"hello"}
    lay_out(blocks, [(MIB, 5 * MIB, FatType.FAT16, "PEAT", {"zImage": b"kernel", "panel.dtb": b"tree"}),
                     (6 * MIB, 34 * MIB, FatType.FAT32, "GAMES", games)])
    put_card(bench, "pipkin", 40 * MIB, blocks.data, name="Pipkin")
    put_card(bench, "other", 40 * MIB, blocks.data, name="Other")
    person.window.model.refresh()
    person.wait(lambda: any(m.name == "Other" for m in person.window.model.media) and person.window.model.asker.is_idle)
    person.pick_card("Pipkin")
    person.wait(lambda: person.window.look.files.tree.isVisible())
    return person.window.look


def choose(look, *paths):
    """Select rows of the tree, as with Ctrl and the mouse."""
    selection = look.files.tree.selectionModel()
    selection.clear()
    for path in paths:
        index = look.files._model.find(path)
        for above in (index.parent(),):
            look.files.tree.expand(above)
        selection.select(index, QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows)
        selection.setCurrentIndex(index, QItemSelectionModel.SelectionFlag.NoUpdate)


def confirm(person, look, tag):
    person.type_tag(look.files.strip.entry, tag)
    person.click(look.files.strip.entry.buttons[0])
    person.wait(lambda: not person.window.model.busy and person.window.model.asker.is_idle
                and look.files.tree.isVisible())


def drop(target, place, hand):
    """What was dragged is let go over a widget."""
    target.dropEvent(QDropEvent(QPointF(place), Qt.DropAction.CopyAction, hand, Qt.MouseButton.LeftButton,
                                Qt.KeyboardModifier.NoModifier))


def drag(look):
    return look.files._model.mimeData(look.files.tree.selectionModel().selectedRows())


def paths_on(person, name, index):
    with medium(person, name).open() as blocks:
        return {e.path: b"".join(v.read_file(e)) if e.kind == "file" else None
                for v in [open_partition(blocks, index)] for e in v.tree().entries}


def test_one_file_of_a_boot_partition_is_replaced_under_its_name_in_five_acts(person, look, tmp_path, monkeypatch):
    (tmp_path / "panel-v2.dtb").write_bytes(b"a better tree")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "panel-v2.dtb"), ""))
    person.acts = 0
    stratum = next(s for s in look.core.placed() if s.index == 1)
    person.click(look.core, look.core.stratum_rect(stratum).center().toPoint())
    person.wait(lambda: look.files.tree.isVisible() and look.files.head.text() == "PEAT")
    row = look.files.tree.visualRect(look.files._model.find("panel.dtb"))
    person.click(look.files.tree.viewport(), row.center())
    person.click(look.files.acts.replace)
    assert look.files.strip.sentence.text() == "Put “panel-v2.dtb” in the place of “panel.dtb”"
    confirm(person, look, medium(person, "Pipkin").tag)
    assert person.acts <= 5
    now = paths_on(person, "Pipkin", 1)
    assert now["panel.dtb"] == b"a better tree"
    assert sorted(now.values()) == [b"a better tree", b"kernel", b"tree"]            # the old one is still there


def test_a_file_of_the_card_is_put_in_the_place_of_another_in_four_acts(person, look):
    look.files.tree.expand(look.files._model.find("roms/gb"))
    look.files.tree.expand(look.files._model.find("roms"))
    person.acts = 0
    for path in ("roms/gb/game 3.gb", "roms/gb/game 1.gb"):
        person.click(look.files.tree.viewport(), look.files.tree.visualRect(look.files._model.find(path)).center())
        if path.endswith("3.gb"):
            person.click(look.files.acts.copy)
    assert look.files.strip.field.text() == "roms/gb/game 1.gb"
    confirm(person, look, medium(person, "Pipkin").tag)
    assert person.acts <= 5                                                           # the tag and its button are two
    now = paths_on(person, "Pipkin", 2)
    aside = next(p for p in now if p.startswith("roms/gb/game 1 "))
    assert [now[p][:1] for p in ("roms/gb/game 1.gb", "roms/gb/game 3.gb", aside)] == [b"\3", b"\3", b"\1"]


def test_a_folder_is_copied_beside_itself_under_a_name_that_is_typed(person, look):
    choose(look, "roms/gb")
    person.click(look.files.acts.copy)
    look.files.strip.field.setText("roms/spare")
    confirm(person, look, medium(person, "Pipkin").tag)
    now = paths_on(person, "Pipkin", 2)
    assert {p for p in now if p.startswith("roms/spare/")} == {f"roms/spare/game {k}.gb" for k in range(5)}


def test_several_files_are_removed_and_the_tree_stays_where_it_was(person, look):
    choose(look, "roms/gb/game 1.gb", "roms/gb/game 3.gb")
    assert not look.files.acts.rename.isEnabled()
    person.click(look.files.acts.remove)
    assert look.files.strip.sentence.text() == "Remove 2 items"
    confirm(person, look, medium(person, "Pipkin").tag)
    assert [p for p in paths_on(person, "Pipkin", 2) if p.startswith("roms/gb/")] == [
        f"roms/gb/game {k}.gb" for k in (0, 2, 4)]
    tree, model = look.files.tree, look.files._model
    assert tree.isExpanded(model.find("roms"))
    assert tree.isExpanded(model.find("roms/gb"))
    assert model.entry(tree.currentIndex()).path == "roms/gb"                        # where the file was


def test_files_are_dragged_into_another_folder_of_their_partition(person, look):
    choose(look, "roms/gb/game 1.gb", "readme.txt")
    hand = drag(look)
    look.files.tree.expand(look.files._model.find("roms"))
    tree = look.files.tree
    place = tree.viewport().mapTo(look.files, tree.visualRect(look.files._model.find("saves")).center())
    drop(look.files, place, hand)
    assert look.files.strip.sentence.text() == "Move 2 items to GAMES/saves"
    confirm(person, look, medium(person, "Pipkin").tag)
    now = paths_on(person, "Pipkin", 2)
    assert {"saves/game 1.gb", "saves/readme.txt"} <= now.keys()
    assert not {"roms/gb/game 1.gb", "readme.txt"} & now.keys()


@pytest.mark.parametrize(("whole", "arrived"), [(0, "gb/game 0.gb"), (1, "game 0.gb")])
def test_a_folder_or_what_is_in_it_is_dragged_onto_another_partition(person, look, whole, arrived):
    choose(look, "roms/gb")
    stratum = next(s for s in look.core.placed() if s.index == 1)
    drop(look.core, look.core.stratum_rect(stratum).center(), drag(look))
    assert look.files.strip.sentence.text() == "Copy “gb” to PEAT"
    look.files.strip.whole.setCurrentIndex(whole)
    confirm(person, look, medium(person, "Pipkin").tag)
    assert arrived in paths_on(person, "Pipkin", 1)


def test_files_are_dragged_onto_another_card_and_taken_back(person, look):
    before = paths_on(person, "Other", 2)
    choose(look, "roms/gb/game 2.gb", "saves")
    shelf = look.shelf
    row = [m.name for m in person.window.model.shelf].index("Other")
    drop(shelf, shelf.visualItemRect(shelf.item(row)).center(), drag(look))
    assert look.files.strip.sentence.text() == "Copy 2 items to GAMES on Other"
    confirm(person, look, medium(person, "Other").tag)
    assert paths_on(person, "Other", 2)["game 2.gb"] == bytes((2,)) * 500
    person.type_tag(look.files.strip.undo, medium(person, "Other").tag)
    person.click(look.files.strip.undo.buttons[0])
    person.wait(lambda: not person.window.model.busy and person.window.model.asker.is_idle)
    assert paths_on(person, "Other", 2) == before


def test_names_that_will_change_are_told_before_the_tag_is_typed(person, look, tmp_path):
    (tmp_path / "what? a name.gb").write_bytes(b"x")
    look.files.offer_put([tmp_path / "what? a name.gb"], "roms")
    person.wait(lambda: not look.files.strip.losses.isHidden())
    assert "what? a name.gb" in look.files.strip.losses.text()
    assert not look.files.strip.entry.isHidden()


def test_what_can_be_done_to_files_is_offered_at_the_pointer(person, look):
    choose(look, "readme.txt")
    tree = look.files.tree
    tree.customContextMenuRequested.emit(tree.visualRect(tree.currentIndex()).center())
    menu = look.files.acts.menu
    assert [a.text() for a in menu.actions()] == [
        "To computer…", "Put…", "Replace…", "Copy…", "Folder…", "Rename…", "Remove"]
    menu.actions()[-1].trigger()
    assert look.files.strip.sentence.text() == "Remove “readme.txt”"
    menu.close()


def test_a_folder_that_could_not_be_read_is_not_shown_as_empty():
    folders = tuple(Entry(name, Kind.FOLDER, 0, None, 0) for name in ("whole", "torn", "gone"))
    file = Entry("torn/one.srm", Kind.FILE, 1, None, 0)
    tree = Tree((*folders, file), tuple(Finding(Severity.PROBLEM, "", name) for name in ("torn", "gone")))
    model = TreeModel(nodes_of(tree))
    shown = {model.index(row, 0).data(): model.index(row, 1).data() for row in range(model.rowCount())}
    assert shown == {"whole": "0 in it", "torn": "in part, 1", "gone": "not read"}
