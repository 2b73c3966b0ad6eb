"""Where things come from, and what belongs together: archives, other cards, sets, saves, lists, renames on the card."""

from __future__ import annotations

import io
import random
import subprocess
import tarfile
import zipfile
import zlib
from pathlib import Path

import pytest

from benches.archives import write_7z
from mosscrate.core.contents.members import Member
from mosscrate.core.errors import FitError, PlanError
from mosscrate.core.fill import comparing
from mosscrate.core.fill.bringing import Role, bring
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.lists import Lists
from mosscrate.core.fill.placed import Act
from mosscrate.core.fill.plans import parse_plan, shipped
from mosscrate.core.fill.sets import sets_of
from mosscrate.core.fill.tree_home import FolderHome
from mosscrate.core.images.packing import seven_zip_rar
from mosscrate.core.sheet.planning.choosing import Choice
from mosscrate.core.sheet.planning.filling import Sources, fill, fill_tree, lay_over
from mosscrate.core.sheet.running.pouring import pour
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import KeepCard
from mosscrate.core.volumes import facts_of
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.fill.samples import SAMPLES, gb
from tests.fill.test_filling import fresh, library, on

__all__ = ["library"]
PLAN = shipped()["short-codes-saves-beside"]


def filled(card, bench, sources: Sources, plan=PLAN, **answers: str):
    """Sort and run; what was sorted."""
    found = fill(card, sources, plan, Watch(), partition=2, answers=answers)
    assert found.sheet is not None
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    return found


def disc(rnd: random.Random) -> bytes:
    """The first sectors of a disc of the 32-bit console, 2,352 bytes each."""
    return SAMPLES["psx"][1](rnd)


def make(folder: Path, files: dict[str, bytes]) -> Path:
    for path, data in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)
    return folder


def zip_of(files: dict[str, bytes]) -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as packed:
        for name, data in files.items():
            packed.writestr(name, data)
    return held.getvalue()


