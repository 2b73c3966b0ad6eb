"""The real window, driven through its widgets: the whole move, refusals, recovery, keyboard, both themes."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from itertools import pairwise

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLabel, QListWidget, QWidget

from mosscrate.core.contents import survey
from mosscrate.core.findings import Severity
from mosscrate.desk import theme
from mosscrate.desk.finder import Finder
from mosscrate.desk.shared.background import Asker
from mosscrate.desk.shared.strata import lay_out, strata_of
from mosscrate.desk.window import KEEP, LOOK, MOVE
from tests.cards import MIB, handheld, put_card
from tests.desk.person import words_of


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
    assert "stops at 64 MiB: its shuttle is short" in words_of(move.sheet_panel)
    assert move.plan.size() == 64 * MIB
    move.size_panel.stops.setCurrentIndex(3)
    move.size_panel.stops.activated.emit(3)
    assert "above 64 MiB: its shuttle is short" in words_of(move.sheet_panel)
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


def test_a_card_that_grows_where_it_is_stops_where_its_machine_does(person, bench):
    put_card(bench, "wide", 200 * MIB, handheld(40 * MIB).data, name="Wide card")
    w = person.window
    w.model.refresh()
    person.wait(lambda: any(m.name == "Wide card" for m in w.model.media) and w.model.asker.is_idle)
    w.model.mean_for("loom")
    person.pick_card("Wide card")
    person.click(w.look.grow_button)
    person.wait(lambda: w.move_.plan is not None)
    assert w.move_.plan.size() == 64 * MIB
    assert "stops at 64 MiB: its shuttle is short" in words_of(w.move_.sheet_panel)
    assert w.move_.aspect.currentWidget() is w.move_.size_panel
    w.model.mean_for("")
    assert w.move_.plan.size() > 190 * MIB


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
    for ground in ("ground", "panel"):                       # WCAG 2.1, 1.4.11: where something is filled in
        assert contrast(used.edge, getattr(used, ground)) >= 3, ground


@pytest.mark.parametrize("height", [120, 300, 700])
def test_strata_fill_the_column_in_order_and_stay_readable(height):
    card = handheld(60 * MIB, tail=10 * MIB)
    placed = lay_out(strata_of(survey(card)), height, header="map")
    assert placed[0].top == 0
    assert placed[-1].bottom == pytest.approx(height)
    assert all(a.bottom == pytest.approx(b.top) and a.start <= b.start for a, b in pairwise(placed))
    assert all(s.height >= 20 for s in placed if s.index and height >= 300)


def test_a_name_that_steers_or_looks_like_markup_is_shown_as_it_is(person, bench):
    name = "<img src='x'>\u202egpj\x1b[31m"
    put_card(bench, "odd", 40 * MIB, handheld(seed=1).data, name=name)
    person.window.model.refresh()
    person.wait(lambda: any(m.name == name for m in person.window.model.media) and person.window.model.asker.is_idle)
    person.pick_card(name)
    for station in range(5):
        person.window.go_to(station)
        person.wait(lambda: person.window.model.asker.is_idle)
    said = [widget.text() for widget in person.window.findChildren(QLabel)]
    tips = [widget.toolTip() for widget in person.window.findChildren(QWidget)]
    for view in person.window.findChildren(QListWidget):
        said += [view.item(row).text() for row in range(view.count())]
        tips += [view.item(row).toolTip() for row in range(view.count())]
    for box in person.window.findChildren(QComboBox):
        said += [box.itemText(k) for k in range(box.count())]
    told = [text for text in [*said, *tips] if "img src" in text]
    assert len(told) >= 6
    assert all(r"\u202egpj\x1b[31m" in text for text in told)
    assert not [text for text in tips if "<img" in text]            # of which Qt would make a picture


GOES = """
import time
from PyQt6 import sip
from mosscrate.desk.app import make_application
from mosscrate.desk.shared import background
app = make_application(["test"], "dark")
background.CLOSING_S = 0.1
asker = background.Asker()
asker.ask(lambda: time.sleep(60), print, print)
time.sleep(0.2)
asker.wait()
sip.delete(asker)
print("gone", flush=True)
"""


def test_a_window_that_goes_does_not_wait_for_a_question_that_takes_long():
    """A pool of Qt waits for it in its destructor, for ever: the question needs the interpreter to end."""
    done = subprocess.run([sys.executable, "-c", GOES], capture_output=True, text=True, timeout=50, check=True)
    assert done.stdout == "gone\n"


def test_of_two_at_once_the_one_that_is_hurried_is_answered_first(qapp):
    asker, told, begun, go_on = Asker(threads=1), [], threading.Event(), threading.Event()
    asker.ask(lambda: begun.set() or go_on.wait(20), lambda _found: told.append("first"), told.append)
    assert begun.wait(20)
    asked = [asker.ask(lambda k=k: k, told.append, told.append) for k in range(4)]
    asker.hurry(asked[2])
    assert not asker.is_idle
    go_on.set()
    until = time.monotonic() + 20
    while not asker.is_idle and time.monotonic() < until:
        qapp.processEvents()
    assert told == ["first", 2, 0, 1, 3]
    asker.wait()
