"""A person at the window: what is clicked, typed and waited for, each act counted."""

from __future__ import annotations

import time

from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel

from mosscrate.core.blocks import Window
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.maps import read_map
from mosscrate.desk.window import MainWindow
from tests.cards import contents


class Person:
    """Sits before one window; every act goes through a widget and is counted."""

    def __init__(self, bench):
        self.window = MainWindow(lambda: bench)
        self.window.show()
        self.acts = 0
        self.told: list[str] = []                           # problems that the window told
        self.wait(lambda: self.window.is_furnished)
        self.window.model.failed.connect(self.told.append)
        self.wait(lambda: self.window.model.asker.is_idle and bool(self.window.model.media))

    def wait(self, ready, seconds=120):
        end = time.monotonic() + seconds
        while not ready():
            assert time.monotonic() < end, f"the window did not get there; it told {self.told}"
            QApplication.processEvents()
            time.sleep(0.005)
        for _ in range(3):
            QApplication.processEvents()

    def click(self, widget, at=None):
        assert widget.isVisible(), "only what is seen can be clicked"
        assert widget.isEnabled(), "only what is enabled can be clicked"
        self.acts += 1
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at or QPoint())

    def pick_card(self, name):
        shelf = self.window.look.shelf
        row = [m.name for m in self.window.model.media].index(name)
        self.click(shelf.viewport(), shelf.visualItemRect(shelf.item(row)).center())
        self.wait(lambda: self.window.model.asker.is_idle)

    def choose(self, chooser, name):
        self.acts += 1
        number = chooser.box.findText(name)
        assert number > 0, name
        chooser.box.setCurrentIndex(number)
        chooser.box.activated.emit(number)

    def type_tag(self, entry, tag):
        self.acts += 1
        assert entry.field.isEnabled()
        QTest.keyClicks(entry.field, tag)

    def type_text(self, field, text):
        """Type into a field: one act."""
        self.acts += 1
        field.setFocus()
        field.clear()
        QTest.keyClicks(field, text)

    def pick_act(self, title):
        """From the list at the chosen partition, else from that of the card: two acts."""
        move = self.window.move_
        is_of_card = next(a for a in move.arrange_panel.acts if a.title == title).is_of_card
        if is_of_card:
            self.click(move.arrange_panel.card_button)
        else:
            self.acts += 1
            QTest.keyClick(move.right, Qt.Key.Key_Menu)
        self.acts += 1
        next(a for a in move.menu.actions() if a.text() == title).trigger()
        move.menu.close()

    def carry(self, core, stratum, to, at=None):
        self.acts += 1
        start = core.stratum_rect(stratum).center().toPoint()
        end = core.mapFromGlobal(to.mapToGlobal(at or to.rect().center()))
        QTest.mousePress(core, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        QTest.mouseMove(core, end)
        QTest.mouseRelease(core, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)

    def plan(self, source, target):
        self.pick_card(source)
        self.click(self.window.look.move_button)
        self.choose(self.window.move_.to_box, target)
        self.wait(lambda: self.window.move_.plan is not None)

    def wait_for_job(self):
        self.wait(lambda: self.window.move_.job is None and self.window.model.asker.is_idle)


def medium(person, name):
    return next(m for m in person.window.model.media if m.name == name)


def words_of(panel):
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    return "\n".join(words.text() for words in panel.findChildren(QLabel))


def files_of(person, name):
    with medium(person, name).open() as blocks:
        return [contents(Window(blocks, p.start, p.length)) for p in read_map(blocks).partitions]


def sizes_on(blocks, index):
    """Sizes and times of all files, whatever they are called there."""
    return sorted((e.size, e.modified) for e in open_partition(blocks, index).tree().entries if e.kind == "file")


def arrange(person, index, title, **values):
    """One act at a partition or at the card, and its form."""
    move = person.window.move_
    core = move.right
    stratum = next(p for p in core.placed() if p.index == index)
    person.click(core, core.stratum_rect(stratum).center().toPoint())
    panel = move.arrange_panel
    person.pick_act(title)
    for name, value in values.items():
        panel.fill_in(name.replace("_", " "), value)
    person.click(panel.add_button)
