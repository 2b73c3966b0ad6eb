"""Every view of the window in both themes, small and large, with usual and with large text: nothing cut, nothing over
anything."""

from __future__ import annotations

from dataclasses import dataclass, field

import pytest
from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from mosscrate.demo import library
from mosscrate.demo.cards import bench_at
from mosscrate.desk import theme
from mosscrate.desk.shared.panel import label
from mosscrate.desk.window import FILL, KEEP, LOOK, MOVE, PROOF
from tests.desk.person import Person, medium
from tests.desk.seeing import faults

SIZES = ((900, 600), (1280, 800), (2560, 1440))


@dataclass
class Walk:
    """What was seen in each view."""

    person: Person
    found: list[str] = field(default_factory=list)

    def look_over(self, view: str) -> None:
        for size in SIZES:
            self.person.window.resize(*size)
            self.person.wait(lambda: self.person.window.model.asker.is_idle)
            self.found += [f"{view} at {size[0]} × {size[1]}: {fault}" for fault in faults(self.person.window)]


@pytest.mark.parametrize(("name", "scale"), [("dark", 1.0), ("light", 1.5)])
def test_nothing_is_cut_and_nothing_stands_over_anything(name, scale, qapp, tmp_path):
    usual, before = qapp.font(), theme.Look.now
    font = qapp.font()
    font.setPointSizeF(usual.pointSizeF() * scale)
    qapp.setFont(font)
    theme.apply(qapp, theme.wanted_theme(name))
    person = Person(bench_at(tmp_path / "bench"))
    walk, w = Walk(person), person.window
    try:
        go_through(walk, library.build(tmp_path / "library"))
        assert walk.found == []
    finally:
        w.close()
        qapp.setFont(usual)
        theme.apply(qapp, before)


def go_through(walk: Walk, brought) -> None:
    person, w = walk.person, walk.person.window
    for card in ("Pipkin bench card", "Lantern PC, C D E", "Tarn 68 drive", "Bargain 8 GB card", "New 8 GB card"):
        person.pick_card(card)
        walk.look_over(f"Look, {card}")
    person.pick_card("Pipkin bench card")
    w.look._turn(w.look.structure)
    walk.look_over("Look, structure")
    w.go_to(KEEP)
    walk.look_over("Keep")
    w.go_to(MOVE)
    walk.look_over("Move, nothing chosen")
    w.go_to(LOOK)
    w.look._turn(w.look.files)
    person.plan("Pipkin bench card", "New 8 GB card")
    walk.look_over("Move, planned")
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New 8 GB card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    walk.look_over("Move, done")
    for view, begin in (("Prepare", w.move_.choose_to_prepare), ("Change partitions", w.move_.choose_to_arrange)):
        begin(medium(person, "New 8 GB card"))
        person.wait(lambda: w.move_.plan is not None)
        walk.look_over(view)
        if view == "Prepare":
            w.move_.games.bring([brought])
            person.wait(lambda: w.move_.prepare_panel.wish().games)
            walk.look_over("Prepare, with games")
    w.go_to(FILL)
    w.fill.take(medium(person, "Pipkin bench card"), "")
    walk.look_over("Fill, nothing brought in")
    w.fill.bring([brought])
    person.wait(lambda: w.fill.filling is not None)
    walk.look_over("Fill")
    person.click(w.fill.plans_button)
    walk.look_over("Plans")
    w.go_to(PROOF)
    walk.look_over("Proof")


def test_the_eye_sees_what_is_cut_and_what_overlaps(qapp):
    page = QWidget()
    column = QVBoxLayout(page)
    wide, second, third = label("a text that is wide"), label("second"), QLabel("over the second", page)
    column.addWidget(wide)
    column.addWidget(second)
    page.resize(300, 120)
    page.show()
    third.setGeometry(second.geometry())
    third.show()
    wide.setFixedWidth(20)
    told = faults(page)
    assert any(fault.startswith("cut: Label “a text that is wide”") for fault in told)
    assert any("over one another: " in fault and "over the second" in fault for fault in told)
    page.close()
