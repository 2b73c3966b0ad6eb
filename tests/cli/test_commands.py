"""The command line as a script uses it: JSON, exit statuses, the whole move, also onto a loop device."""

from __future__ import annotations

import json
from hashlib import md5

from blake3 import blake3

from tests.cards import MIB, handheld, put_card, some_files
from tests.loops import loop, needs_root


def test_look_has_the_promised_shape(cli, cards):
    code, out, _ = cli("look", "Worn card", "--json")
    seen = json.loads(out)
    assert code == 0
    assert list(seen) == ["name", "tag", "size", "sector", "container", "map", "partitions", "unallocated", "findings"]
    assert seen["map"] == {"kind": "mbr", "id": "cafe0001"}
    first, second = seen["partitions"]
    assert list(first) == ["index", "start", "length", "type", "label", "flags", "role", "volume"]
    assert list(first["volume"]) == ["kind", "label", "id", "block", "size", "used", "free", "clean"]
    assert (first["start"], first["flags"], first["role"]) == (MIB, ["active"], "firmware")
    assert (second["volume"]["kind"], second["volume"]["label"], second["volume"]["clean"]) == ("fat32", "GAMES", True)
    assert second["volume"]["used"] + second["volume"]["free"] == second["volume"]["size"] == 34 * MIB


def test_a_machine_speaks_of_a_card_and_of_a_plan(cli, cards, tmp_path):
    sheet = tmp_path / "move.json"
    assert cli("sheet", "plan", "Worn card", "New card", "--out", sheet)[0] == 0
    assert "pc-dos-early" in json.loads(cli("machines", "--json")[1])
    assert "suits a PC with DOS that knows FAT32" in cli("look", "Worn card", "--machine", "pc-fat32")[1]
    assert "GAMES holds FAT32" in cli("look", "Worn card", "--machine", "pc-dos")[1]
    planned = cli("sheet", "plan", "Worn card", "New card", "--machine", "pc-dos")[1]
    told = json.loads(cli("sheet", "show", sheet, "--machine", "pc-dos-early", "--json")[1])["layout"]["findings"]
    assert "GAMES holds FAT32; a" in planned
    assert [f["severity"] for f in told if f["partition"] == 2] == ["problem", "warning", "warning"]
    code, _, err = cli("look", "Worn card", "--machine", "loom")
    assert (code, "There is no machine “loom”" in err) == (1, True)


def test_files_lists_every_level_with_digests(cli, cards):
    code, out, _ = cli("files", "Worn card", "--partition", 2, "--digest", "--json")
    files, listed = some_files(1), {e["path"]: e for e in json.loads(out)}
    assert code == 0
    assert set(listed) == set(files)
    for path, data in files.items():
        want = (None, None) if data is None else (blake3(data).hexdigest(), md5(data).hexdigest())
        assert (listed[path]["blake3"], listed[path]["md5"]) == want
        assert listed[path]["kind"] == ("folder" if data is None else "file")


def test_get_takes_out_a_folder_and_never_overwrites(cli, cards, tmp_path):
    out = tmp_path / "out"
    out.mkdir()
    assert cli("get", "Worn card", "roms", "-p", 2, "--to", out)[0] == 0
    for path, data in some_files(1).items():
        if path.startswith("roms/") and data is not None:
            assert (out / path).read_bytes() == data
    code, _, err = cli("get", "Worn card", "roms", "-p", 2, "--to", out)
    assert code == 1
    assert "is there already" in err


def test_the_whole_move_from_a_saved_sheet(cli, cards, tmp_path, bench):
    sheet = tmp_path / "move.json"
    tag = next(s["tag"] for s in json.loads(cli("slots", "--json")[1]) if s["name"] == "New card")
    assert cli("sheet", "plan", "Worn card", "New card", "--out", sheet)[0] == 0
    before = (bench.shelf.simulated_folder / "new.img").read_bytes()
    assert cli("sheet", "rehearse", sheet)[0] == 0
    assert (bench.shelf.simulated_folder / "new.img").read_bytes() == before
    code, _, err = cli("sheet", "run", sheet, "--tag", "NOPE", "--json")
    assert (code, "only written when its tag is typed" in json.loads(err)["error"]) == (3, True)
    assert cli("sheet", "run", sheet, "--tag", tag)[0] == 0
    seen = json.loads(cli("look", "New card", "--check", "--json")[1])
    last = seen["partitions"][-1]
    assert (last["start"] + last["length"], seen["unallocated"][1:], seen["findings"]) == (100 * MIB, [], [])
    listings = [json.loads(cli("files", card, "-p", 2, "--digest", "--json")[1]) for card in ("Worn card", "New card")]
    assert listings[0] == listings[1]
    log = json.loads(cli("sheet", "log", "--json")[1])
    assert [(j["status"], len(j["done"])) for j in log] == [("done", 5)]
    assert cli("sheet", "undo", log[0]["id"], "--tag", tag)[0] == 0
    assert (bench.shelf.simulated_folder / "new.img").read_bytes() == before


