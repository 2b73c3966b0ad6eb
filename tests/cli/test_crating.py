"""`crate` in a shell: what is kept is listed, looked through, followed through time, compared and checked."""

from __future__ import annotations

import json
import shutil

import pytest

from mosscrate.core.blocks import Window, open_blocks
from mosscrate.core.contents.survey import open_partition, survey
from mosscrate.core.crate.library import contents_of, files_in, find
from mosscrate.core.crate.unkept import Unkept, unkept_on
from mosscrate.core.images.kept import packs_of
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Which
from mosscrate.core.sheet.steps import KeepCard, WriteImage
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card


def save(bench, stem: str, contents: bytes, path: str = "hill run.srm") -> None:
    """Put a save onto a simulated card, over what was there."""
    with open_blocks(bench.shelf.simulated_folder / f"{stem}.img", writable=True) as card:
        editor = edit(Window(card, 6 * MIB, 34 * MIB))
        if editor.has(path):
            editor.remove(path)
        editor.add_file(path, contents)
        editor.commit()


@pytest.fixture
def kept(cli, bench):
    """Two cards, one kept three times while a save went on, the other once with one of its versions."""
    put_card(bench, "one", 40 * MIB, handheld(seed=1).data, name="Pipkin")
    put_card(bench, "two", 40 * MIB, handheld(seed=2).data, name="Spare")
    for stem, name, contents in (("one", "Pipkin", b"first" * 900), ("one", "Pipkin", b"second" * 900),
                                 ("two", "Spare", b"first" * 900), ("one", "Pipkin", b"third" * 900)):
        save(bench, stem, contents)
        assert cli("keep", name)[0] == 0
    return bench


def test_backups_are_said_by_card_day_file_or_digits(cli, kept):
    lanes = {lane["card"]: lane["backups"] for lane in json.loads(cli("crate", "list", "--json")[1])}
    assert {card: len(backups) for card, backups in lanes.items()} == {"Pipkin": 3, "Spare": 1}
    newest = lanes["Pipkin"][-1]
    for text in ("pipkin", newest["image"], newest["id"], newest["image"][-13:-5], f"Pipkin@{newest['kept_at'][:10]}"):
        assert json.loads(cli("crate", "show", text, "--json")[1])["image"] == newest["image"], text
    code, _, err = cli("crate", "show", "nobody")
    assert (code, "There is no backup “nobody”" in err) == (1, True)
    assert "read back when it was kept" in cli("crate", "show", "Spare")[1]


def test_files_of_all_backups_are_found_and_a_save_is_followed_through_time(cli, kept):
    found = json.loads(cli("crate", "find", "hill run", "--json")[1])
    assert [(f["card"], f["kind"]) for f in found] == [("Pipkin", "save"), ("Spare", "save"), ("Pipkin", "save"),
                                                        ("Pipkin", "save")]
    life = json.loads(cli("crate", "saves", "Hill Run", "--json")[1])
    assert [(v["size"], v["backups"], v["card"]) for v in life] == [
        (4500, 2, "Spare"), (5400, 1, "Pipkin"), (4500, 1, "Pipkin")]
    assert "hill run" in cli("crate", "saves")[1]
    names = [f["path"] for f in json.loads(cli("crate", "files", "Spare", "--saves", "--json")[1])]
    assert "hill run.srm" in names
    assert "No save called nothing is kept" in cli("crate", "saves", "nothing")[1]


def test_an_older_version_is_taken_out_of_its_backup(cli, kept, tmp_path):
    oldest = json.loads(cli("crate", "list", "--json")[1])
    image = next(lane for lane in oldest if lane["card"] == "Pipkin")["backups"][0]["image"]
    assert cli("get", image, "-p", "2", "hill run.srm", "--to", str(tmp_path / "old"))[0] == 0
    assert (tmp_path / "old").read_bytes() == b"first" * 900


def test_an_older_version_comes_back_and_the_present_one_stays_under_a_dated_name(cli, kept, bench):
    lanes = {lane["card"]: lane["backups"] for lane in json.loads(cli("crate", "list", "--json")[1])}
    oldest, tag = lanes["Pipkin"][0], bench.shelf.find("Pipkin").tag
    assert cli("crate", "bring", oldest["id"], "hill run.srm", "Pipkin")[0] == 3
    code, out, _ = cli("crate", "bring", oldest["id"], "Hill Run.srm", "Pipkin", "--tag", tag)
    assert (code, "is on Pipkin" in out) == (0, True)
    with bench.shelf.find("Pipkin").open() as card:
        volume = open_partition(card, 2)
        saves = {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.path.startswith("hill run")}
    assert saves.pop("hill run.srm") == b"first" * 900
    assert list(saves.values()) == [b"third" * 900]
    assert "There is no “nothing”" in cli("crate", "bring", oldest["id"], "nothing", "Pipkin", "--tag", tag)[2]


