"""What the command line says to a person: lines, marks, next steps, and what is said when it cannot be done."""

from __future__ import annotations

import json
import os
import re
import shutil
from pathlib import Path

import pytest

from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.sizes import exact
from mosscrate.core.slots import Medium
from mosscrate.core.slots import medium as medium_module
from mosscrate.core.volumes import edit
from mosscrate.core.volumes.base import Traits
from tests.cards import MIB, handheld, put_card, some_files
from tests.core.maps.test_ahdi import drive as ahdi_drive
from tests.core.maps.test_rdb import drive as rdb_drive
from tests.volumes import fresh


@pytest.fixture
def tag(bench, cards):
    return bench.shelf.find("New card").tag


def pull(monkeypatch, after):
    """From now on the card is pulled after so many writes."""
    original = medium_module.Medium.open_for_guard
    monkeypatch.setattr(medium_module.Medium, "open_for_guard",
                        lambda self: FaultyBlocks(original(self), Faults(pulled_after_writes=after)))


def test_slots_are_listed_one_a_line_with_what_forbids_writing(cli, cards, bench):
    put_card(bench, "locked", MIB, name="Locked", write_protected=True)
    code, out, _ = cli("slots")
    lines = {line.split()[1]: line for line in out.splitlines()}
    assert code == 0
    assert "(write-protected)" in lines["Locked"]
    assert re.match(r"[A-Z0-9]{4}  Worn card +40 MiB  simulated slot", lines["Worn"])


def test_a_card_is_shown_partition_by_partition_with_what_was_noticed(cli, cards):
    _, out, _ = cli("look", "Worn card")
    first, peat, games, *rest = out.splitlines()
    assert re.fullmatch(r"Worn card  \[....\]  41\u202f943\u202f040 bytes, MBR, disk id cafe0001", first)
    assert re.match(r"  1  PEAT +5 MiB at 1 MiB +FAT16 +firmware  active  \S+ \w+ used, .* free, ", peat)
    assert re.match(r"  2  GAMES +34 MiB at 6 MiB +FAT32 ", games)
    assert [line for line in rest if line.startswith("  -  free")] != []


def test_a_drive_of_a_home_computer_is_told_as_its_people_do(cli, bench, tmp_path):
    drive = rdb_drive()
    put_card(bench, "drive", drive.size, drive.data, name="Drive")
    _, out, _ = cli("look", "Drive")
    assert "     DH0, DOS\\3, blocks of 512 B, boot priority 0\n" in out
    told = json.loads(cli("look", "Drive", "--json")[1])
    assert [told["name"], told["tag"]] == ["Drive", bench.shelf.find("Drive").tag]
    assert "Mark System as bootable" in cli("sheet", "flag", "Drive", "active", "-p", 1)[1]
    assert "No longer mark System as bootable" in cli("sheet", "flag", "Drive", "bootable", "-p", 1, "--off")[1]


