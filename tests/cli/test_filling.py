"""`plans`, `identify` and `fill` in a shell."""

from __future__ import annotations

import io
import json
import os
import sys

import asyncssh

from mosscrate.core.sheet.steps import PutFiles
from mosscrate.core.volumes import Making, format_for
from mosscrate.demo.device import StandIn, fill
from tests.cards import MIB, put_card
from tests.fill.test_filling import fresh, library, on

__all__ = ["library"]


def test_the_shell_plans_identifies_learns_and_fills(cli, library, bench, tmp_path):
    card = fresh(bench)
    assert len(json.loads(cli("plans", "--json")[1])) == len(json.loads(cli("plans", "list", "--json")[1])) == 6
    assert "Tide.lnx → roms/atarilynx/Tide.lnx" in cli("fill", "show", "Pipkin", library, "-p", "2", "--plan",
                                                       "long-names-saves-apart")[1]
    told = {e["path"].rpartition("/")[2]: e["system"] for e in json.loads(cli("identify", library, "--json")[1])}
    assert (told["Hill Run md.bin"], told["Packed.zip"], told["Thumbs.db"]) == ("md", "nes", "")
    code, out, _ = cli("fill", "Pipkin", library, "--plan", "long-names-saves-apart", "-p", "2", "--files")
    assert (code, "GB → roms/gameboy: 2 files" in out, "Tide.lnx → roms/atarilynx/Tide.lnx" in out) == (0, True, True)
    sheet = tmp_path / "fill.json"
    cli("fill", "Pipkin", library, "--plan", "long-names-saves-apart", "-p", "2", "--out", sheet)
    assert cli("sheet", "show", sheet)[0] == 0
    words = ("fill", "Pipkin", library, "--plan", "long-names-saves-apart", "-p", "2", "--run", "--tag")
    assert cli(*words, "XXXX")[0] == 3
    assert cli(*words, card.tag)[0] == 0
    assert "roms/gameboy/Hill Run gb.gb" in on(card)
    code, out, _ = cli("plans", "learn", "Pipkin", "-p", "2", "--save", "mine")
    assert (code, "Nearest plan: long-names-saves-apart" in out) == (0, True)
    assert "mine" in cli("plans")[1]
    assert "Nothing is to be written" in cli("fill", "Pipkin", library, "--plan", "mine", "-p", "2", "--run")[1]
    assert "roms/gameboy/Hill Run gb.gb → gb/Hill Run gb.gb" in cli(
        "plans", "move", "Pipkin", "short-codes-saves-beside", "-p", "2", "--from", "long-names-saves-apart")[1]
    assert cli("plans", "move", "Pipkin", "short-codes-saves-beside", "-p", "2", "--run", "--tag", card.tag)[0] == 0
    assert "gb/Hill Run gb.gb" in on(card)
    assert "There is no plan “nothing”" in cli("fill", "Pipkin", library, "--plan", "nothing")[2]
    (bench.state / "plans" / "wrong.toml").write_text("name = ")
    assert "wrong.toml: this is no TOML" in cli("plans")[2]
    assert "can be used" in cli("plans", "check", bench.state / "plans" / "mine.toml")[1]
    assert "Saves/GAME.sav" in cli("plans", "show", "upper-codes")[1]
    made = next(path for path in [bench.state / "plans" / "upper-case-short-codes-changed.toml"]
                if str(path) in cli("plans", "copy", "upper-codes")[1])
    assert cli("plans", "remove", "upper-codes")[0] == 1                              # it ships
    assert cli("plans", "remove", made.stem)[0] == 0
    assert not made.exists()


def test_a_folder_of_this_computer_is_filled_like_a_card(cli, library, tmp_path):
    there = tmp_path / "stick"
    there.mkdir()
    code, out, _ = cli("fill", there, library, "--plan", "long-names-saves-apart")
    assert (code, "GB → roms/gameboy: 2 files" in out, list(there.iterdir())) == (0, True, [])
    assert cli("fill", there, library, "--plan", "long-names-saves-apart", "--run")[0] == 0
    game = there / "roms" / "gameboy" / "Hill Run gb.gb"
    assert game.read_bytes() == (library / "GB" / "Hill Run gb.gb").read_bytes()
    assert "Say what is brought in" in cli("fill", there)[2]


def test_an_overlay_is_laid_over_from_a_shell(cli, bench, tmp_path):
    card = fresh(bench)
    (tmp_path / "overlay").mkdir()
    (tmp_path / "overlay" / "menu.cfg").write_bytes(b"one")
    code, out, _ = cli("lay-over", "Pipkin", tmp_path / "overlay", "-p", "2", "--files")
    assert (code, "menu.cfg → menu.cfg: copied" in out) == (0, True)
    assert cli("lay-over", "Pipkin", tmp_path / "overlay", "-p", "2", "--run", "--tag", card.tag)[0] == 0
    assert on(card)["menu.cfg"] == b"one"


