"""What the window says and offers of cards in the middle of a job, of backups, drops, closing, and of what is lost."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QMessageBox, QWidget

from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.blocks.file import open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.proof.job import prove_every_block
from mosscrate.core.proof.size.whole import Whole
from mosscrate.core.slots import Source
from mosscrate.core.slots import medium as medium_module
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from mosscrate.desk.window import KEEP, LOOK, MOVE
from tests.cards import MIB
from tests.desk.person import arrange, files_of, medium, words_of


def pulled_move(person, monkeypatch, after: int) -> None:
    """The worn card is moved onto the new one, which is pulled in the middle."""
    w = person.window
    person.plan("Worn card", "New card")
    original = medium_module.Medium.open_for_guard
    with monkeypatch.context() as patched:
        patched.setattr(medium_module.Medium, "open_for_guard", lambda self: FaultyBlocks(
            original(self), Faults(pulled_after_writes=after)))
        person.type_tag(w.move_.guard_panel.entry, w.move_.plan.target.tag)
        person.click(w.move_.guard_panel.entry.buttons[0])
        person.wait_for_job()
    person.wait(lambda: w.model.interrupted_on(medium(person, "New card")) is not None and w.model.asker.is_idle)


def label_games(person) -> None:
    """The worn card's games get another label."""
    w = person.window
    person.pick_card("Worn card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    arrange(person, 2, "Label…", label="MOSS")
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Worn card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()


@pytest.mark.parametrize("way", ["Take it back", "Finish it"])
def test_look_and_the_shelf_tell_of_a_card_in_the_middle_of_a_job_and_offer_both_ways(person, monkeypatch, way):
    w = person.window
    pulled_move(person, monkeypatch, 9)
    w.go_to(LOOK)
    person.pick_card("New card")
    status = w.look.shelf.itemDelegate()._status(medium(person, "New card"), w.model.layout_of(w.model.selected), "")
    assert status == ("in the middle of a job", "problem")
    assert "is in the middle of the job" in words_of(w.look.findings)
    assert "blank" not in words_of(w.look.findings)
    for part in (w.look.arrange_button, w.look.grow_button):
        assert not part.isEnabled()
    entry, acts = w.look.findings.entry, person.acts
    person.type_tag(entry, medium(person, "New card").tag)
    person.click(entry.buttons[["Take it back", "Finish it"].index(way)])
    person.wait(lambda: not w.model.jobs and w.model.asker.is_idle)
    assert person.acts - acts == 2
    person.wait(lambda: w.model.interrupted_on(medium(person, "New card")) is None and not entry.isVisible())
    if way == "Finish it":
        assert files_of(person, "New card") == files_of(person, "Worn card")
    else:
        assert survey(medium(person, "New card").open()).is_blank


def test_look_and_the_shelf_tell_of_a_card_in_the_middle_of_a_proof_and_put_its_contents_back(person, monkeypatch):
    w, card = person.window, medium(person, "Worn card")
    before = card.path.read_bytes()
    with monkeypatch.context() as patched:
        patched.setattr(Whole, "look", lambda self: (_ for _ in ()).throw(KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            prove_every_block(card, w.model.bench, Watch(), typed_tag=card.tag)
    w.model.look_again(card)
    person.pick_card("Worn card")
    person.wait(lambda: w.model.proof_on(w.model.selected) is not None and w.model.asker.is_idle)
    status = w.look.shelf.itemDelegate()._status(card, w.model.layout_of(w.model.selected), "")
    assert status == ("proof interrupted", "problem")
    assert "A proof of this card was interrupted" in words_of(w.look.findings)
    for part in (w.look.keep_button, w.look.move_button, w.look.save_button, w.look.arrange_button):
        assert not part.isEnabled()
    entry = w.look.findings.proof_entry
    person.type_tag(entry, card.tag)
    person.click(entry.buttons[0])
    person.wait(lambda: not w.model.jobs and w.model.proof_on(card) is None and w.model.asker.is_idle)
    assert card.path.read_bytes() == before
    assert not entry.isVisible()


def test_a_card_that_was_played_with_since_a_job_is_kept_first_and_then_taken_back(person):
    w, card = person.window, medium(person, "Worn card")
    before = files_of(person, "Worn card")
    label_games(person)
    with open_blocks(card.path, writable=True) as blocks:
        look = survey(blocks).partition(2)
        editor = edit(partition_window(blocks, look.partition))
        editor.add_file("device.sav", b"progress")
        editor.commit()
    person.type_tag(w.move_.run_panel.entry, card.tag)
    person.click(w.move_.run_panel.entry.buttons[0])
    person.wait_for_job()
    assert "1 file was written since: device.sav" in words_of(w.move_.run_panel)
    person.type_tag(w.move_.run_panel.entry, card.tag)
    person.click(w.move_.run_panel.entry.buttons[2])
    person.wait_for_job()
    now = files_of(person, "Worn card")
    assert now[1].pop("device.sav")
    assert now == before
    assert "in a backup of its own" in words_of(w.move_.run_panel)
    assert w.model.bench.crate.backups_of(card.key)


def test_an_unfinished_job_of_one_card_leaves_every_other_card_alone(person, monkeypatch):
    w = person.window
    pulled_move(person, monkeypatch, 9)
    person.choose(w.move_.to_box, "Full card")
    person.wait(lambda: w.move_.plan is not None)
    assert w.move_.side.currentWidget() is w.move_.guard_panel
    w.go_to(LOOK)
    label_games(person)
    assert w.move_.run_panel.head.text().startswith("Done")           # and it is not replaced by the other card's story
    w.model.refresh_crate()
    person.wait(lambda: w.model.asker.is_idle)
    assert w.move_.run_panel.head.text().startswith("Done")


def test_a_finished_run_does_not_lock_the_next_plan(person):
    w = person.window
    label_games(person)
    person.choose(w.move_.to_box, "New card")
    person.wait(lambda: w.move_.plan is not None and w.move_.plan.target.name == "New card")
    assert w.move_.side.currentWidget() is w.move_.guard_panel
    assert w.move_.rehearse_button.isEnabled()
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New card").tag)
    assert w.move_.guard_panel.entry.buttons[0].isEnabled()


def test_a_backup_that_is_looked_into_is_shown_itself_and_cannot_be_changed(person):
    w = person.window
    person.pick_card("Full card")
    person.click(w.look.keep_button)
    person.wait(lambda: not w.model.jobs and w.model.asker.is_idle and w.model.lanes)
    w.go_to(KEEP)
    person.wait(lambda: w.keep.lanes.selected is not None)
    person.click(w.keep.detail.look)
    person.wait(lambda: w.model.asker.is_idle)
    assert w.stack.currentIndex() == LOOK
    w.look.shelf.setFocus()
    person.wait(lambda: w.model.asker.is_idle)
    assert w.model.selected.source == Source.BACKUP
    assert w.look.title.text() == w.model.selected.name
    assert w.look.core.layout_shown.size == 70 * MIB
    for part in (w.look.arrange_button, w.look.grow_button):
        assert not part.isEnabled()
    assert "kept backup" in w.look.files.acts.put.toolTip()
    person.pick_card("New card")
    assert w.model.selected.name == "New card"


def test_a_drop_that_cannot_be_opened_changes_nothing_on_move(person, tmp_path):
    w, bad = person.window, tmp_path / "notes.img"
    bad.write_text("a list of games\n" * 100)
    person.plan("Worn card", "New card")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(bad))])
    person.pick_card("Full card") if w.stack.currentIndex() == LOOK else w.model.select(medium(person, "Full card"))
    w.dropEvent(QDropEvent(QPointF(200, 200), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                           Qt.KeyboardModifier.NoModifier, QEvent.Type.Drop))
    assert w.stack.currentIndex() == MOVE
    assert (w.move_.source.name, w.move_.target.name) == ("Worn card", "New card")
    assert "a text file, not a card image" in w.strip.words.text()


