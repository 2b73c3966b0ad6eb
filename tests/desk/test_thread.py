"""The thread of the work: which card is in hand, what was just done, what comes next, and what to do when it fails."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QMimeData, QUrl
from PyQt6.QtWidgets import QPushButton

from mosscrate.core.errors import MediumError
from mosscrate.core.slots.service import MustAsk
from mosscrate.desk.look.why_not import PROTECTED
from mosscrate.desk.shared.reasons import reason_of
from mosscrate.desk.window import FILL, KEEP, LOOK, MOVE, PROOF
from tests.cards import MIB, handheld, put_card
from tests.desk.person import medium, words_of
from tests.desk.test_files import drop
from tests.desk.test_journeys import bring


def in_hand(w) -> set[str]:
    """The card of every station."""
    return {w.model.selected.name, w.fill.cards.currentText(), w.keep.cards.currentText(), w.proof.cards.currentText()}


def press(person, within, words: str) -> None:
    person.click(next(b for b in within.findChildren(QPushButton) if b.text() == words and b.isVisible()))


def moved(person, source="Worn card", target="New card"):
    w = person.window
    person.plan(source, target)
    person.type_tag(w.move_.guard_panel.entry, medium(person, target).tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()


def test_what_was_written_is_in_hand_on_every_station_and_is_filled_next(person):
    w = person.window
    moved(person)
    assert w.move_.run_panel.head.text().startswith("Done")
    assert in_hand(w) == {"New card"}
    press(person, w.move_.run_panel, "Fill it…")
    assert w.stack.currentIndex() == FILL
    assert w.fill.title.text() == "Fill New card"


@pytest.mark.parametrize(("number", "box"), [(FILL, "fill"), (KEEP, "keep"), (PROOF, "proof")])
def test_a_card_that_is_chosen_on_one_station_is_the_one_of_all(person, number, box):
    w = person.window
    w.go_to(number)
    cards = getattr(w, box).cards
    cards.setCurrentIndex(cards.findText("Full card"))
    cards.activated.emit(cards.currentIndex())
    person.wait(lambda: w.model.asker.is_idle)
    assert in_hand(w) == {"Full card"}
    assert w.look.title.text() == "Full card"


def test_move_begins_with_the_card_in_hand_however_one_comes_there(person):
    w = person.window
    person.pick_card("Full card")
    w.rail.chosen.emit(MOVE)
    assert w.move_.source.name == "Full card"
    w.rail.chosen.emit(LOOK)
    person.pick_card("Worn card")
    w.rail.chosen.emit(MOVE)
    assert w.move_.source.name == "Full card"                # planned for already: it stays


def test_a_fresh_backup_is_the_one_that_is_shown_and_a_lane_brings_its_card_in_hand(person):
    w = person.window
    for name in ("Worn card", "Full card", "Worn card"):
        person.pick_card(name)
        person.click(w.look.keep_button)
        person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
        shown = w.keep.lanes.selected
        assert shown.record.card.name == name
        assert shown.id == w.model.last_kept(medium(person, name)).id
    full = next(lane for lane in w.model.lanes if lane.card.name == "Full card").backups[-1]
    w.go_to(KEEP)
    w.keep.lanes._choose(full)
    person.wait(lambda: w.model.asker.is_idle)
    assert in_hand(w) == {"Full card"}
    assert w.keep.lanes.selected.id == full.id


def test_the_same_is_done_for_another_card_and_a_wish_is_not_typed_twice(person, bench):
    w = person.window
    put_card(bench, "third", 60 * MIB, name="Third card", order=5)
    bring(person, bench, "fourth", 60 * MIB, b"", "Fourth card")
    person.pick_card("Third card")
    person.click(w.look.prepare_button)
    person.wait(lambda: w.move_.plan is not None)
    person.type_text(w.move_.prepare_panel.name, "TAMO")
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Third card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    press(person, w.move_.run_panel, "The same for another card…")
    w.move_.to_box.box.hidePopup()
    person.choose(w.move_.to_box, "Fourth card")
    person.wait(lambda: w.move_.plan is not None)
    assert w.move_.prepare_panel.name.text() == "TAMO"
    assert w.move_.plan.target.name == "Fourth card"


def test_a_written_card_is_labelled_next(person):
    w = person.window
    moved(person)
    press(person, w.move_.run_panel, "Label…")
    person.wait(lambda: w.move_.plan is not None and w.move_.arrange_panel.form.isVisible())
    w.move_.arrange_panel.fill_in("label", "TAMO")
    person.click(w.move_.arrange_panel.add_button)
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.model.layout_of(medium(person, "New card")).last().volume.label == "TAMO"


def test_what_is_typed_stays_while_other_cards_come_and_go(person, bench):
    w = person.window
    person.pick_card("Worn card")
    person.wait(lambda: w.look.files.tree.isVisible())
    tree = w.look.files._model
    person.click(w.look.files.acts.folder)
    w.look.files.strip.field.setText("my new folder")
    bring(person, bench, "guest", 40 * MIB, handheld(40 * MIB, seed=9).data, "Guest card")
    assert w.look.files._model is tree                       # not read anew
    assert w.look.files.strip.text() == "my new folder"


def test_move_says_why_nothing_is_planned(person, monkeypatch):
    w, told = person.window, "Full card cannot be read: its reader gave up. Try another reader."
    for raised, hint, words in ((OSError(told), "cannot be read", "Full card cannot be read"),
                                (MustAsk(told), "to be asked for", "Ask to read it")):
        def fail(*_words, raised=raised):
            raise raised
        monkeypatch.setattr("mosscrate.desk.bench_model._survey", fail)
        w.model.look_again(medium(person, "Full card"))
        person.wait(lambda: w.model.asker.is_idle)
        w.move_.choose_source(medium(person, "Full card"))
        w.move_.choose_target(medium(person, "New card"))
        assert w.move_.ribbons._sentence == hint
        assert words in words_of(w.move_.sheet_panel)


def test_where_a_place_of_a_card_cannot_be_read_the_page_says_what_helps(person, monkeypatch):
    def fails(*_words):
        raise MediumError("Full card cannot be read at byte 512: the medium reports an error there.", 512)
    move = person.window.move_
    monkeypatch.setattr(move, "_make", fails)
    person.pick_card("Full card")
    person.window.go_to(MOVE)
    move.choose_source(medium(person, "Worn card"))
    move.choose_target(medium(person, "Full card"))
    person.wait(lambda: "Choose another card, or rescue what is on it on Proof." in words_of(move.sheet_panel))


def test_a_write_protected_card_says_so_and_why_nothing_can_be_done(person, tmp_path):
    w = person.window
    person.pick_card("Full card")
    person.wait(lambda: w.look.files.tree.isVisible())
    assert "write-protected" in w.look.subtitle.text()
    for part in (w.look.prepare_button, w.look.arrange_button, w.look.files.acts.put):
        assert not part.isEnabled()
        assert part.toolTip() == part.accessibleDescription() == PROTECTED
    assert w.look.keep_button.isEnabled()
    (tmp_path / "note.txt").write_text("moss")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "note.txt"))])
    shelf = len(w.model.media)
    drop(w.look.files, w.look.files.rect().center(), data)
    assert "write-protected" in w.look.files.strip.sentence.text()
    assert len(w.model.media) == shelf                                                # and it is no image on the shelf
    person.pick_card("Worn card")
    person.wait(lambda: w.look.prepare_button.isEnabled())
    assert "Lay it out anew" in w.look.prepare_button.toolTip()


def test_the_reason_is_the_headline():
    assert reason_of("The archive is damaged at 700 MiB: fetch it again. Nothing was written.") == (
        "The archive is damaged at 700 MiB: fetch it again", "Nothing was written.")
    assert reason_of("Cabinet no. 4 was pulled. Put it in again.") == ("Cabinet no. 4 was pulled", "Put it in again.")
    assert reason_of("x" * 300) == ("It could not be done", "x" * 300)


def test_a_step_that_fails_leaves_the_ticks_of_those_before_it(person, bench, monkeypatch):
    from mosscrate.core.errors import MediumError
    from mosscrate.core.sheet.steps import GrowPartition

    w = person.window

    def fail(*_words):
        raise MediumError("The archive is damaged at 700 MiB: fetch it again. What was written stays.")

    monkeypatch.setattr(GrowPartition, "act", fail)
    moved(person)
    assert w.move_.run_panel.head.text() == "The archive is damaged at 700 MiB: fetch it again"
    told = "What was written stays. New card is in the middle of a job: finish it, or take it back."
    assert w.move_.run_panel.words.text() == told
    states = [row.badge.state for row in w.move_.sheet_panel._in_sheet]
    assert states[0] == "done"
    assert "now" in states
