"""What a shell expects of a program: its name, signals, wrong usage for scripts, hints that can be pasted."""

from __future__ import annotations

import json
import os
import shlex
import signal

import pytest

from mosscrate.cli.progress import watching
from mosscrate.core.errors import Stopped


@pytest.mark.parametrize(("called", "name"), [(None, "mosscrate"), ("./moss cli", "./moss cli")])
def test_it_is_called_in_its_help_what_it_is_called_by(cli, monkeypatch, called, name):
    monkeypatch.delenv("MOSSCRATE_PROGRAM", raising=False)
    if called:
        monkeypatch.setenv("MOSSCRATE_PROGRAM", called)
    status, out, _ = cli("look", "--help")
    assert (status, out.splitlines()[0].split(" look")[0]) == (0, f"Usage: {name}")
    assert f"“{name} keep MEDIUM”" in cli("crate", "list")[1]


@pytest.mark.parametrize("words", [("look", "--json"), ("nothing", "--json"), ("look", "no card", "--json")])
def test_with_json_what_goes_wrong_is_json_too(cli, words):
    status, _, err = cli(*words)
    assert status
    assert json.loads(err)["error"]


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_job_stops_when_the_person_or_the_system_ends_it(number):
    before = signal.getsignal(number)
    with pytest.raises(Stopped) as stopped, watching() as watch:
        os.kill(os.getpid(), number)
        watch.progress("Writing", 0, 1)
    assert stopped.value.exit_code == 128 + number
    assert signal.getsignal(number) == before


def test_the_answer_to_a_question_can_be_pasted(cli, cards, tmp_path):
    library = tmp_path / "it's new"
    library.mkdir()
    (library / "it's a game.xyz").write_bytes(b"unknown" * 99)
    _, out, _ = cli("fill", "Worn card", library, "--plan", "short-codes-saves-beside")
    told = next(line for line in out.splitlines() if "--answer" in line)
    option, answer = shlex.split(told[told.index("--answer"):])
    assert option == "--answer"
    assert answer.endswith("=…")
    assert "it's" in answer