def zipped(path: Path, files: dict[str, bytes]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(zip_of(files))


def packed_as(kind: str, folder: Path, path: Path) -> Path:
    """All files of a folder in an archive of a kind."""
    files = sorted(each for each in folder.rglob("*") if each.is_file())
    named = {str(each.relative_to(folder)): each.read_bytes() for each in files}
    if kind == "7z":
        write_7z(path, named)
    elif kind == "zip":
        path.write_bytes(zip_of(named))
    else:
        with tarfile.open(path, "w:gz") as packed:
            packed.add(folder, "pack")
    return path


def test_archives_with_several_games_are_gone_through_and_7z_with_one_is_unpacked(tmp_path, bench):
    rnd = random.Random(1)
    games = {f"Hill {k}.gb": gb(rnd) for k in range(3)}
    with zipfile.ZipFile(tmp_path / "three.zip", "w") as packed:
        for name, data in games.items():
            packed.writestr(f"some folder/{name}", data)
        packed.writestr("some folder/Hill 0.sav", rnd.randbytes(32768))
        packed.writestr("__MACOSX/._Hill 0.gb", b"litter")
    alone = SAMPLES["gba"][1](rnd)
    write_7z(tmp_path / "Tide.7z", {"Tide.gba": alone, "read me.txt": b"made up"}, "lzma2")
    card = fresh(bench)
    found = filled(card, bench, Sources([tmp_path / "three.zip", tmp_path / "Tide.7z"]))
    there = on(card)
    assert {f"gb/{name}" for name in games} | {"gb/Hill 0.sav", "gba/Tide.gba"} <= set(there)
    assert all(there[f"gb/{name}"] == data for name, data in games.items())
    assert there["gba/Tide.gba"] == alone
    assert [p.file.path.name for p in found.sorted.placed if p.act == Act.LEAVE] == ["._Hill 0.gb"]


def test_a_7z_in_one_piece_is_unpacked_once_however_many_games_come_from_it(tmp_path, bench, monkeypatch):
    rnd, opened = random.Random(12), list[int]()
    games = {f"some folder/Hill {k:02}.gb": gb(rnd) for k in range(25)}
    write_7z(tmp_path / "many.7z", games, "lzma2")
    real = seven_zip_rar._entries

    def counted(file):
        opened.append(1)
        return real(file)
    monkeypatch.setattr(seven_zip_rar, "_entries", counted)
    card = fresh(bench)
    filled(card, bench, Sources([tmp_path / "many.7z"]))
    there = on(card)
    assert all(there[f"gb/{name.rpartition('/')[2]}"] == data for name, data in games.items())
    assert len(opened) <= 8                               # listed, looked at, compared with the card, copied


@pytest.mark.parametrize("outer", ["zip", "7z", "tar.gz"])
def test_archives_in_archives_are_gone_through(outer, tmp_path, bench):
    games = {name: gb(random.Random(number)) for number, name in enumerate(("Tamo", "Hill Run", "Sable", "Dew"))}
    inside = tmp_path / "inside"
    zipped(inside / "gb" / "Tamo.zip", {"Tamo.gb": games["Tamo"]})
    zipped(inside / "gb" / "two.zip", {"Hill Run.gb": games["Hill Run"], "Hill Run.sav": bytes(range(256)) * 32,
                                       "more/Sable.zip": zip_of({"Sable.gb": games["Sable"]})})
    make(inside, {"gb/torn.zip": b"PK\3\4 no more"})
    write_7z(inside / "gb" / "Dew.7z", {"Dew.gb": games["Dew"], "Moss.gb": games["Dew"][::-1]})
    packed = packed_as(outer, inside, tmp_path / f"pack.{outer}")
    card = fresh(bench)
    found = filled(card, bench, Sources((packed,)))
    there = on(card)
    assert {path.rpartition("/")[2] for path in there} >= {"Hill Run.gb", "Hill Run.sav", "Dew.gb"}
    assert there["gb/Hill Run.gb"] == games["Hill Run"]
    assert there["gb/Dew.gb"] == games["Dew"]
    assert any(each.file.fault and "torn.zip" in each.file.fault for each in found.sorted.placed)
    assert {name for name in ("Tamo", "Sable") if any(f"gb/{name}." in path for path in there)} == {"Tamo", "Sable"}


def test_another_card_and_a_backup_are_brought_in_from(library, bench):
    first = fresh(bench)
    filled(first, bench, Sources([library]))
    run(JobSheet((KeepCard(),), reference(first)), bench, Watch())
    kept = bench.crate.find("Pipkin")
    put_card(bench, "two", 200 * MIB, handheld(200 * MIB, seed=5).data, name="Quillon")
    other, plan = bench.shelf.find("Quillon"), shipped()["long-names-saves-apart"]
    found = fill(other, Sources(card=first), plan, Watch(), partition=2)
    assert {p.file.system for p in found.sorted.coming if p.file.role == "game"} >= {"gb", "gba", "nes", "md"}
    run(found.sheet, bench, Watch(), typed_tag=other.tag)
    there, came = on(other), on(first)
    assert there["roms/gameboy/Hill Run gb.gb"] == came["gb/Hill Run gb.gb"]
    assert there["saves/gameboy/Hill Run gb.srm"] == came["gb/Hill Run gb.sav"]
    again = fill(other, Sources(card=bench.shelf.find(str(kept.path))), plan, Watch(), partition=2)
    assert again.sheet is None
    with pytest.raises(FitError, match="is the card that is filled"):
        fill(other, Sources(card=other), plan, Watch(), partition=2)


def test_sets_stay_together_under_their_names_and_what_a_sheet_lacks_is_told(tmp_path, bench):
    """A disc with two tracks, one of two discs in a list, a sheet with a path of another computer."""
    rnd = random.Random(2)
    files = {"psx/Tide.cue": b'FILE "tracks\\Tide 1.bin" BINARY\n TRACK 01 MODE2/2352\nFILE "tide 2.BIN" BINARY\n',
             "psx/tracks/Tide 1.bin": disc(rnd), "psx/Tide 2.bin": rnd.randbytes(2352),
             "psx/Long.m3u": b"# made up\nLong 1.cue\nLong 2.cue\n",
             "psx/Long 1.cue": b'FILE "C:\\old\\Long 1.bin" BINARY\n', "psx/Long 1.bin": disc(rnd),
             "psx/Long 2.cue": b'FILE "Long 2.bin" BINARY\nFILE "gone.bin" BINARY\n', "psx/Long 2.bin": disc(rnd)}
    card, top = fresh(bench), make(tmp_path / "discs", files)
    found = filled(card, bench, Sources([top]), shipped()["long-names-saves-apart"])
    there, base = on(card), "roms/playstation"
    assert {path: data for path, data in there.items() if path.startswith(base)} == {
        f"{base}/Tide/{name}": files[f"psx/{name}"] for name in ("Tide.cue", "tracks/Tide 1.bin", "Tide 2.bin")} | {
        f"{base}/Long/{name}": files[f"psx/{name}"] for name in (
            "Long.m3u", "Long 1.cue", "Long 1.bin", "Long 2.cue", "Long 2.bin")}
    assert "“Long 2.cue” names gone.bin, and nothing of that name is beside it." in [
        q.sentence for q in found.sorted.questions]
    assert fill(card, Sources([top]), shipped()["long-names-saves-apart"], Watch(), partition=2).sheet is None
    (top / "psx" / "Tide 2.bin").write_bytes(rnd.randbytes(2352))
    filled(card, bench, Sources([top]), shipped()["long-names-saves-apart"])
    after = on(card)
    assert there.items() <= after.items()
    assert set(after) - set(there) == {f"{base}/Tide (2)/{name}" for name in (
        "Tide (2).cue", "tracks/Tide 1.bin", "Tide 2.bin")}


def test_sheets_that_name_each_other_or_themselves_lose_nothing(tmp_path):
    files = {"psx/a.m3u": b"b.m3u\n", "psx/b.m3u": b"a.m3u\n", "psx/c.cue": b'FILE "c.cue" BINARY\n',
             "psx/d.cue": b'FILE "../../etc/passwd" BINARY\n', "psx/e.cue": bytes(3000),
             "psx/One.cue": b'FILE "Shared.bin" BINARY\n', "psx/Other.cue": b'FILE "Shared.bin" BINARY\n',
             "psx/Shared.bin": b"tracks"}
    brought = bring([make(tmp_path / "odd", files)], Watch())
    together, lacking = sets_of(brought)
    assert len(together) == len(files)
    assert [each.sheet.path.name for each in lacking] == ["d.cue"]
    shared = {each.name: each.lead.rpartition("/")[2] for each in together if each.name[0] in "OS"}
    assert shared == {"One.cue": "", "Other.cue": "One.cue", "Shared.bin": "One.cue"}


def test_of_one_disc_in_two_forms_the_plan_says_which(tmp_path, bench):
    rnd = random.Random(3)
    files = {"psx/Tide.cue": b'FILE "Tide.bin" BINARY\n', "psx/Tide.bin": disc(rnd),
             "psx/Tide.chd": rnd.randbytes(9000)}
    found = fill(fresh(bench), Sources([make(tmp_path / "discs", files)]), shipped()["long-names-saves-apart"], Watch(),
                 partition=2)
    assert {p.file.path.name: p.act for p in found.sorted.placed} == {
        "Tide.cue": Act.COPY, "Tide.bin": Act.COPY, "Tide.chd": Act.LEAVE}


def test_saves_are_judged_by_their_games_and_emptied_ones_never_come_first(tmp_path, bench):
    rnd = random.Random(4)
    top = make(tmp_path / "mine", {
        "GB/Right.gb": gb(rnd, kind=3, ram=3), "GB/Right.sav": rnd.randbytes(32768),
        "GB/Clock.gb": gb(rnd, kind=0x10, ram=3), "GB/Clock.sav": rnd.randbytes(32768 + 44),
        "GB/Padded.gb": gb(rnd, kind=3, ram=2), "GB/Padded.sav": rnd.randbytes(8192) + b"\xff" * 24576,
        "GB/Wrong.gb": gb(rnd, kind=3, ram=2), "GB/Wrong.sav": rnd.randbytes(32768),
        "GB/None.gb": gb(rnd, kind=1, ram=0), "GB/None.sav": rnd.randbytes(8192),
        "GB/The Hill (rev 2).gb": gb(rnd, kind=3, ram=2), "all saves/Hill.sav": rnd.randbytes(8192),
        "GB/Right.state1": b"state"})
    card = fresh(bench)
    found = filled(card, bench, Sources([top]))
    there = on(card)
    assert {path for path in there if path.endswith(".sav") and path.startswith("gb/")} == {
        "gb/Right.sav", "gb/Clock.sav", "gb/Padded.sav", "gb/The Hill (rev 2).sav"}
    said = " ".join(q.sentence for q in found.sorted.questions)
    assert "saves 8192 bytes, not 32768" in said or "saves nothing by its header" in said
    assert "1 save state of GB is left out" in said
    (top / "GB" / "Right.sav").write_bytes(bytes(32768))
    again = [(p.to, p.why) for p in fill(card, Sources([top]), PLAN, Watch(), partition=2).sorted.coming]
    assert again == []
    forced = fill(card, Sources([top]), PLAN, Watch(), partition=2, answers={"save size GB": "bring in all the same"})
    assert {p.to for p in forced.sorted.coming} == {"gb/Wrong.sav", "gb/None.sav"}


def test_what_the_card_has_elsewhere_is_renamed_with_its_save_and_not_copied(tmp_path, bench):
    rnd = random.Random(5)
    game, other = gb(rnd), gb(rnd)
    card = fresh(bench)
    filled(card, bench, Sources([make(tmp_path / "old", {"GB/hillrun.gb": game, "GB/hillrun.sav": b"s" * 32768,
                                                        "GB/stays.gb": other})]))
    new = make(tmp_path / "new", {"GB/Hill Run (World).gb": game, "GB/Weaver.gb": gb(rnd)})
    plan = shipped()["long-names-saves-apart"]
    found = filled(card, bench, Sources([new]), plan)
    there = on(card)
    assert there["roms/gameboy/Hill Run (World).gb"] == game
    assert there["saves/gameboy/Hill Run (World).srm"] == b"s" * 32768
    assert there["gb/stays.gb"] == other
    assert not {"gb/hillrun.gb", "gb/hillrun.sav"} & set(there)
    assert [p.file.path.name for p in found.sorted.coming] == ["Weaver.gb"]
    assert fill(card, Sources([new]), plan, Watch(), partition=2).sheet is None


def test_system_files_and_what_a_plan_reserves_are_never_taken_away_from_where_they_are(tmp_path, bench):
    """The same contents are wanted elsewhere: they are copied, and what the firmware has stays."""
    rnd, card = random.Random(13), fresh(bench)
    boot, game = rnd.randbytes(5000), gb(rnd)
    run(lay_over(card, Sources([make(tmp_path / "old", {"firmware/boot.bin": boot, "kept/demo.gb": game})]), Watch(),
                 partition=2).sheet, bench, Watch(), typed_tag=card.tag)
    plan = parse_plan('name = "m"\nreserved = ["kept/*"]\n[systems]\ngb = {folder = "gb"}\n[[wants]]\n'
                      'file = "boot.bin"\nsystems = ["gb"]\nplaces = ["system"]\n', "m.toml")
    filled(card, bench, Sources([make(tmp_path / "new", {"GB/Hill.gb": game, "bios/boot.bin": boot})]), plan)
    there = on(card)
    assert there["firmware/boot.bin"] == there["system/boot.bin"] == boot
    assert there["kept/demo.gb"] == there["gb/Hill.gb"] == game


def test_what_seems_the_same_is_compared_by_the_job_and_what_differs_comes_beside(tmp_path, bench, monkeypatch):
    """Two dumps of one print that differ in the middle: nobody had the time to compare them when it was planned."""
    rnd = random.Random(6)
    one, two = bytearray(gb(rnd)), gb(rnd)
    top = make(tmp_path / "mine", {"GB/One.gb": bytes(one) + bytes(1 << 17), "GB/Two.gb": two + bytes(1 << 17)})
    card = fresh(bench)
    filled(card, bench, Sources([top]))
    before = on(card)
    one[20_000] ^= 1
    (top / "GB" / "One.gb").write_bytes(bytes(one) + bytes(1 << 17))
    monkeypatch.setattr(OnTheCard.__init__, "__defaults__", (0,))
    found = fill(card, Sources([top]), PLAN, Watch(), partition=2)
    assert {p.act for p in found.sorted.placed} == {Act.SEEMS}
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    after = on(card)
    assert after["gb/One.gb"] == bytes(one) + bytes(1 << 17)
    assert sorted(after.values()) == sorted([*before.values(), bytes(one) + bytes(1 << 17)])


def test_lists_of_checksums_tell_what_has_no_header(tmp_path, bench):
    rnd = random.Random(7)
    cart, packed = rnd.randbytes(4096), rnd.randbytes(2048)
    top = make(tmp_path / "mine", {"strange/dump 1.bin": cart})
    with zipfile.ZipFile(top / "strange" / "dump 2.zip", "w") as archive:
        archive.writestr("whatever.rom", packed)
    xml = make(tmp_path, {"Console of 1977 - Atari 2600.xml": (
        '<?xml version="1.0"?><datafile><header><name>Maker - Atari 2600</name></header>'
        f'<game name="Hill Run"><rom name="Hill Run.a26" size="4096" crc="{zlib.crc32(cart):08X}"/></game>'
        f'<game name="Tide"><rom name="Tide.a26" size="2048" crc="{zlib.crc32(packed):08x}"/></game></datafile>'
    ).encode()}) / "Console of 1977 - Atari 2600.xml"
    assert {b.system for b in bring([top], Watch())} == {""}
    found = bring([top], Watch(), Lists([xml]))
    assert [(b.system, b.title, b.sure) for b in found] == [("a26", "Hill Run", 3), ("a26", "Tide", 3)]
    own = make(tmp_path, {"own.toml": f'system = "a26"\n[[files]]\nname = "Hill.a26"\nsize = 4096\n'
                                      f'crc32 = "{zlib.crc32(cart):08x}"\n'.encode()}) / "own.toml"
    assert bring([top], Watch(), Lists([own]))[0].title == "Hill"
    for name, text, said in (("cut.xml", b"<datafile><game>", "or it is cut"), ("no.xml", b"<html/>", "found no list"),
                             ("bad.toml", b"system = 3", "bad.toml"), ("code.toml", b'system="zz"\nfiles=[]', "zz")):
        make(tmp_path, {name: text})
        with pytest.raises(PlanError, match=said):
            Lists([tmp_path / name])


def test_a_folder_that_takes_no_more_names_is_told_before_anything_is_written(tmp_path, bench, monkeypatch):
    top = make(tmp_path / "many", {f"GB/{'long name ' * 4}{k}.gb": gb(random.Random(k)) for k in range(20)})
    facts = facts_of("fat32")
    monkeypatch.setitem(facts.__dict__, "largest_folder", 32 * 5 * 8)
    card = fresh(bench)
    found = fill(card, Sources([top]), PLAN, Watch(), partition=2)
    assert len(found.sorted.coming) == 8
    assert "12 files of GB are left out: a folder of this file system has no room" in " ".join(
        q.sentence for q in found.sorted.questions)


def test_system_files_win_over_headers_and_sheets(tmp_path, bench):
    """A system file with a game's header goes where it is wanted."""
    data = gb(random.Random(9))
    plan = parse_plan(f'name = "m"\n[systems]\ngb = {{folder = "gb"}}\n[[wants]]\nfile = "boot.bin"\n'
                      f'systems = ["gb"]\nplaces = ["system"]\nsize = {len(data)}\n'
                      f'digests = ["crc32:{zlib.crc32(data):08x}"]\n', "m.toml")
    found = fill(fresh(bench), Sources([make(tmp_path / "x", {"GB/any.gb": data})]), plan, Watch(), partition=2)
    assert [p.to for p in found.sorted.coming] == ["system/boot.bin"]


def test_hostile_archives_keep_to_their_folders_and_lose_nothing(tmp_path, bench):
    """Climbing, absolute and reserved names, two that are one without case, a link, a name of 300 letters, a bomb."""
    rnd, path = random.Random(8), tmp_path / "hostile.zip"
    games = {name: gb(rnd) for name in ("../../etc/Climb.gb", "/abs/Absolute.gb", "x/con.gb", "x/Same.gb", "x/same.gb",
                                        f"x/{'long ' * 60}.gb", "C:\\windows\\Drive.gb", "x/tra\x01iling. .gb")}
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, data in games.items():
            packed.writestr(name, data)
        link = zipfile.ZipInfo("x/link.gb")
        link.external_attr = 0o120777 << 16
        packed.writestr(link, "/etc/passwd")
    card = fresh(bench)
    before = on(card)
    found = filled(card, bench, Sources([path]))
    there = on(card)
    assert before.items() <= there.items()
    assert {path.rpartition("/")[0] for path in set(there) - set(before)} == {"gb"}
    written = [data for path, data in there.items() if path not in before]
    left = [p for p in found.sorted.placed if p.act == Act.LEAVE]
    assert len(written) + len([p for p in left if p.file.path.name != "link.gb"]) == len(games)
    assert set(written) <= {*games.values()}
    assert b"root:" not in b"".join(written)
    with zipfile.ZipFile(tmp_path / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as packed:
        for number in range(3):
            packed.writestr(f"roms/bomb {number}.gb", bytes(150 * MIB))
    assert fill(card, Sources([tmp_path / "bomb.zip"]), PLAN, Watch(), partition=2).sheet is None


def test_two_games_of_one_name_both_come_and_the_same_one_twice_comes_once(tmp_path, bench):
    rnd, card = random.Random(14), fresh(bench)
    one, other = gb(rnd), gb(rnd)
    top = make(tmp_path / "x", {"GB/Hill.gb": one, "more GB/Hill.gb": other, "again GB/Hill.gb": one,
                                "GB/Hill.sav": b"ab" * 16384, "more GB/Hill.sav": b"cd" * 16384})
    found = filled(card, bench, Sources([top]))
    assert "1 file brought in has the name of another one, and other contents: Hill.gb." in [
        q.sentence for q in found.sorted.questions]
    there = on(card)
    assert {there["gb/Hill.gb"], there["gb/Hill (2).gb"]} == {one, other}
    saves = {path: data for path, data in there.items() if path.startswith("gb/Hill") and path.endswith(".sav")}
    assert (set(saves.values()), len(saves)) == ({b"ab" * 16384, b"cd" * 16384}, 2)
    assert fill(card, Sources([top]), PLAN, Watch(), partition=2).sheet is None
    left = fill(fresh(bench), Sources([top]), PLAN, Watch(), partition=2, answers={"met": "leave out"})
    assert sum(p.file.role == "game" for p in left.sorted.coming) == 1


def test_what_comes_meanwhile_into_a_folder_is_not_written_over(tmp_path):
    game, there = gb(random.Random(15)), tmp_path / "filled"
    there.mkdir()
    home, top = FolderHome(there), make(tmp_path / "x", {"GB/Hill.gb": game, "GB/Tide.gb": gb(random.Random(16))})
    with fill_tree(home, Sources([top]), Choice(PLAN), Watch()) as found:
        make(there, {"gb/Hill.gb": game, "gb/Tide.gb": b"came meanwhile"})
        with pytest.raises(FitError, match="meanwhile, with other contents"):
            pour(home, found.sorted, Watch())
    assert (there / "gb" / "Tide.gb").read_bytes() == b"came meanwhile"
    assert len(list((there / "gb").iterdir())) == 2


def test_discs_of_one_name_from_two_folders_archives_and_volumes_stay_apart(tmp_path, bench):
    rnd, plan = random.Random(5), shipped()["long-names-saves-apart"]
    discs = [{"psx/Tide.cue": b'FILE "Tide.bin" BINARY\n', "psx/Tide.bin": disc(rnd)} for _ in range(4)]
    tops = [make(tmp_path / name / "roms", files) for name, files in zip("ab", discs, strict=False)]
    make(tops[0], {path.replace("psx", "psx/Tide"): data for path, data in discs[2].items()})
    with zipfile.ZipFile(tops[0] / "psx" / "Tide.zip", "w") as archive:
        for path, data in discs[3].items():
            archive.writestr(path, data)
    card = fresh(bench)
    found = filled(card, bench, Sources(tops), plan)
    assert "3 files brought in have the name of another one, and other contents: Tide.cue, Tide.cue, Tide.cue." in [
        q.sentence for q in found.sorted.questions]
    there = {path: data for path, data in on(card).items() if path.endswith((".cue", ".bin"))}
    assert sorted(data for path, data in there.items() if path.endswith(".bin")) == sorted(
        files["psx/Tide.bin"] for files in discs)
    assert all(f"{path.rpartition('/')[0]}/Tide.bin" in there for path in there if path.endswith(".cue"))
    assert len(there) == 8
    assert fill(card, Sources(tops), plan, Watch(), partition=2).sheet is None
    left = fill(fresh(bench), Sources(tops), plan, Watch(), partition=2, answers={"met": "leave out"})
    assert len(left.sorted.coming) == 2


def test_large_files_are_only_the_same_when_more_than_their_beginning_is(tmp_path):
    rnd = random.Random(6)
    one = rnd.randbytes(300_000)
    other = one[:200_000] + rnd.randbytes(100_000)
    top = make(tmp_path / "x", {"a/Tide.gb": one, "b/Tide.gb": other, "c/Tide.gb": one})
    first, second, third = bring([top], Watch())
    for budget, same in ((10 * MIB, True), (0, None)):
        card = OnTheCard(lambda *_: b"", lambda _: iter(()), budget)
        assert (card.are_same(first, second), card.are_same(first, third)) == (False, same)


def test_large_files_that_differ_in_their_middle_are_told_and_compared_when_one_says_so(tmp_path, bench, monkeypatch):
    monkeypatch.setattr(comparing.OnTheCard.__init__, "__defaults__", (1 * MIB,))
    one = bytearray(gb(random.Random(8)) + bytes(3 * MIB))
    other = bytearray(one)
    other[2 * MIB + 5000] ^= 1                                                        # at none of the places
    top = make(tmp_path / "x", {"a/Tide.gb": bytes(one), "b/Tide.gb": bytes(other), "c/Tide.gb": bytes(one)})
    card = fresh(bench)
    found = fill(card, Sources((top,)), PLAN, Watch(), partition=2)
    (asked,) = [each for each in found.questions if each.key == "seeming"]
    assert asked.files == 2
    found = filled(card, bench, Sources((top,)), seeming="compare all of them")
    assert not [each for each in found.questions if each.key == "seeming"]
    assert sorted(data == one for path, data in on(card).items() if path.startswith("gb/Tide")) == [False, True]


def test_archives_in_parts_are_gone_through_and_a_missing_part_is_told(tmp_path, bench):
    rnd, top = random.Random(7), tmp_path / "packs"
    top.mkdir()
    games = {kind: {f"{kind}/Hill {kind} {k}.gb": gb(rnd) + rnd.randbytes(90_000) for k in range(3)}
             for kind in ("seven", "joined", "split", "lost")}
    for kind in ("seven", "lost"):
        write_7z(tmp_path / f"{kind}.7z", games[kind], "lzma2")
    for kind in ("joined", "split"):
        with zipfile.ZipFile(tmp_path / f"{kind}.zip", "w") as packed:
            for name, data in games[kind].items():
                packed.writestr(name, data)
    for name in ("seven.7z", "joined.zip", "lost.7z"):
        data = (tmp_path / name).read_bytes()
        for number, at in enumerate(range(0, len(data), 100_000), 1):
            (top / f"{name}.{number:03}").write_bytes(data[at:at + 100_000])
    (top / "lost.7z.002").unlink()
    subprocess.run(["zip", "-q", "-s", "128k", tmp_path / "split.zip", "--out", top / "split.zip"], check=True)
    assert (top / "split.z02").exists()
    (top / "split.z64").write_bytes(SAMPLES["n64"][1](rnd))
    (top / "alone.001").write_bytes(b"of something else")
    brought = [each.path for each in bring([top], Watch())]
    assert len(brought) == len(set(brought))                 # an archive is gone through once, not for each part
    card = fresh(bench)
    found = filled(card, bench, Sources([top]))
    there = on(card)
    for kind in ("seven", "joined", "split"):
        assert {path: there.get(f"gb/{path.rpartition('/')[2]}") for path in games[kind]} == games[kind]
    assert any(path.endswith("split.z64") for path in there)
    said = [q.sentence for q in found.sorted.questions]
    assert any("of packs cannot be read and are left out. lost.7z.001 is one part of a set; missing beside it: "
               "lost.7z.002" in each for each in said)
    assert any("of an unknown kind: alone.001." in each for each in said)


def test_pictures_of_save_states_go_with_them(tmp_path, bench):
    game = gb(random.Random(8))
    top = make(tmp_path / "x", {"GB/Hill.gb": game, "GB/Hill.state1": b"made up", "GB/Hill.state1.png": b"a picture"})
    out = fill(fresh(bench), Sources([top]), shipped()["short-codes-saves-beside"], Watch(), partition=2)
    assert "2 save states of GB are left out: save states rarely move between programs." in [
        q.sentence for q in out.sorted.questions]
    plan = next(plan for plan in shipped().values() if plan.states is not None)
    answers = {"states GB": "bring in all the same"}
    come = fill(fresh(bench), Sources([top]), plan, Watch(), partition=2, answers=answers)
    places = {p.file.path.name: p.to for p in come.sorted.placed}
    assert places["Hill.state1.png"] == places["Hill.state1"] + ".png"


def test_the_members_of_an_archive_are_not_compared_with_one_another(tmp_path, monkeypatch):
    """Ten thousand of them would take minutes."""
    path = tmp_path / "many.zip"
    with zipfile.ZipFile(path, "w") as packed:
        for number in range(40):
            packed.writestr(f"gb/Game {number}.gb", bytes((number,)) * 500)
        packed.writestr("gb/art.png", b"x" * 600)

    def compared(*_):
        raise AssertionError("two members were compared")
    monkeypatch.setattr(Member, "__eq__", compared)
    assert len(bring([path], Watch())) == 41


def test_a_text_is_no_game_and_a_disk_in_the_folder_of_its_machine_is_no_state(tmp_path):
    names = {"README.md": "# Liesmich für alle\n".encode() * 40, "md/Tide.md": bytes(range(256)) * 64,
             "atarist/Quill.st": bytes(737280), "x/Quill.st": bytes(3000), "x/Quill.st0": bytes(3000)}
    for name, data in names.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(data)
    found = {str(each.path.relative_to(tmp_path.name)): (each.role, each.system) for each in bring([tmp_path], Watch())}
    assert found == {"README.md": (Role.UNKNOWN, ""), "md/Tide.md": (Role.GAME, "md"),
                     "atarist/Quill.st": (Role.GAME, "st"), "x/Quill.st": (Role.STATE, ""),
                     "x/Quill.st0": (Role.STATE, "")}


@pytest.mark.parametrize(("folder", "name", "role"), [
    ("boxart", "Tide.png", Role.PICTURE), ("bios", "boot.bin", Role.SYSTEM), ("pics", "Tide.png", Role.PICTURE),
    ("odds", "boot.bin", Role.UNKNOWN)])
def test_the_name_of_a_folder_that_is_brought_in_itself_counts(folder, name, role, tmp_path):
    (tmp_path / folder).mkdir()
    (tmp_path / folder / name).write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(900))
    for top in (tmp_path / folder, tmp_path):
        assert [each.role for each in bring([top], Watch())] == [role]


def test_a_board_of_many_files_is_known_by_all_of_them_and_what_it_lacks_is_told(tmp_path):
    boards = {"tidebrd": ("a.rom", "b.rom", "snd.bin"), "tidebrdj": ("a.rom", "j.rom", "snd.bin")}
    rnd = random.Random(8)
    data = {name: rnd.randbytes(2000) for name in ("a.rom", "b.rom", "snd.bin", "j.rom")}
    games = "".join(f'<game name="{title}">' + "".join(
        f'<rom name="{name}" size="2000" crc="{zlib.crc32(data[name]):08x}"/>' for name in names) + "</game>"
        for title, names in boards.items())
    listed = tmp_path / "arcade.xml"
    listed.write_text(f"<datafile><header><name>Arcade</name></header>{games}</datafile>")
    top = tmp_path / "boards"
    top.mkdir()
    for name, members in {"mine": {"x.rom": data["a.rom"], "j.rom": data["j.rom"], "snd.bin": data["snd.bin"]},
                          "cut": {"a.rom": data["a.rom"], "snd.bin": data["snd.bin"]},
                          "wrong": {"a.rom": data["a.rom"], "b.rom": bytes(2000), "snd.bin": data["snd.bin"]},
                          "other": {"q.rom": bytes(1999)}}.items():
        with zipfile.ZipFile(top / f"{name}.zip", "w") as packed:
            for member, content in members.items():
                packed.writestr(member, content)
    found = {each.path.stem: each for each in bring([top], Watch(), Lists([listed]))}
    assert (found["mine"].title, found["mine"].sure, found["mine"].system) == ("tidebrdj", 3, "arcade")
    assert found["cut"].reason.endswith("of which b.rom is missing") or found["cut"].reason.endswith("j.rom is missing")
    assert found["wrong"].reason.endswith("“tidebrd”, of which b.rom has other contents")
    assert found["other"].title == ""


def test_boards_get_the_names_of_a_list_all_at_once(tmp_path, bench):
    rnd, top = random.Random(9), tmp_path / "x"
    names = {f"board{number}": rnd.randbytes(1000) for number in range(5)}
    common = f'<rom name="b.rom" size="7" crc="{zlib.crc32(b"commons"):08x}"/>'
    games = "".join(f'<game name="{title}"><rom name="a.rom" size="1000" crc="{zlib.crc32(data):08x}"/>{common}</game>'
                    for title, data in names.items())
    (tmp_path / "arcade.xml").write_text(f"<datafile><header><name>Arcade</name></header>{games}</datafile>")
    top.mkdir()
    for number, data in enumerate(names.values()):
        with zipfile.ZipFile(top / f"set {number}.zip", "w") as packed:
            packed.writestr("a.rom", data)
            packed.writestr("b.rom", b"commons")
    found = fill(fresh(bench), Sources([top]), PLAN, Watch(), partition=2, lists=Lists([tmp_path / "arcade.xml"]),
                 answers={"titles": "call them so"})
    assert {each.to for each in found.sorted.coming} == {f"arcade/{title}.zip" for title in names}


def test_a_packed_file_that_its_ending_does_not_tell_is_known_by_its_header(tmp_path):
    top = tmp_path / "x"
    top.mkdir()
    with zipfile.ZipFile(top / "what.zip", "w") as packed:
        packed.writestr("what.bin", SAMPLES["md"][1](random.Random(1)))
    assert [(each.role, each.system) for each in bring([top], Watch())] == [("game", "md")]


def test_what_nothing_tells_can_be_said(tmp_path, bench):
    top = make(tmp_path / "x", {"odd/Tide.bin": b"t" * 3000, "odd/deep/Hill.bin": b"h" * 3001})
    card = fresh(bench)

    def places(word: str) -> set[str]:
        found = fill(card, Sources([top]), PLAN, Watch(), partition=2, answers={"unknown odd": word})
        return {each.to for each in found.sorted.coming}

    asked = next(q for q in fill(card, Sources([top]), PLAN, Watch(), partition=2).questions if q.key == "unknown odd")
    assert {"leave out", "games of md", "system files", "put them as they lie"} <= {*asked.answers, "games of md"}
    assert places("games of md") == {"md/Tide.bin", "md/Hill.bin"}
    assert places("system files") == {"bios/Tide.bin", "bios/Hill.bin"}
    assert places("put them as they lie") == {"odd/Tide.bin", "odd/deep/Hill.bin"}
