"""What people who hear the screen find: every drawn thing has a role, a name, a value or state, and an action."""

from __future__ import annotations

import re

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractButton, QAbstractSlider, QLabel, QWidget

from mosscrate.desk.keep.lanes_view import LanesView
from mosscrate.desk.move.ribbons import Ribbons
from mosscrate.desk.rail import Rail
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.hearing import Edge, Spot, Words
from mosscrate.desk.shared.panel import Facts, FindingRow
from mosscrate.desk.shared.rate_plot import RatePlot
from mosscrate.desk.window import FILL, KEEP, LOOK, MOVE
from tests.desk.person import medium

DRAWN = (CoreView, LanesView, Ribbons, RatePlot, Rail)


def heard(view, kind):
    return [part for part in view.findChildren(kind) if part.isVisible()]


def test_strata_are_buttons_that_tell_what_they_are_and_choose_themselves(person):
    w = person.window
    person.pick_card("Worn card")
    spots = heard(w.look.core, Spot)
    names = [spot.accessibleName() for spot in spots]
    assert names[0].startswith("Head of the card: map")
    assert any(re.match(r"PEAT, 5 MiB, FAT16 · .*full", name) for name in names)
    assert [spot.isChecked() for spot in spots].count(True) == 1
    peat = next(spot for spot in spots if spot.accessibleName().startswith("PEAT"))
    peat.click()                                                     # what a screen reader's “press” does
    assert w.look.core.selected == 1
    assert peat.isChecked()


def test_the_edge_is_a_slider_with_a_value_that_can_be_set(person):
    person.plan("Worn card", "New card")
    move = person.window.move_
    edge, = heard(move.right, Edge)
    assert isinstance(edge, QAbstractSlider)
    assert edge.accessibleName() == "Size of GAMES"
    assert edge.value() == edge.maximum()
    before = move.plan.size()
    edge.setValue(edge.maximum() // 2)
    assert move.plan.size() < before
    assert edge.accessibleDescription() in move.size_panel.field.text()


def test_ribbons_findings_facts_backups_rail_and_shelf_are_told(person):
    w = person.window
    person.pick_card("Worn card")
    person.click(w.look.keep_button)
    person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
    person.plan("Worn card", "New card")
    assert [words.text() for words in heard(w.move_.ribbons, Words)] == ["PEAT: exact", "GAMES: grown ×2.8"]
    rows = [r for r in w.move_.findChildren(FindingRow) if r.isVisible()]
    assert rows
    assert all(re.match("good|note|warning|problem", r.findChild(QLabel, "").accessibleName() or "") or
               any(re.match("(good|note|warning|problem): ", part.accessibleName()) for part in r.findChildren(QLabel))
               for r in rows)
    facts = [part.accessibleName() for f in w.move_.findChildren(Facts) if f.isVisible()
             for part in f.findChildren(QLabel)]
    assert "file system: FAT32" in facts
    w.go_to(KEEP)
    person.wait(lambda: w.model.asker.is_idle)
    backups = heard(w.keep.lanes, Spot)
    assert len(backups) == 1
    assert backups[0].accessibleName().startswith("Worn card, kept ")
    assert [button.accessibleName() for button in w.rail.findChildren(QAbstractButton)] == [
        "Station Look", "Station Keep", "Station Move", "Station Fill", "Station Proof"]
    w.go_to(LOOK)
    worn = medium(person, "Worn card")
    assert w.look.shelf.item(0).text() == f"Worn card, {worn.subtitle}, tag {worn.tag}"


def test_nothing_that_is_drawn_is_one_nameless_thing(person):
    w = person.window
    person.plan("Worn card", "New card")
    for station in (LOOK, KEEP, MOVE):
        w.go_to(station)
        person.wait(lambda: w.model.asker.is_idle)
        for view in w.findChildren(QWidget):
            if not view.isVisible() or not isinstance(view, DRAWN):
                continue
            parts = heard(view, (Spot, Words, QAbstractButton)) if not isinstance(view, Rail) else view.children()
            assert view.accessibleName() or isinstance(view, Rail)
            assert parts or (isinstance(view, LanesView) and not view.lanes), view.accessibleName()
            assert all(part.accessibleName() for part in parts if isinstance(part, Spot | Words))


def stops(window):
    """What the Tab key comes to, with the name that is told of it."""
    return [(part, part.accessibleName() or (part.text() if isinstance(part, QAbstractButton) else ""))
            for part in window.findChildren(QWidget)
            if part.isVisible() and part.isEnabled() and part.focusPolicy() & Qt.FocusPolicy.TabFocus]


def test_nothing_that_the_tab_key_comes_to_is_nameless(person, tmp_path):
    w = person.window
    person.pick_card("Worn card")
    person.click(w.look.keep_button)
    person.wait(lambda: not w.model.busy and w.model.asker.is_idle)
    (tmp_path / "games").mkdir()
    (tmp_path / "games" / "what.xyz").write_bytes(b"nobody knows")
    w.fill.bring([tmp_path / "games"])
    person.wait(lambda: w.fill.filling is not None)
    person.plan("Worn card", "New card")
    for number in range(5):
        w._go_by_key(number)
        person.wait(lambda: w.model.asker.is_idle)
        assert [type(part).__name__ for part, name in stops(w) if not name] == []
    w.fill._show_plan_files()
    w.go_to(FILL)
    assert [type(part).__name__ for part, name in stops(w) if not name] == []


def test_from_the_shelf_to_what_matters_is_a_few_sections_away(person):
    w = person.window
    person.pick_card("Worn card")
    person.wait(lambda: w.look.move_button.isEnabled())
    w.look.shelf.setFocus()
    w._go_on_by_section(1)
    assert w.focusWidget() is w.look.move_button
    w._go_on_by_section(-1)
    assert w.focusWidget() is w.look.shelf
    person.plan("Worn card", "New card")
    w.move_.from_box.box.setFocus()
    seen = []
    for _ in range(6):
        w._go_on_by_section(1)
        seen.append(w.focusWidget())
    assert w.move_.guard_panel.entry.field in seen[:3]
    assert len({id(part) for part in seen}) > 2
    assert w.look.files_button.autoExclusive()                                        # one of two, not two check boxes
