"""Every step has its command, read off its fields: what is typed, and the step that comes of it."""

from __future__ import annotations

import subprocess
import sys

import pytest

from mosscrate.cli import arranging, filing
from mosscrate.cli.registry import COMMANDS
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.asking import questions
from tests.cards import MIB

TYPED = (
    ("sheet renew Worn.card New.card --from 1 -p 1 --keep *.cfg", s.RefreshPartition(1, 1, ("*.cfg",))),
    ("sheet bring Worn.card New.card -p 2 --kind exfat --size 40MiB", s.CopyPartition(2, "exfat", 40 * MIB)),
    ("sheet copy Worn.card New.card --from 2 -p 1 --folder /a/ --path roms --existing keep",
     s.CopyFiles(2, 1, "a", "roms", s.Existing.KEEP_BOTH)),
    ("sheet code Worn.card New.card --type 0x50465303", s.BringCode("0x50465303")),
    ("sheet remove-code New.card 0x50465303", s.RemoveCode("0x50465303")),
    ("sheet empty New.card", s.EmptyCard()), ("sheet swap New.card", s.SwapBytes()),
    ("sheet map New.card rdb --heads 4 --sectors 0x20", s.NewMap("rdb", 4, 32)),
    ("sheet tune New.card -p 1 --name DH1 --boot-priority -5 --mask 0x7ffffffe --buffers 30",
     s.TunePartition(1, "DH1", -5, 0x7FFFFFFE, None, 30)),
    ("sheet add New.card fat --size 4MiB --start 1MiB --label PEAT --logical --block 4KiB --align 63KiB",
     s.AddPartition("fat", 4 * MIB, MIB, "PEAT", is_logical=True, block=4096, alignment=64512)),
    ("sheet add New.card none", s.AddPartition("")),
    ("sheet remove New.card -p 1", s.RemovePartition(1)),
    ("sheet grow New.card -p 1", s.GrowPartition(1)),
    ("sheet grow New.card -p 2 --size 6GiB", s.GrowPartition(2, 6 << 30)),
    ("sheet shrink New.card -p 1 --size 6MiB", s.ShrinkPartition(1, 6 * MIB)),
    ("sheet move New.card -p 1 --start 4MiB", s.MovePartition(1, 4 * MIB)),
    ("sheet label New.card MOSS -p 1", s.LabelPartition(1, "MOSS")),
    ("sheet flag New.card active -p 1", s.FlagPartition(1, "active")),
    ("sheet flag New.card active -p 1 --off", s.FlagPartition(1, "active", is_set=False)),
    ("sheet type New.card 0x0c -p 1", s.TypePartition(1, "0x0c")),
    ("sheet format New.card exfat -p 1 --label A --block 32KiB", s.FormatPartition(1, "exfat", "A", 32768)),
    ("sheet rebuild New.card -p 1 --kind ext4 --block 4096", s.RebuildPartition(1, "ext4", 4096)),
    ("sheet drives New.card", s.FillWithDrives(2 << 30, 8 * 10**9, "fat16", "DRIVE")),
    ("sheet drives New.card --each 1GiB --until 4GB --kind fat12 --label D", s.FillWithDrives(
        1 << 30, 4 * 10**9, "fat12", "D")),
    ("sheet replay New.card -p 1", s.ReplayJournal(1)), ("sheet bitmap New.card -p 1", s.RebuildBitmap(1)),
    ("sheet mend New.card", s.MendMap()),
    ("put Worn.card {here} -p 2 --to /saves/ --existing replace --name x.sav", s.PutFiles(
        2, ("{here}",), "saves", s.Existing.REPLACE, "x.sav")),
    ("rename Worn.card roms/a b -p 2", s.RenameFile(2, "roms/a", "roms/b")),
    ("sheet copy Worn.card New.card --from 2 -p 1 --only roms/a --only b", s.CopyFiles(
        2, 1, only=("roms/a", "b"))),
    ("copy Worn.card roms/a b -p 2", s.CopyFiles(2, 2, only=("roms/a",), places=("roms/b",))),
    ("copy Worn.card roms/a saves/b -p 2 --existing replace", s.CopyFiles(
        2, 2, existing=s.Existing.REPLACE, only=("roms/a",), places=("saves/b",))),
    ("regroup Worn.card roms/a roms/b --place x/a --place x/b -p 2", s.RegroupFiles(
        2, ("roms/a", "roms/b"), ("x/a", "x/b"))),
    ("rename Worn.card roms/a saves/b -p 2", s.RenameFile(2, "roms/a", "saves/b")),
    ("remove Worn.card a /b/ -p 2", s.RemoveFiles(2, ("a", "b"))),
    ("folder Worn.card new/ -p 2", s.MakeFolder(2, "new")),
    ("folders Worn.card new/ a/b -p 2", s.MakeFolders(2, ("new", "a/b"))),
    ("traits Worn.card a -p 2 --comment hello --protection ----rwed --date 2020-01-02", s.SetTraits(
        2, "a", "hello", "----rwed", 1577923200)),
)