def test_a_device_is_filled_with_the_key_and_the_trust_that_are_said(cli, library, tmp_path, monkeypatch):
    monkeypatch.setattr(sys, "stdin", io.StringIO(""))
    fill(tmp_path / "device")
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(tmp_path / "key")
    with StandIn(tmp_path / "device") as there:
        there.allowed = asyncssh.import_authorized_keys(key.export_public_key().decode())
        words = ("fill", str(there.address), library, "--plan", "long-names-saves-apart", "--run")
        assert "is not known here" in cli(*words, "--key", tmp_path / "key")[2]
        said = ("--key", tmp_path / "key", "--trust", there.fingerprint)
        code, _, err = cli(*words, *said, "--tag", "ABCD")
        assert (code, "A tag is of a card" in err) == (2, True)
        assert cli(*words, *said)[0] == 0
    game = tmp_path / "device" / "roms" / "gameboy" / "Hill Run gb.gb"
    assert game.read_bytes() == (library / "GB" / "Hill Run gb.gb").read_bytes()
    assert "are of a running device" in cli("fill", "Pipkin", library, "--key", tmp_path / "key")[2]


def test_what_does_not_fit_is_named_and_the_rest_comes(cli, bench, library):
    put_card(bench, "small", 3 * MIB, b"", name="Small")
    with bench.shelf.find("Small").open_for_guard() as blocks:
        format_for("fat12").make(blocks, Making("fat12", "S"))
    (library / "GB" / "Large.gb").write_bytes(bytes(4 * MIB))
    (library / "GB" / "Large.sav").write_bytes(b"save" * 2048)
    with (library / "GB" / "Huge.gb").open("wb") as huge:
        huge.truncate(4 << 30)
    tag = bench.shelf.find("Small").tag
    code, _, err = cli("fill", "Small", library, "--plan", "long-names-saves-apart", "--run", "--tag", tag)
    assert (code, "did not come; all the rest did" in err) == (1, True)
    assert "Huge.gb: Huge.gb is larger than any file of this file system" in err
    assert "Large.gb, Large.sav: there is no room left for it" in err
    there = on(bench.shelf.find("Small"), 0)
    assert "roms/gameboy/Hill Run gb.gb" in there
    assert not any("Large" in path for path in there)


def test_answers_that_nobody_asks_for_are_refused(cli, library, bench):
    fresh(bench)
    words = ("fill", "Pipkin", library, "--plan", "short-codes-saves-beside", "--answer")
    code, _, err = cli(*words, "states GBX=bring in all the same")
    assert (code, "Nothing asks for “states GBX” here" in err) == (2, True)
    code, _, err = cli(*words, "litter=burn them")
    assert (code, "“burn them” is no answer to “litter”" in err) == (2, True)
    assert cli(*words, "met=leave out")[0] == 0              # could be asked; it is not now


def test_lists_are_added_shown_and_removed(cli, tmp_path):
    (tmp_path / "mine.toml").write_text('system = "gb"\n[[files]]\nname = "Tide.gb"\nsize = 3\ncrc32 = "00000001"\n')
    (tmp_path / "wrong.xml").write_text("<no>")
    assert "There is no list yet" in cli("lists")[1]
    assert cli("lists", "add", tmp_path / "mine.toml")[1] == "mine.toml knows 1 game of gb.\n"
    code, _, err = cli("lists", "add", tmp_path / "wrong.xml")
    assert (code, "wrong.xml: this is no XML" in err) == (1, True)
    assert "mine.toml" in cli("lists")[1]
    (tmp_path / "mine.toml").write_text('system = "nes"\nfiles = []\n')
    assert "with other contents already" in cli("lists", "add", tmp_path / "mine.toml")[2]
    assert cli("lists", "remove", "mine.toml")[0] == 0
    assert "There is no list mine.toml" in cli("lists", "remove", "mine.toml")[2]


def test_what_is_put_with_a_tag_is_decided_once_and_losses_are_told_before(cli, bench, tmp_path, monkeypatch):
    card, decided, told = fresh(bench), [], []
    real = PutFiles.decide
    monkeypatch.setattr(PutFiles, "decide", lambda step, *words: decided.append(step) or real(step, *words))
    monkeypatch.setattr(PutFiles, "act", lambda *words, real=PutFiles.act: told.append("written") or real(*words))
    monkeypatch.setattr("mosscrate.cli.filing.tell_losses", lambda _seen, steps: told.append(steps))
    (tmp_path / "a.txt").write_text("a")
    assert cli("put", "Pipkin", tmp_path / "a.txt", "-p", "2", "--tag", card.tag)[0] == 0
    assert (len(decided), told) == (1, [tuple(decided), "written"])
    (tmp_path / "large.bin").touch()
    os.truncate(tmp_path / "large.bin", 1 << 32)
    code, _, err = cli("put", "Pipkin", tmp_path / "large.bin", "-p", "2", "--tag", card.tag)
    assert (code, "large.bin" in err, len(told)) == (1, True, 2)                        # refused before it is begun
