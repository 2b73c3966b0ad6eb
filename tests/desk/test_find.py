"""Finding a file in all backups at the window, its life in time, and an old version brought back onto the card."""

from __future__ import annotations

from datetime import timedelta

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.notes import put_note
from mosscrate.core.images.kept import packs_of
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.watch import Watch
from mosscrate.desk.finder import Finder
from mosscrate.desk.window import KEEP
from tests.cards import MIB, handheld, put_card
from tests.cli.test_crating import rot, save
from tests.desk.person import words_of


@pytest.fixture
def keep(person, bench):
    """The station, with a card that was kept twice while a save went on."""
    put_card(bench, "one", 40 * MIB, handheld(seed=1).data, name="Pipkin")
    for contents in (b"first" * 900, b"second" * 900):
        save(bench, "one", contents)
        card = bench.shelf.find("Pipkin")
        with card.open() as blocks:
            bench.crate.keep(card_of(card), blocks, Watch())
    person.window.model.refresh()
    person.window.model.refresh_crate()
    person.wait(lambda: any(m.name == "Pipkin" for m in person.window.model.media) and person.window.model.lanes)
    person.window.go_to(KEEP)
    return person.window.keep


def look_for(person, keep, text: str) -> None:
    person.acts += 1
    keep.field.setText(text)
    person.wait(lambda: not keep._typing.isActive() and person.window.model.asker.is_idle)


def test_one_save_of_last_month_comes_back_in_four_acts(person, keep, bench):
    person.acts = 0
    look_for(person, keep, "hill run")
    panel = keep.find_panel
    assert panel.isVisible()
    assert (panel.files.count(), panel.versions.count(), panel.versions.currentRow()) == (2, 2, 0)
    person.acts += 1
    panel.versions.setCurrentRow(1)                                # the older one
    assert "stays, under a dated one" in panel.words.text()
    person.type_tag(panel.entry, panel.card.tag)
    person.click(panel.entry.buttons[0])
    person.wait(lambda: not person.window.model.busy and person.window.model.asker.is_idle)
    assert person.acts == 4
    assert "is on Pipkin again" in panel.words.text()
    with bench.shelf.find("Pipkin").open() as card:
        volume = open_partition(card, 2)
        saves = {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.path.startswith("hill run")}
    assert saves.pop("hill run.srm") == b"first" * 900
    assert list(saves.values()) == [b"second" * 900]


def test_a_backup_is_forgotten_once_it_is_said_what_would_be_lost(person, keep, bench):
    backup = bench.crate.find("Pipkin")
    keep.lanes._choose(backup)
    person.acts = 0
    person.click(keep.detail.forget)
    person.wait(lambda: keep.detail.forget.text() == "Forget it")
    said = " ".join(each.text() for each in keep.detail.findChildren(QLabel))
    assert "1 file, 1 save among them, is in no other backup: hill run.srm" in said
    person.click(keep.detail.forget)
    person.wait(lambda: not person.window.model.busy and person.window.model.asker.is_idle)
    assert person.acts == 2
    assert backup.path not in [b.path for lane in bench.crate.lanes() for b in lane.backups]
    assert bench.crate.check_all(Watch()) == []
    assert keep.detail.forget.text() == "Forget…"


def test_a_backup_that_goes_away_under_the_window_is_called_gone(person, keep, bench):
    older, newer = bench.crate.lanes()[0].backups
    older.path.unlink()
    keep.lanes._choose(newer)
    assert keep.detail.core_before.layout_shown is None
    newer.path.unlink()
    heard = []
    person.window.model.failed.connect(heard.append)
    person.click(keep.detail.look)
    assert len(heard) == 1
    assert "No such file" in heard[0]
    keep._show_core()
    assert keep.detail.core.layout_shown is None