def test_what_changed_between_two_is_told_and_so_is_damage(cli, kept):
    lanes = json.loads(cli("crate", "list", "--json")[1])
    first, *_, last = next(lane for lane in lanes if lane["card"] == "Pipkin")["backups"]
    changes = json.loads(cli("crate", "compare", first["id"], last["id"], "--json")[1])
    assert [(c["partition"], c["changed"], c["different"]) for c in changes] == [
        ("PEAT", False, []), ("GAMES", True, ["hill run.srm"])]
    assert "Everything that is kept can be read" in cli("crate", "check")[1]
    assert "1 save changed" in cli("crate", "compare", first["id"], last["id"])[1]
    packs = sorted(kept.crate.root.rglob("*.pack"), key=lambda path: path.stat().st_mtime)
    data = bytearray(packs[-1].read_bytes())
    data[len(data) // 3] ^= 1
    packs[-1].write_bytes(data)
    code, _, err = cli("crate", "check")
    assert (code, "of Pipkin of 20" in err or "is damaged in" in err) == (1, True)


def test_what_is_damaged_is_fetched_from_the_card_as_far_as_it_still_holds_it(cli, kept, bench):
    assert "Nothing of it is damaged" in cli("crate", "mend", "Spare", "Spare")[1]
    newest = bench.crate.find("Pipkin")
    wanted = {f.path: f.contents for f in files_in(newest)}
    for pack in kept.crate.root.rglob("*.pack"):
        rot(pack, every=40)
    packs_of.cache_clear()
    code, out, _ = cli("crate", "mend", "Pipkin", "Pipkin", "--json")
    said = json.loads(out)
    assert (code, said["damaged"] > 3, said["left"]) == (0, True, 0)
    assert "it is whole again" in said["sentence"]
    bench.crate.check(newest, Watch())
    with newest.open() as blocks:
        volume = open_partition(blocks, 2)
        assert {e.path: contents_of(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}.items() \
            <= wanted.items()
    oldest = next(b for lane in bench.crate.lanes() for b in lane.backups if b.record.card.name == "Pipkin")
    code, out, _ = cli("crate", "mend", oldest.path.stem[-8:], "Pipkin")
    assert (code, "holds something else now" in out) == (1, True)


def test_a_backup_goes_to_another_crate_in_one_file(cli, kept, bench, tmp_path, monkeypatch):
    oldest = next(b for lane in bench.crate.lanes() for b in lane.backups if b.record.card.name == "Pipkin")
    assert cli("crate", "export", oldest.path.stem[-8:], str(tmp_path / "pipkin.drive"))[0] == 0
    contents = {f.path: f.contents for f in files_in(oldest)}
    shutil.rmtree(bench.crate.root)
    code, out, _ = cli("crate", "import", str(tmp_path / "pipkin.drive"), "--json")
    assert (code, json.loads(out)["card"]) == (0, "Pipkin")
    back = bench.crate.find("Pipkin")
    assert (back.kept_at, back.record.card) == (oldest.kept_at, oldest.record.card)
    assert {f.path: f.contents for f in files_in(back)} == contents
    code, _, err = cli("crate", "import", str(tmp_path / "nothing.drive"))
    assert (code != 0, bool(err)) == (True, True)


def test_forgetting_says_first_what_would_be_lost(cli, kept, bench):
    backups = next(lane.backups for lane in bench.crate.lanes() if lane.card.name == "Pipkin")
    code, out, _ = cli("crate", "forget", backups[1].path.stem[-8:])
    assert (code, "1 save among them, is in no other backup: hill run.srm" in out) == (0, True)
    assert "say --sure" in out
    assert len(bench.crate.lanes()[0].backups) == 3
    code, out, _ = cli("crate", "forget", backups[1].path.stem[-8:], "--sure", "--json")
    assert (code, json.loads(out)["forgotten"]) == (0, True)
    assert len(next(lane.backups for lane in bench.crate.lanes() if lane.card.name == "Pipkin")) == 2
    assert "No room came free" in cli("crate", "reclaim")[1]
    assert bench.crate.check_all(Watch()) == []


def test_what_a_job_needs_to_be_taken_back_is_not_forgotten(cli, kept, bench):
    put_card(bench, "fresh", 40 * MIB, handheld(seed=9).data, name="Fresh card")
    tag = bench.shelf.find("Fresh card").tag
    steps = (KeepCard(Which.TARGET), WriteImage(verify=True))
    sheet = JobSheet(steps, reference(bench.shelf.find("Pipkin")), reference(bench.shelf.find("Fresh card")))
    run(sheet, bench, Watch(), typed_tag=tag)
    code, _, err = cli("crate", "forget", "Fresh card", "--sure")
    assert (code, "can only be taken back with this backup" in err) == (3, True)


def rot(path, *, every: int) -> None:
    """Bytes behind the head change, so many apart."""
    data = bytearray(path.read_bytes())
    for at in range(200, len(data) - 200, every):
        data[at] ^= 1
    path.write_bytes(data)


def test_which_files_are_in_no_backup_is_told_by_contents(kept, bench):
    """Also where only the name, or only the card, is another; nothing with equal contents is called new."""
    def new_on(name: str) -> Unkept:
        medium = bench.shelf.find(name)
        with medium.open() as card:
            latest = next(reversed(bench.crate.backups_of(medium.key)), None)
            return unkept_on(card, survey(card), latest, bench.crate)

    assert new_on("Pipkin") == Unkept()
    save(bench, "one", b"fourth" * 900, "new folder.srm")
    assert [e.path for e in new_on("Pipkin").saves] == ["new folder.srm"]
    known = next(f for f in find(bench.crate, "") if f.kind == "save" and f.size)
    save(bench, "one", read_back(known), "other name.srm")
    found = new_on("Pipkin")
    assert ([e.path for e in found.saves], found.elsewhere, found.count) == (["new folder.srm"], 1, "1 save")
    assert contents_of([b"a" * 700_000, b"a" * 700_000]) == contents_of([b"a" * 1_400_000])
    assert contents_of([]) == b""


def read_back(file) -> bytes:
    with file.backup.open() as image:
        volume = open_partition(image, file.partition)
        return b"".join(volume.read_file(next(e for e in volume.tree().entries if e.path == file.path)))


def test_backups_are_thinned_out_by_age_named_and_noted(cli, kept, bench):
    """Shown first; what has a note stays, and everything that is left can be read."""
    backups = bench.crate.backups_of(bench.shelf.find("Pipkin").key)
    assert cli("crate", "note", backups[1].id, "the one with the good run")[0] == 0
    assert "called Blue one now" in cli("crate", "name", "Pipkin", "Blue one")[1]
    cli("crate", "note", "Blue one", "bought in spring", "--card")
    assert "Blue one  “bought in spring”" in cli("crate", "list")[1]
    assert "“the one with the good run”" in cli("crate", "list")[1]
    assert "Nothing is beyond" in cli("crate", "thin", "--all-days", "0", "--months", "0")[1]
    cli("crate", "note", backups[1].id, "")
    shown = cli("crate", "thin", "Blue one", "--all-days", "0", "--months", "0")[1]
    assert "1 backup would go" in shown
    assert "1 file, 1 save among them, is in no other backup: hill run.srm" in shown
    assert len(bench.crate.backups_of(backups[0].record.card.key)) == 3
    assert "1 backup is forgotten" in cli("crate", "thin", "--all-days", "0", "--months", "0", "--sure")[1]
    assert [b.path for b in bench.crate.backups_of(backups[0].record.card.key)] == [backups[0].path, backups[2].path]
    assert bench.crate.check_all(Watch()) == []


def test_a_part_of_a_card_is_kept_and_comes_back(cli, kept, bench, tmp_path):
    """Its saves alone, in a lane of their own; all of them back in one act."""
    stock = tmp_path / "stock.img"
    code, out, _ = cli("keep", "Pipkin", "--only", "saves", "--json")
    assert (code, json.loads(out)["kept"].startswith("saves: ")) == (0, True)
    assert "Pipkin, in part" in cli("crate", "list")[1]
    assert cli("keep", "Pipkin", "--only", "saves", "--to", "x.img")[0] == 2
    assert "There are no pictures on Pipkin" in cli("keep", "Pipkin", "--only", "pictures")[2]
    assert cli("convert", "Pipkin", str(stock))[0] == 0
    assert "There are no files that differ from “stock” on Pipkin" in cli("keep", "Pipkin", "--unlike", str(stock))[2]
    save(bench, "one", b"fourth" * 900)
    told = cli("keep", "Pipkin", "--unlike", str(stock), "--json")[1]
    assert json.loads(told)["kept"] == "all files that differ from “stock”: 1 file"
    tag = bench.shelf.find("Pipkin").tag
    assert cli("crate", "bring", json.loads(out)["id"], ".", "Pipkin", "--tag", tag)[0] == 0
    with bench.shelf.find("Pipkin").open() as card:
        saves = {p: b for p, b in ((e.path, b"".join(open_partition(card, 2).read_file(e)))
                 for e in open_partition(card, 2).tree().entries if e.path.startswith("hill run"))}
    assert (saves.pop("hill run.srm"), list(saves.values())) == (b"third" * 900, [b"fourth" * 900])


def test_a_file_is_taken_out_of_a_backup(cli, kept, tmp_path):
    found = json.loads(cli("crate", "find", "hill run", "--json")[1])[0]
    out = tmp_path / "out"
    out.mkdir()
    code, _, err = cli("crate", "get", found["backup"], found["path"], "-p", str(found["partition"]), "--to", out)
    assert code == 0, err
    assert (out / "hill run.srm").stat().st_size == found["size"]
