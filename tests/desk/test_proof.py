"""Proof at the window: the log grows, bad places have names, false cards an end, and stopping puts everything back."""

from __future__ import annotations

import pytest
from PyQt6.QtWidgets import QLabel

from mosscrate.core.blocks.faulty import Bad, Faults, Fold, Speed
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.size import Journal
from mosscrate.core.rescue import Wishes, rescue
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.watch import Watch
from mosscrate.desk.proof.depth import depth_at, lines
from mosscrate.desk.shared.strata import y_of
from mosscrate.desk.window import PROOF
from tests.cards import MIB, handheld, put_card
from tests.cli.test_proving import faulty
from tests.desk.person import words_of


@pytest.fixture
def proof(person, bench):
    """The station, with a card that is worn and one that is false."""
    put_card(bench, "worn", 40 * MIB, handheld().data, name="Bad card", order=7)
    put_card(bench, "bargain", 200 * MIB, handheld().data, name="Bargain card", order=8)
    with bench.shelf.find("Bad card").open() as card:
        volume = open_partition(card, 2)
        entry = next(e for e in volume.tree().entries if e.path.endswith(".gb"))
        at = 6 * MIB + volume.extents_of(entry)[0].start
    faulty(bench, "worn", bad=(Bad(at, 512), Bad(39 * MIB, 1024)), speed=Speed(2e7, 1e7))
    faulty(bench, "bargain", fold=Fold(90 * MIB))
    person.file = entry.path
    person.window.model.refresh()
    person.wait(lambda: {"Bad card", "Bargain card"} <= {m.name for m in person.window.model.media})
    person.wait(lambda: person.window.model.asker.is_idle)
    person.window.go_to(PROOF)
    return person.window.proof


def choose(person, proof, name):
    number = proof.cards.findText(name)
    person.acts += 1
    proof.cards.setCurrentIndex(number)
    proof.cards.activated.emit(number)
    person.wait(lambda: proof.medium is not None and proof.medium.name == name and person.window.model.asker.is_idle)


def finish(person, proof):
    person.wait(lambda: proof.job is None and not person.window.model.busy and person.window.model.asker.is_idle)


def test_a_card_is_read_and_its_bad_places_are_named(person, proof):
    person.acts = 0
    choose(person, proof, "Bad card")
    person.click(proof.read_button)
    finish(person, proof)
    assert person.acts == 2
    assert proof.title.text() == "Not all of it can be read. Keep it now."
    assert person.file in proof.subtitle.text()
    assert [proof.bore._cuts._name_at(e.start) for e in proof.bore.log.bad] == [
        person.file.rpartition("/")[2], "GAMES, no file"]
    assert {line.row.bad for line in proof.bore.lines} == {0, 1}
    assert "Bad card is failing" in proof.subtitle.text()
    assert "Bad card is failing" not in words_of(proof.rows)                # it is said once
    assert person.told[-1] == "Bad card: not all of it can be read. Keep it now."
    proof.bore.grab()
    person.click(proof.read_button)
    finish(person, proof)
    assert proof.bore.last.rate == pytest.approx(proof.bore.log.rate, rel=0.01)
    proof.bore.grab()


def test_a_card_whose_map_cannot_be_read_has_a_log_along_its_depth(person, proof, bench):
    put_card(bench, "torn", 40 * MIB, handheld().data, name="Torn card", order=9)
    faulty(bench, "torn", bad=(Bad(0, 512), Bad(20 * MIB, 512)))
    person.window.model.refresh()
    person.wait(lambda: "Torn card" in {m.name for m in person.window.model.media})
    person.wait(lambda: person.window.model.asker.is_idle)
    choose(person, proof, "Torn card")
    person.click(proof.read_button)
    finish(person, proof)
    assert "its map cannot be read" in proof.subtitle.text()
    heights = [proof.bore.height_of(e.start) for e in proof.bore.log.bad]
    assert heights[1] - heights[0] == pytest.approx(proof.bore.core.column().height() / 2, rel=0.1)
    assert [proof.bore._cuts._name_at(e.start) for e in proof.bore.log.bad] == ["contents not known"] * 2
    proof.bore.grab()


def test_a_false_card_shows_its_true_end(person, proof):
    choose(person, proof, "Bargain card")
    person.acts = 0
    person.type_tag(proof.entry, proof.medium.tag)
    person.click(proof.entry.buttons[0])
    finish(person, proof)
    assert (person.acts, proof.bore.real) == (2, 90 * MIB)
    assert "A few marks are written" in proof.about.text()
    assert proof.title.text() == "Holds 90 MiB of the 200 MiB that it claims. Keep nothing on it."
    proof.bore.grab()
    model = person.window.model
    model.refresh()
    medium = next(m for m in model.media if m.name == "Bargain card")
    person.wait(lambda: any("Proved on" in f.sentence for f in model.seen[medium.key].layout.findings))
    choose(person, proof, "Worn card")
    assert (proof.bore.real, proof.bore.log) == (None, None)


def test_what_an_interrupted_proof_has_left_is_offered_to_be_put_back(person, proof, bench):
    image = bench.shelf.simulated_folder / "old.img"
    before = image.read_bytes()
    faulty(bench, "old", pulled_after_writes=40)
    person.window.model.refresh()
    person.wait(lambda: any(m.faults != Faults() and m.name == "Worn card" for m in person.window.model.media))
    choose(person, proof, "Worn card")
    person.type_tag(proof.entry, proof.medium.tag)
    person.click(proof.entry.buttons[0])
    finish(person, proof)
    assert "was pulled" in proof.subtitle.text()
    assert image.read_bytes() != before
    bench.shelf.find("Worn card").state.pull()
    faulty(bench, "old")
    person.window.model.refresh()
    person.wait(lambda: all(m.faults == Faults() for m in person.window.model.media if m.name == "Worn card"))
    choose(person, proof, "Bad card")
    choose(person, proof, "Worn card")
    assert proof.entry.buttons[0].text() == "Put back"
    assert "was interrupted" in proof.about.text()
    person.type_tag(proof.entry, proof.medium.tag)
    person.click(proof.entry.buttons[0])
    finish(person, proof)
    assert image.read_bytes() == before
    assert list(Journal.unfinished(bench.state)) == []
    assert proof.entry.buttons[0].text() == "Prove its size"


