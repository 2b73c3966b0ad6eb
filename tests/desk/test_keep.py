"""Keep: backups made, checked and put back."""

from __future__ import annotations

from PyQt6.QtCore import QPoint

from mosscrate.desk.window import KEEP, MOVE


def test_a_backup_is_made_checked_and_put_back_from_keep(person):
    w = person.window
    w.go_to(KEEP)
    assert w.keep.empty.isVisible()
    person.click(w.keep.keep_button)
    person.wait(lambda: bool(w.model.lanes) and w.model.asker.is_idle)
    person.wait(lambda: w.keep.detail.core.layout_shown is not None)
    mark = w.keep.lanes.timeline().marks[0]
    person.click(w.keep.lanes, QPoint(round(mark.x + 5), round(mark.top + 5)))
    person.click(w.keep.detail.check)
    person.wait(lambda: not w.model.jobs)
    assert any("exactly what was kept" in r.accessibleName() for r in w.keep.detail.findChildren(
        type(w.move_.guard_panel.entry).__base__))
    person.click(w.keep.detail.put_back)
    assert w.stack.currentIndex() == MOVE
    person.choose(w.move_.to_box, "New card")
    person.wait(lambda: w.move_.plan is not None)
    assert next(type(s).__name__ for s in w.move_.plan.sheet.steps) == "WriteImage"