class Typed(Exception):
    """The step that came of it."""


@pytest.mark.parametrize(("line", "wanted"), TYPED, ids=lambda v: v if isinstance(v, str) else "")
def test_what_is_typed_becomes_a_step(cli, cards, monkeypatch, tmp_path, line, wanted):
    here = tmp_path / "here"
    here.write_bytes(b"x")
    monkeypatch.setattr(arranging, "plan_steps", lambda bench, medium, steps, *_words, **_how: typed.append(steps[-1]))
    monkeypatch.setattr(filing, "foreseen", lambda bench, made: typed.append(made.steps[-1]) or 1 / 0)
    monkeypatch.setattr(filing, "run_sheet", lambda bench, made, *_words, **_how: typed.append(made.steps[-1]))
    monkeypatch.setattr(filing, "ask_for_tag", lambda *_words, **_how: "")
    typed = []
    cli(*(word.replace(".card", " card").replace("{here}", str(here)) for word in line.split()))
    if isinstance(wanted, s.PutFiles):
        wanted = s.PutFiles(2, (str(here),), wanted.folder, wanted.existing, wanted.name)
    assert typed == [wanted]


def test_no_command_is_left_untried_and_every_question_says_what_it_asks():
    tried = {type(step) for _, step in TYPED}
    assert {step for step in s.ALL if step.command} == tried
    assert [(step.__name__, q.name) for step in tried for q in questions(step) if not q.help] == []


def test_help_lines_are_those_of_the_commands_and_need_none_of_them():
    from mosscrate.cli.app import root
    for entry in COMMANDS:
        command = root.get_command(None, entry.name)
        assert " ".join(command.help.split()).startswith(entry.help), entry.name
    script = ("import sys; sys.argv = ['mosscrate', '--help']\nfrom mosscrate.cli import main\n"
              "try: main()\nexcept SystemExit: pass\nassert not {'numpy', 'msgspec', 'blake3'} & set(sys.modules)")
    assert subprocess.run([sys.executable, "-c", script], stdout=subprocess.DEVNULL, check=False).returncode == 0


@pytest.mark.parametrize("line", ["sheet tune New.card -p 1 --mask high", "sheet grow New.card -p 1 --size big",
                                  "sheet grow New.card", "sheet map New.card apple"])
def test_what_cannot_be_read_is_wrong_usage(cli, cards, line):
    code, _, err = cli(*(word.replace(".card", " card") for word in line.split()))
    assert code == 2
    assert err


def test_a_sheet_takes_the_place_of_another_sheet_and_of_nothing_else(cli, cards, tmp_path):
    sheet, image, link = tmp_path / "sheet.json", tmp_path / "card.img", tmp_path / "link.json"
    image.write_bytes(b"contents" * 1000)
    link.symlink_to(image)
    for kind in ("mbr", "gpt"):
        assert cli("sheet", "map", "new", kind, "--out", sheet)[0] == 0
    for path in (image, link, tmp_path / "no folder" / "sheet.json", "/dev/null"):
        code, _, err = cli("sheet", "map", "new", "mbr", "--out", path)
        assert code == 1
        assert "nothing was written" in err or "cannot be saved" in err
    assert image.read_bytes() == b"contents" * 1000