def test_ctrl_k_goes_on_to_the_files_of_all_backups(person, keep):
    person.window.go_to(0)
    QTest.keyClick(person.window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    finder = person.window.findChild(Finder)
    QTest.keyClicks(finder.field, "hill run.s")
    assert finder.found.item(0).text() == "Find “hill run.s” in all backups"
    QTest.keyClick(finder.field, Qt.Key.Key_Return)
    person.wait(lambda: keep.find_panel.files.count() == 2)
    assert keep.isVisible()


def test_a_damaged_backup_is_mended_from_its_card(person, keep, bench):
    backup = bench.crate.find("Pipkin")
    keep.lanes._choose(backup)
    for pack in bench.crate.root.rglob("*.pack"):
        rot(pack, every=400)
    packs_of.cache_clear()
    person.acts = 0
    person.click(keep.detail.check)
    person.wait(lambda: not person.window.model.busy and keep.detail.mend.isVisible())
    person.click(keep.detail.mend)
    person.wait(lambda: not person.window.model.busy and person.window.model.asker.is_idle)
    assert person.acts == 2
    assert any("it is whole again" in each.text() for each in keep.detail.findChildren(QLabel))
    bench.crate.check(backup, Watch())


def test_nothing_found_a_card_away_and_back_to_the_lanes(person, keep, bench):
    look_for(person, keep, "no such file")
    assert keep.find_panel.head.text() == "No file called “no such file” is in any backup."
    (bench.shelf.simulated_folder / "one.toml").unlink()
    person.window.model.refresh()
    person.wait(lambda: all(m.name != "Pipkin" for m in person.window.model.media))
    look_for(person, keep, "hill")
    assert "is not at hand. Put it in" in keep.find_panel.words.text()
    assert not keep.find_panel.entry.isVisible()
    look_for(person, keep, "")
    assert not keep.find_panel.isVisible()
    assert keep.area.isVisible()


def write(person, field, text: str) -> None:
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)
    person.wait(lambda: person.window.model.asker.is_idle)


def test_a_card_is_named_a_backup_noted_and_old_ones_thinned_out(person, keep, bench):
    """What would go is shown first; a note keeps a backup."""
    window, card = person.window, bench.shelf.find("Pipkin")
    with card.open() as blocks:
        for days in (500, 499, 498):
            when = bench.crate.now() - timedelta(days=days)
            bench.crate.keep(card_of(card), blocks, Watch(), kept_at=when)

    def settled() -> bool:
        return window.model.asker.is_idle and not window.model.busy

    window.model.refresh_crate()
    person.wait(lambda: settled() and keep.thinning.isVisible())
    assert "1 backup is beyond" in keep.thinning.words.text()
    write(person, keep.detail.name, "Blue one")
    write(person, keep.detail.note, "the good run")
    person.wait(lambda: settled() and keep.detail.head.text().startswith("Blue one"))
    assert (keep.lanes.selected.note, bench.crate.find("Blue one").note) == ("the good run", "the good run")
    put_note(bench.crate.root, card.key, name="Green one")        # by another program
    window.model.refresh_crate()
    person.wait(lambda: settled() and keep.detail.head.text().startswith("Green one"))
    person.click(keep.thinning.act)
    person.wait(lambda: keep.thinning.act.text() == "Forget this")
    assert "Every file in them is in another backup too" in keep.thinning.words.text()
    person.click(keep.thinning.act)
    person.wait(lambda: settled() and not keep.thinning.isVisible())
    assert len(bench.crate.lanes()[0].backups) == 4
    assert bench.crate.check_all(Watch()) == []


def test_two_backups_that_are_not_neighbours_are_compared(person, keep, bench):
    """Three states: the newest since the one before says what is new, since the first one that too and the rest."""
    card = bench.shelf.find("Pipkin")
    with card.open() as blocks:
        bench.crate.keep(card_of(card), blocks, Watch())
    person.window.model.refresh_crate()
    person.wait(lambda: len(person.window.model.lanes[0].backups) == 3 and person.window.model.asker.is_idle)
    first, _, newest = person.window.model.lanes[0].backups
    keep.lanes._choose(newest)
    person.wait(lambda: person.window.model.asker.is_idle)
    assert (keep.detail.since.text(), keep.detail.against.count()) == ("Since", 2)
    assert "hill run" not in words_of(keep.detail)
    keep.detail.against.setCurrentIndex(next(k for k in range(2) if keep.detail.against.itemData(k).path == first.path))
    keep.detail.against.activated.emit(keep.detail.against.currentIndex())
    person.wait(lambda: "hill run" in words_of(keep.detail))
    keep.lanes._choose(first)
    assert keep.detail.since.text() == "Compare with"