def test_a_partition_is_kept_as_a_bare_volume(cli, cards, tmp_path, bench):
    image = tmp_path / "games.img"
    assert cli("keep", "Worn card", "-p", 2)[0] == 2
    code, out, _ = cli("keep", "Worn card", "-p", 2, "--to", image, "--json")
    assert (code, json.loads(out)["verified"]) == (0, True)
    card = json.loads(cli("look", "Worn card", "--json")[1])["partitions"][1]
    whole = (bench.shelf.simulated_folder / "old.img").read_bytes()
    assert image.read_bytes() == whole[card["start"]:card["start"] + card["length"]]
    seen = json.loads(cli("look", image, "--json")[1])
    assert (seen["map"]["kind"], seen["partitions"][0]["volume"]["label"]) == ("none", "GAMES")
    assert "no partition 7" in cli("keep", "Worn card", "-p", 7, "--to", tmp_path / "x.img")[2]
    assert not (tmp_path / "x.img").exists()


def test_a_move_swaps_the_bytes_on_the_way_and_is_verified(cli, cards, tmp_path, bench):
    place = tmp_path / "s.json"
    assert cli("sheet", "plan", "Worn card", "New card", "--swap", "--out", place)[0] == 0
    tag = bench.shelf.find("New card").tag
    code, out, err = cli("sheet", "run", place, "--tag", tag)
    assert code == 0, err
    assert "equal by digest" in out
    seen = json.loads(cli("look", "New card", "--json")[1])
    assert (seen["container"], seen["map"]["id"]) == ("swapped", "cafe0001")


def test_a_move_for_a_machine_of_another_family_is_planned_as_it_needs_it(cli, cards):
    code, out, _ = cli("sheet", "plan", "Worn card", "New card", "--machine", "gemdos-late")
    assert code == 0
    assert "Put an empty AHDI map on New card" in out
    assert "does not know the source’s map" in out
    assert "Write 2 partitions" in cli("sheet", "plan", "Worn card", "New card", "--machine", "handheld-linux")[1]


def test_a_drive_for_a_home_computer_is_laid_out_tuned_and_filled(cli, cards, tmp_path, bench):
    run = ("--tag", bench.shelf.find("New card").tag)
    assert cli("sheet", "map", "New card", "rdb", "--machine", "rdb-32bit", *run)[0] == 0
    assert cli("sheet", "add", "New card", "ffs-long", "--size", "20MiB", "--label", "Work", *run)[0] == 0
    assert cli("sheet", "tune", "New card", "-p", 1, "--name", "WORK", "--boot-priority", 5, "--mask", "0x1fffffff",
               *run)[0] == 0
    assert cli("sheet", "flag", "New card", "active", "-p", 1, *run)[0] == 0
    (tmp_path / "Ein langer Name für ein Lied, Übung 3.mod").write_bytes(b"la" * 900)
    assert cli("put", "New card", tmp_path / "Ein langer Name für ein Lied, Übung 3.mod", "-p", 1, *run)[0] == 0
    seen = json.loads(cli("look", "New card", "--json", "--structures", "--check")[1])
    (part,) = seen["partitions"]
    assert (part["label"], part["flags"], part["volume"]["kind"], part["volume"]["variant"]) == (
        "WORK", ["active"], "ffs", "ffs-long")
    assert part["environment"] == {"boot_priority": 5, "mask": 0x1FFFFFFF, "max_transfer": 0x1FE00, "buffers": 30,
                                   "block": 512, "sector": 512}
    fields = {f["name"]: f["value"] for s in seen["structures"] if s["title"] == "PART, WORK" for f in s["fields"]}
    assert (fields["boot pri"], fields["dos type"]) == ("5", "FFS with long names")
    _, out, _ = cli("sheet", "names", "New card", "-p", 1, "--kind", "ffs", "--json")
    assert json.loads(out)["names"] == [{"path": "Ein langer Name für ein Lied, Übung 3.mod",
                                         "name": "Ein langer Name für ein Li.mod"}]
    assert cli("sheet", "code", "Worn card", "New card", *run)[0] == 1
    assert cli("sheet", "tune", "New card", "-p", 1, "--mask", "many", *run)[0] == 2


