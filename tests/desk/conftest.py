"""The window on a bench of two cards, and the person in front of it."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from mosscrate.desk.app import make_application
from tests.cards import MIB, handheld, put_card
from tests.desk.person import Person


@pytest.fixture(scope="session")
def qapp():
    return QApplication.instance() or make_application(["test"], "dark")


@pytest.fixture
def person(qapp, bench):
    put_card(bench, "old", 40 * MIB, handheld(40 * MIB).data, name="Worn card", order=1)
    put_card(bench, "new", 100 * MIB, name="New card", order=2)
    put_card(bench, "tail", 70 * MIB, handheld(70 * MIB, tail=0).data, name="Full card", order=3, write_protected=True)
    bench.machines.folder.mkdir()
    (bench.machines.folder / "loom.toml").write_text(
        'name = "loom"\nmaps = ["mbr"]\nvolumes = ["fat16", "fat32"]\n'
        '[partition]\nsize = "64 MiB"\nbecause = "its shuttle is short"\n')
    made = Person(bench)
    yield made
    made.window.may_stop = lambda: True                    # after a test that failed a job may still be at work
    made.window.close()
    assert not [t for t in made.window.findChildren(QTimer) if t.isActive()], "a closed window leaves timers behind"