def test_what_is_rounded_is_told_with_the_bytes(cli, bench):
    put_card(bench, "disk", 200 * MIB, name="Disk")
    cylinder = 16 * 63 * 512
    assert cli("sheet", "map", "Disk", "rdb", "--tag", bench.shelf.find("Disk").tag)[0] == 0
    _, out, _ = cli("sheet", "add", "Disk", "ffs-intl", "--size", "64MiB", "--start", "10MiB", "--tag",
                    bench.shelf.find("Disk").tag)
    start, size = -(-10 * MIB // cylinder) * cylinder, 64 * MIB // cylinder * cylinder
    assert f"{exact(size)}) from 10.3 MiB ({exact(start)}) on" in out
    _, out, _ = cli("sheet", "add", "Disk", "ffs-intl", "--size", "64MiB")
    assert f"(it has {exact(size)}, a multiple of {exact(cylinder)})" in out
    _, out, _ = cli("sheet", "move", "Disk", "-p", 1, "--start", "100MiB")
    assert f"(it starts at {exact(-(-100 * MIB // cylinder) * cylinder)}, a multiple of" in out


@pytest.mark.parametrize(("make", "map", "kind"), [(rdb_drive, "RDB", "FFS"), (ahdi_drive, "AHDI", "GEMDOS")])
def test_a_drive_of_another_family_is_called_sound(cli, bench, make, map, kind):
    drive = make()
    put_card(bench, "drive", drive.size, drive.data, name="Drive")
    _, out, _ = cli("look", "Drive", "--check")
    assert out.splitlines()[0].endswith(f"bytes, {map}")
    assert f" {kind} " in out
    assert "  ✓ partition map: This is a drive of another family of machines; its map is in good order." in out
    assert "offer to format it should be declined" in out


def test_files_are_listed_with_date_and_size_and_one_must_say_of_which_volume(cli, cards):
    _, out, _ = cli("files", "Worn card", "-p", 2)
    listed = {line[31:]: line for line in out.splitlines()}
    assert set(listed) == {path + ("/" if data is None else "") for path, data in some_files(1).items()}
    assert re.match(r"2023-11-14 22:13 {15}roms/", listed["roms/"])
    code, _, err = cli("files", "Worn card")
    assert (code, "--partition: 1 (PEAT), 2 (GAMES)" in err) == (2, True)
    code, _, err = cli("files", "Worn card", "-p", 9)
    assert (code, "There is no partition 9 on this medium; it has 1, 2." in err) == (1, True)


def test_keeping_says_where_how_much_and_that_it_reads_back_and_the_crate_lists_it(cli, cards, bench):
    assert cli("crate")[1].startswith("Nothing is kept yet.")
    code, out, _ = cli("keep", "Worn card")
    assert code == 0
    assert re.search(r"Worn card is kept: .*/\d{4}-\d\d-\d\d \d\d\.\d\d\.\d\d [0-9a-f]{8}\.kept\n", out)
    assert re.search(r"^  41\u202f943\u202f040 bytes \(.* written\) in ", out, re.MULTILINE)
    assert re.search(r"BLAKE3 [0-9a-f]{64}, read back and equal", out)
    code, out, _ = cli("crate", "--check")
    assert code == 0
    assert re.search(r"^....  Worn card\n      \d{4}-\d\d-\d\d \d\d:\d\d +40 MiB  .*\.kept$", out, re.MULTILINE)
    pack = max(bench.crate.root.rglob("*.pack"), key=lambda path: path.stat().st_size)
    with pack.open("r+b") as file:
        file.seek(pack.stat().st_size // 2)
        file.write(b"rot")
    code, _, err = cli("crate", "--check")
    assert (code, "is not what was kept" in err, "can be put back" in err) == (1, True, True)


def test_a_card_that_cannot_be_read_everywhere_is_kept_and_called_incomplete(cli, bench):
    put_card(bench, "bad", 8 * MIB, b"\x5a" * (8 * MIB), name="Bad card", unreadable=[(5 * MIB, 512)])
    code, out, err = cli("keep", "Bad card", "--no-verify")
    assert (code, "not verified" in out) == (1, True)
    assert f"512 bytes at {5 * MIB}" in err
    assert "  incomplete" in cli("crate")[1]


def test_writing_says_what_was_done_and_offers_the_free_room(cli, cards, bench):
    put_card(bench, "large", 200 * MIB, name="Large card")
    code, out, _ = cli("write", "Worn card", "Large card", "--tag", bench.shelf.find("Large card").tag)
    assert code == 0
    assert "Read back and equal" in out
    assert "160 MiB behind GAMES are free. To use them: mosscrate sheet grow “Large card” --partition 2" in out
    code, _, err = cli("write", "Worn card", "New card")
    assert (code, "only written when its tag is typed" in err) == (3, True)
    put_card(bench, "full", 120 * MIB, handheld(120 * MIB).data, name="Full card")
    code, _, err = cli("write", "Full card", "New card", "--tag", bench.shelf.find("New card").tag)
    assert (code, "20 MiB" in err) == (1, True)
    assert not any(bench.shelf.find("New card").open().read(0, MIB))


def test_a_plan_is_said_step_by_step_and_a_rehearsal_writes_nothing(cli, cards, tmp_path, bench):
    sheet = tmp_path / "move.json"
    _, out, _ = cli("sheet", "plan", "Worn card", "New card", "--size", "50MiB", "--out", sheet)
    assert [line.split("  ")[1].strip() for line in out.splitlines() if re.match(r"  \d  ", line)] == ["1", "2", "3",
                                                                                                  "4", "5"]
    assert "Grow GAMES from 34 MiB to 50 MiB; its files stay" in out
    _, shown, _ = cli("sheet", "show", sheet)
    assert "The card looks blank: nothing was found at its ends" in shown
    before = (bench.shelf.simulated_folder / "new.img").read_bytes()
    code, out, _ = cli("sheet", "rehearse", sheet)
    assert (code, "nothing was written" in out) == (0, True)
    assert (bench.shelf.simulated_folder / "new.img").read_bytes() == before
    code, _, err = cli("sheet", "plan", "Worn card", "New card", "--size", "much")
    assert (code, "“much” is not a size" in err) == (2, True)


@pytest.mark.parametrize("way", ["finish", "undo"])
def test_a_card_that_was_pulled_is_finished_or_taken_back_from_a_shell(cli, cards, tag, way, monkeypatch, bench):
    with monkeypatch.context() as patched:
        pull(patched, 12)
        code, _, err = cli("write", "Worn card", "New card", "--tag", tag)
    assert (code, "pulled" in err) == (1, True)
    log = cli("sheet", "log")[1]
    assert re.match(r"\S+  (failed|interrupted|running) +0 of 1 steps  New card", log)
    code, out, err = cli("sheet", way, "--tag", tag)
    assert code == 0, err
    if way == "finish":
        assert "Finished in" in out
        assert bench.shelf.find("New card").open().read(0, 40 * MIB) == bytes(handheld().data)
    else:
        assert not any(bench.shelf.find("New card").open().read(0, 100 * MIB))
    code, _, err = cli("sheet", way, "--tag", tag)
    assert (code, "No job was interrupted" in err) == (1, True)


def test_a_bare_volume_is_made_anew_on_a_larger_disk_and_found_equal(cli, tmp_path, bench):
    for name, size in (("small.img", "home-880"), ("large.img", "home-1760")):
        assert cli("floppy", tmp_path / name, "--size", size)[0] == 0
    (tmp_path / "a song").write_bytes(b"la" * 900)
    small, large = (bench.shelf.find(str(tmp_path / name)) for name in ("small.img", "large.img"))
    assert cli("put", small.path, tmp_path / "a song", "--tag", small.tag)[0] == 0
    sheet = tmp_path / "move.json"
    assert cli("sheet", "plan", small.path, large.path, "--out", sheet)[0] == 0
    _, out, _ = cli("sheet", "run", sheet, "--tag", large.tag)
    assert "is the bare volume on the card now, copied anew as OFS, read back and equal." in out
    assert "1 file on 1 partition is equal by digest." in out


def test_machines_are_listed_with_what_they_take(cli):
    _, out, _ = cli("machines")
    assert re.search(r"^gemdos-late +music machine with GEMDOS of the last generation\n +ahdi; gemdos, fat12, fat16$",
                     out, re.MULTILINE)


def test_structures_are_printed_with_offset_bytes_and_value(cli, bench):
    drive = rdb_drive()
    put_card(bench, "drive", drive.size, drive.data, name="Drive")
    _, out, _ = cli("look", "Drive", "--structures")
    assert re.search(r"^Root block of Work, at byte \d+, its longs sum to zero$", out, re.MULTILINE)
    assert re.search(r"^  0x00c0  dos type +44 4f 53 03 +FFS international$", out, re.MULTILINE)


@pytest.mark.parametrize(("words", "code", "said"), [
    (("look",), 2, "Missing argument"), (("look", "nothing.img"), 1, "There is no card"),
    (("sheet", "run", "nothing.json", "--tag", "ABCD"), 1, "nothing.json"),
    (("get", "Worn card", "no/such", "-p", "2"), 1, "no/such"),
    (("sheet", "flag", "Worn card", "-p", "1", "shiny"), 1, "shiny"),
    (("sheet", "map", "New card", "bsd"), 2, "bsd"), (("floppy", "x.img", "--size", "huge"), 2, "huge"),
    (("image", "x.img", "3 lightyears"), 2, "is not a size")])
def test_what_cannot_be_done_is_one_sentence_and_a_status(cli, cards, words, code, said):
    ended, out, err = cli(*words)
    assert (ended, said in err) == (code, True), err
    assert "Traceback" not in out + err


def test_a_name_that_would_steer_a_terminal_is_shown_as_what_it_is(cli, tmp_path, bench):
    evil = "a\x1b[2Jb\u202egpj\x9b"
    volume = fresh("ext2")
    editor = edit(volume)
    editor.add_file(evil, b"moss", Traits(1_700_000_000))
    editor.commit()
    (tmp_path / "card.img").write_bytes(volume.data)
    for words in (("files", tmp_path / "card.img"), ("files", tmp_path / "card.img", "--json"),
                  ("get", tmp_path / "card.img", evil + "\n", "--to", tmp_path / "out")):
        _, out, err = cli(*words)
        assert not set(out + err) & set("\x1b\x9b\u202e"), words
    assert "a\\x1b[2Jb\\u202egpj\\x9b" in cli("files", tmp_path / "card.img")[1]
    assert json.loads(cli("files", tmp_path / "card.img", "--json")[1])[-1]["path"] == evil


def test_what_is_no_file_is_called_what_it_is_and_made_up_cards_stand_alone(cli, tmp_path, bench, monkeypatch):
    os.mkfifo(tmp_path / "pipe")
    assert "is a pipe, not a card image" in cli("look", tmp_path / "pipe")[2]
    assert "is a device that holds nothing" in cli("look", "/dev/zero")[2]
    real = Medium("Real card", Path("/dev/real"), 512, "reader")
    monkeypatch.setattr("mosscrate.core.slots.sysfs.media", lambda system: [real])
    assert "Real card" not in cli("slots")[1]
    shutil.rmtree(bench.shelf.simulated_folder)
    assert "cannot be read: No such file or directory" in cli("slots")[2]
