"""The program called as a shell calls it, and two cards."""

from __future__ import annotations

import logging
import sys

import pytest

from mosscrate.cli.app import main
from tests.cards import MIB, handheld, put_card


@pytest.fixture
def cli(bench, monkeypatch, capsys):
    """Call the program; gives (exit status, stdout, stderr)."""
    def call(*words):
        monkeypatch.setattr(sys, "argv", ["mosscrate", "--slots", str(bench.shelf.simulated_folder), "--crate",
                                          str(bench.crate.root), "--state", str(bench.state), *map(str, words)])
        with pytest.raises(SystemExit) as ended:
            main()
        out, err = capsys.readouterr()
        return ended.value.code, out, err

    yield call
    log = logging.getLogger("mosscrate")
    while log.handlers:                                     # their file goes with the test
        handler = log.handlers.pop()
        handler.close()


@pytest.fixture
def cards(bench):
    put_card(bench, "old", 40 * MIB, handheld(40 * MIB).data, name="Worn card")
    put_card(bench, "new", 100 * MIB, name="New card")