def test_closing_while_a_job_is_at_work_asks_first(person, monkeypatch):
    import threading
    w, go, answers = person.window, threading.Event(), []
    monkeypatch.setattr(QMessageBox, "question", lambda *words: answers.append(words[2]) or answers_with[0])
    answers_with = [QMessageBox.StandardButton.Cancel]
    w.model.run("Move onto New card", lambda watch: go.wait(20), {"key"})
    w.close()
    assert w.isVisible()
    assert "“Move onto New card” is at work" in answers[0]
    assert "can be finished or taken back" in answers[0]
    answers_with[0] = QMessageBox.StandardButton.Close
    go.set()
    w.close()
    assert not w.isVisible()


def test_what_a_step_does_away_with_is_said_before_it_runs(person):
    w = person.window
    person.pick_card("Worn card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    arrange(person, 1, "Size…", size="4.8 MiB")
    assert "in no backup" not in words_of(w.move_.guard_panel)
    arrange(person, 2, "Clear the card")
    said = " ".join(x.accessibleName() for x in w.move_.guard_panel.findChildren(QWidget))
    assert "on this card are in no backup" in said


def test_what_is_damaged_in_the_crate_is_told_on_keep(person):
    w = person.window
    person.pick_card("Full card")
    person.click(w.look.keep_button)
    person.wait(lambda: not w.model.jobs and w.model.asker.is_idle and w.model.lanes)
    record = w.model.lanes[0].backups[0].path
    record.write_bytes(record.read_bytes()[:50])
    w.model.refresh_crate()
    person.wait(lambda: w.model.asker.is_idle and w.model.troubles)
    w.go_to(KEEP)
    said = " ".join(x.accessibleName() for x in w.keep.troubles.findChildren(QWidget))
    assert "cannot be used" in said
