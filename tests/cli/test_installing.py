"""The program in a user's menu: what is put there starts it, and all of it goes again."""

from __future__ import annotations

import configparser
import subprocess
import sys
from pathlib import Path

import pytest

from mosscrate.cli import installing

SHELLS = {"bash": "bash-completion/completions/mosscrate", "zsh": "zsh/site-functions/_mosscrate"}


@pytest.fixture
def home(tmp_path, monkeypatch):
    """A user's folders, and the program in one with a space in its name."""
    programs = tmp_path / "my programs"
    programs.mkdir()
    window = programs / "mosscrate-desk"
    window.write_text("#!/bin/sh\necho started \"$@\"\n")
    window.chmod(0o755)
    monkeypatch.setenv("PATH", str(programs), prepend=":")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    return tmp_path


def test_the_entry_in_the_menu_starts_the_window_and_all_of_it_goes_again(cli, home):
    status, out, _ = cli("install-desktop")
    assert status == 0
    entry = configparser.ConfigParser(interpolation=None, strict=True)
    entry.optionxform = str
    entry.read(home / "data/applications/mosscrate.desktop", "utf-8")
    line = entry["Desktop Entry"]["Exec"]
    assert line == f'"{home}/my programs/mosscrate-desk" %F'
    assert (home / f"data/icons/hicolor/scalable/apps/{entry['Desktop Entry']['Icon']}.svg").is_file()
    made = {Path(words.split(maxsplit=1)[1]) for words in out.splitlines() if words.startswith("made")}
    assert made == {path for place in ("data", "config") for path in (home / place).rglob("*") if path.is_file()}
    assert cli("install-desktop")[0] == 0                       # a later version over an earlier one
    status, out, _ = cli("install-desktop", "--remove")
    assert status == 0
    assert not [path for path in made if path.exists()]
    assert "Nothing of it was there." in cli("install-desktop", "--remove")[1]


def test_the_completions_are_those_of_a_shell(cli, home):
    cli("install-desktop")
    for shell, place in SHELLS.items():
        assert "mosscrate" in (home / "data" / place).read_text("utf-8"), shell
    assert subprocess.run(["bash", "-n", home / "data" / SHELLS["bash"]], check=False).returncode == 0
    assert (home / "config/fish/completions/mosscrate.fish").is_file()


def test_where_the_window_is_not_installed_nothing_is_put_anywhere(cli, home, monkeypatch):
    monkeypatch.setenv("PATH", "/nowhere")
    monkeypatch.setattr(sys, "executable", str(home / "python3"))
    status, _, err = cli("install-desktop")
    assert status == 1
    assert "pip install 'mosscrate[desk]'" in err
    assert not (home / "data").exists()


@pytest.mark.parametrize(("path", "written"), [
    ("/usr/bin/mosscrate-desk", "/usr/bin/mosscrate-desk"), ("/a b/x", '"/a b/x"'), ("/a%b/x", '"/a%%b/x"'),
    ('/a"b/x', '"/a\\\\"b/x"')])
def test_paths_stand_in_an_entry_as_its_format_wants_them(path, written):
    """Desktop Entry Specification, Exec: quoted, and the backslashes of quotes escaped once more as in any string."""
    assert installing._in_entry(path) == written