def test_every_depth_stands_where_the_core_has_it(person, proof):
    choose(person, proof, "Worn card")
    placed = proof.bore.core.placed()
    log = DepthLog(40 * MIB)
    log.add_bad(20 * MIB, 512)
    (bad,) = [line for line in lines(log, placed) if line.row.bad]
    assert bad.y == pytest.approx(y_of(placed, 20 * MIB), abs=3)
    assert depth_at(placed, y_of(placed, 20 * MIB)) == pytest.approx(20 * MIB, rel=0.01)


def test_a_failing_card_is_rescued_and_kept_with_its_holes_named(person, proof, bench):
    choose(person, proof, "Bad card")
    person.acts = 0
    person.click(proof.instead)
    person.click(proof.rescue_panel.go_button)
    finish(person, proof)
    panel = proof.rescue_panel
    assert (panel.go_button.text(), panel.standing.is_whole) == ("Try bad places again", False)
    assert proof.title.text() == "No save is missing; 512 B of the rest is not rescued"
    assert person.file in proof.subtitle.text()
    assert [proof.bore._cuts._name_at(e.start) for e in proof.bore.log.bad] == [person.file.rpartition("/")[2]]
    panel.shares.grab()
    person.click(panel.keep_button)
    finish(person, proof)
    assert person.acts == 3
    assert proof.title.text() == "What could be read of it is kept"
    assert f"1 file has holes, zeros there: {person.file}" in proof.subtitle.text()
    assert [h.path for h in bench.crate.backups_of(proof.medium.key)[0].record.holed] == [person.file]
    assert not panel.isVisible()
    assert any("What could be read is kept" in each.text() for each in proof.rows.findChildren(QLabel))


def test_a_rescue_that_was_begun_is_offered_when_the_window_opens_again(person, proof, bench):
    rescue(bench.shelf.find("Bad card"), bench, Wishes(), Watch())
    choose(person, proof, "Bad card")
    person.wait(lambda: proof.rescue_panel.standing is not None)
    assert proof.rescue_panel.isVisible()
    assert (proof.rescue_panel.go_button.text(), proof.rescue_panel.keep_button.isVisible()) == ("Go on", True)


def test_a_card_is_written_through_and_proved_whole_from_the_window(person, proof, bench):
    image = bench.shelf.simulated_folder / "old.img"
    before = image.read_bytes()
    choose(person, proof, "Worn card")
    for way, words in ((2, "takes and holds what is written"), (3, "every block of it was written")):
        person.acts = 0
        proof.ways.setCurrentIndex(way)
        proof.ways.activated.emit(way)
        person.type_tag(proof.entry, proof.medium.tag)
        person.click(proof.entry.buttons[0])
        finish(person, proof)
        assert (person.acts, words in proof.subtitle.text()) == (2, True)
        assert image.read_bytes() == before
        assert proof.bore.log.rate > 0
    proof.ways.setCurrentIndex(4)
    proof.ways.activated.emit(4)
    assert "everything that stands on the card is lost" in proof.about.text()
    assert proof.entry.buttons[0].text() == "Prove and lose all"


def test_where_a_card_is_not_what_was_kept_is_drawn(person, proof, bench):
    card = bench.shelf.find("Worn card")
    with card.open() as blocks:
        bench.crate.keep(card_of(card), blocks, Watch(), verify=False)
        volume = open_partition(blocks, 2)
        entry = next(e for e in volume.tree().entries if e.path.endswith(".gb") and e.size)
        at = 6 * MIB + volume.extents_of(entry)[0].start
    with card.path.open("r+b") as image:
        image.seek(at)
        image.write(b"another")
    person.window.model.refresh_crate()
    choose(person, proof, "Worn card")
    person.wait(proof.compare_button.isEnabled)
    person.click(proof.compare_button)
    finish(person, proof)
    assert proof.title.text() == "It is not what was kept"
    assert [(e.start, e.length) for e in proof.bore.differing] == [(at, 512)]
    assert proof.bore._cuts._name_at(at) == entry.path.rpartition("/")[2]
    proof.bore.grab()


def test_marks_are_left_while_it_is_out_and_looked_at_when_it_is_back(person, proof, bench):
    image = bench.shelf.simulated_folder / "old.img"
    before = image.read_bytes()
    choose(person, proof, "Worn card")
    person.acts = 0
    proof.ways.setCurrentIndex(1)
    proof.ways.activated.emit(1)
    person.type_tag(proof.entry, proof.medium.tag)
    person.click(proof.entry.buttons[0])
    finish(person, proof)
    assert "Take it out, put it in again" in proof.subtitle.text()
    assert image.read_bytes() != before
    assert (proof.entry.buttons[0].text(), "Marks are on it" in proof.about.text()) == ("Look at the marks", True)
    person.type_tag(proof.entry, proof.medium.tag)
    person.click(proof.entry.buttons[0])
    finish(person, proof)
    assert (person.acts, image.read_bytes() == before) == (4, True)
    assert "while it was out of its reader" in proof.subtitle.text()
