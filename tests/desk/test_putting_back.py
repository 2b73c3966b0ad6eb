"""A fresh install through the window: written, grown, and what the old card held is back, by one sheet."""

from __future__ import annotations

from mosscrate.core.contents import survey
from tests.cards import MIB, put_card
from tests.core.sheet.test_putting_back import NEW, OLD, card, files_on
from tests.desk.person import medium, words_of
from tests.desk.test_journeys import bring


def put_back(person, words: str) -> None:
    """The button, and a line of its menu."""
    move = person.window.move_
    person.click(move.sheet_panel.back_button)
    person.acts += 1
    next(act for act in move.back.menu.actions() if act.text() == words).trigger()
    move.back.menu.close()


def written(person, name: str) -> None:
    move = person.window.move_
    person.wait(lambda: person.window.model.asker.is_idle and move.guard_panel.entry.field.isEnabled())
    person.type_tag(move.guard_panel.entry, medium(person, name).tag)
    person.click(move.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert move.run_panel.head.text().startswith("Done"), move.run_panel.words.text()


def test_a_fresh_install_with_what_was_on_the_card_is_one_sheet_of_eight_acts(person, bench):
    put_card(bench, "pipkin", 100 * MIB, card({"zImage": b"old", "panel.ini": b"bright=7"}, OLD, 100 * MIB),
             name="Pipkin", order=6)
    bring(person, bench, "firmware", 40 * MIB, card({"zImage": b"new", "panel.ini": b"bright=3"}, NEW), "Firmware 2")
    w = person.window
    person.acts = 0
    person.plan("Firmware 2", "Pipkin")
    put_back(person, "What is on Pipkin now")
    assert not w.move_.guard_panel.entry.field.isEnabled()                # nothing runs while it is looked for
    written(person, "Pipkin")
    assert person.acts <= 8
    told = words_of(w.move_.sheet_panel)
    assert "Of Pipkin come back: 3 saves and 1 setting. 1 file has no place there: gb/Hill.st0." in told
    assert "Read back and equal." in told
    now = files_on(medium(person, "Pipkin"), 2)
    assert (now["Saves/Hill.sav"][0], now["Saves/Tide.sav"][0]) == (OLD["gb/Hill.sav"], OLD["md/Tide.srm"])
    assert files_on(medium(person, "Pipkin"), 1)["panel.ini"][0] == b"bright=7"
    with medium(person, "Pipkin").open() as blocks:
        assert survey(blocks).partitions[1].partition.end > 99 * MIB


def test_from_a_backup_onto_another_card_and_a_card_without_files_says_why(person, bench):
    put_card(bench, "pipkin", 60 * MIB, card({"zImage": b"old"}, OLD, 60 * MIB), name="Pipkin", order=6)
    bring(person, bench, "firmware", 40 * MIB, card({"zImage": b"new"}, NEW), "Firmware 2")
    w = person.window
    person.pick_card("Pipkin")
    person.click(w.look.keep_button)
    person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
    [name] = [name for name, _backup in w.model.newest_backups(9)]
    person.plan("Firmware 2", "New card")
    put_card(bench, "blank", 8 * MIB, name="Blank card", order=9)
    w.model.refresh()
    person.wait(lambda: any(m.name == "Blank card" for m in w.model.media) and w.model.asker.is_idle)
    put_back(person, "What is on Blank card")
    person.wait(lambda: w.model.asker.is_idle)
    assert person.told == ["Blank card has no volume whose files can be listed."]
    assert all(not hasattr(step, "places") for step in w.move_.plan.sheet.steps)
    put_back(person, f"The backup of {name}")
    written(person, "New card")
    assert files_on(medium(person, "New card"), 2)["Saves/Hill.sav"][0] == OLD["gb/Hill.sav"]