def test_a_bare_volume_and_another_map_are_one_command_each(cli, cards, tmp_path, bench):
    run = ("--tag", bench.shelf.find("New card").tag)
    code, _, err = cli("sheet", "under", "Worn card", "New card", "ahdi", *run)
    assert code == 0, err
    assert [p["volume"]["variant"] for p in json.loads(cli("look", "New card", "--json")[1])["partitions"]] == [
        "gemdos"] * 2
    code, _, err = cli("sheet", "bring", "Worn card", "New card", "-p", 1, "--under", "none", *run)
    assert code == 0, err
    seen = json.loads(cli("look", "New card", "--json")[1])
    assert (seen["map"]["kind"], seen["partitions"][0]["index"], seen["partitions"][0]["volume"]["label"]) == (
        "none", 0, "PEAT")
    disk = tmp_path / "disk.adf"
    assert cli("floppy", disk, "--size", "home-880", "--kind", "ffs", "--label", "Disk")[0] == 0
    assert json.loads(cli("look", disk, "--json")[1])["partitions"][0]["volume"]["label"] == "Disk"
    assert cli("floppy", disk, "--json")[0] == 1
    assert cli("image", tmp_path / "blank.img", "64MB")[0] == 0
    assert json.loads(cli("look", tmp_path / "blank.img", "--json")[1])["size"] == 64_000_000
    code, _, err = cli("convert", "Worn card", tmp_path / "drive.img", "--under", "rdb", "--swap", "--json")
    assert code == 0, err
    seen = json.loads(cli("look", tmp_path / "drive.img", "--json", "--check")[1])
    assert (seen["container"], [p["volume"]["label"] for p in seen["partitions"]]) == ("swapped", ["PEAT", "GAMES"])
    assert cli("convert", "Worn card", tmp_path / "x.img", "--size", "1GB")[0] == 2


def test_write_refuses_what_does_not_fit_with_the_numbers(cli, cards, bench):
    tag = bench.shelf.find("Worn card").tag
    code, _, err = cli("write", "New card", "Worn card", "--tag", tag)
    assert code == 0 or "too few" in err          # a blank image may be cut: only zeros are lost
    put_card(bench, "full", 120 * MIB, handheld(120 * MIB).data, name="Full card")
    code, out, err = cli("write", "Full card", "New card", "--tag", bench.shelf.find("New card").tag)
    assert (code, out) == (1, "")
    assert "125 829 120 bytes" in err.replace("\u202f", " ")


def test_a_card_with_bad_sectors_is_kept_incomplete_and_says_where(cli, bench):
    put_card(bench, "worn", 8 * MIB, b"\x55" * (8 * MIB), name="Bad card", unreadable=[(3 * MIB, 1024)])
    code, out, err = cli("keep", "Bad card", "--json")
    kept = json.loads(out)
    assert code == 1
    assert (kept["complete"], kept["unreadable"]) == (False, [{"start": 3 * MIB, "length": 1024}])
    assert "1024 bytes at 3145728" in json.loads(err)["error"]
    assert json.loads(cli("crate", "--json")[1])[0]["backups"][0]["complete"] is False


def test_bad_input_is_one_clear_sentence(cli, cards, tmp_path):
    packed = tmp_path / "card.img.xz"
    packed.write_bytes(b"\xfd7zXZ\0" + bytes(100))
    for words, code, said in ((("look", "nowhere"), 1, "no card, drive or file called “nowhere”"),
                              (("look", packed), 1, "is damaged"),
                              (("files", "Worn card"), 2, "Say which partition with --partition: 1 (PEAT), 2 (GAMES)"),
                              (("files", "Worn card", "-p", "9"), 1, "no partition 9"),
                              (("sheet", "grow", "Worn card", "-p", "2", "--size", "much"), 2, "is not a size"),
                              (("sheet", "grow", "Worn card", "-p", "1"), 1, "cannot grow"),
                              (("frobnicate",), 2, "No such command")):
        found, out, err = cli(*words)
        assert (found, out) == (code, ""), words
        assert said in err


@needs_root
def test_the_move_onto_a_real_block_device(cli, cards, tmp_path):
    backing, sheet = tmp_path / "backing.img", tmp_path / "move.json"
    with backing.open("wb") as file:
        file.truncate(90 * MIB)
    with loop(backing) as device:
        assert str(device) not in cli("slots", "--json")[1], "beside made-up cards no real ones are shown"
        tag = bench_tag(cli, device)
        code, _, err = cli("write", "Worn card", backing, "--tag", bench_tag(cli, backing))
        assert (code, "loop device" in err) == (3, True)
        assert cli("sheet", "plan", "Worn card", device, "--out", sheet)[0] == 0
        assert cli("sheet", "rehearse", sheet)[0] == 0
        assert cli("sheet", "run", sheet, "--tag", tag)[0] == 0
        listings = [json.loads(cli("files", m, "-p", 2, "--digest", "--json")[1]) for m in ("Worn card", device)]
        assert listings[0] == listings[1]
        last = json.loads(cli("look", device, "--json")[1])["partitions"][-1]
        assert last["start"] + last["length"] == 90 * MIB


def bench_tag(cli, medium) -> str:
    """The tag that a medium shows."""
    return cli("look", medium)[1].partition("[")[2][:4]
