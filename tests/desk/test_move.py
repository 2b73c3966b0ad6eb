"""Move: whole cards and single partitions, planned, rehearsed, run, finished and taken back."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.slots import medium as medium_module
from mosscrate.core.volumes import Making, edit, format_for
from tests.cards import MIB, contents, put_card
from tests.core.sheet.test_refreshing import NEW, OLD, card_of, files
from tests.desk.person import files_of, medium, words_of


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
    person.wait(lambda: w.move_.run_panel.entry.isVisible())
    assert w.move_.run_panel.head.text() == "New card is in the middle of a job"      # it is back: not “was pulled”
    assert "finish it or take it back" in w.move_.run_panel.entry.prompt.text()
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


def test_single_partitions_are_brought_over_instead_of_the_whole_card(person):
    w = person.window
    person.plan("Worn card", "New card")
    person.click(w.move_.arrange_button)
    panel = w.move_.arrange_panel
    for name, how in (("2 GAMES", "exfat"), ("1 PEAT", "exactly")):
        person.wait(lambda: True)
        person.pick_act("Copy a partition…")
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


def test_a_new_release_comes_over_the_old_one_with_games_and_settings_untouched(person):
    """Acts: source, card, the act, add, tag."""
    w, games = person.window, {"roms/a.gb": b"game" * 5000, "roms/a.sav": b"save" * 500}
    put_card(w.model.bench, "old", 80 * MIB, card_of(OLD, games, room=8 * MIB), name="Pipkin")
    put_card(w.model.bench, "release", 64 * MIB, card_of(NEW, {"readme.txt": b"new"}, size=64 * MIB), name="Release")
    w.model.refresh()
    person.wait(lambda: {"Pipkin", "Release"} <= {m.name for m in w.model.media} and w.model.asker.is_idle)
    person.plan("Release", "Pipkin")
    person.click(w.move_.arrange_button)
    person.pick_act("Refresh the firmware…")
    person.click(w.move_.arrange_panel.add_button)
    assert [type(s).__name__ for s in w.move_.plan.sheet.steps] == ["KeepCard", "KeepCard", "RefreshPartition",
                                                                   "Eject"]
    assert w.move_.plan.title == "Put a new release over a card’s firmware"
    assert [(r.index, r.to, r.word) for r in w.move_.plan.ribbons()] == [(1, 1, "over the old one")]
    assert "settings of the old one put back" in words_of(w.move_.sheet_panel)
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Pipkin").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    assert files(medium(person, "Pipkin"), 2) == games
    assert files(medium(person, "Pipkin"), 1) == NEW | {path: OLD[path] for path in ("my.cfg", "menu/list.ini")}
