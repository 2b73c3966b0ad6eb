"""A household is one thing: it comes, moves, is numbered and renamed as a whole, and its save stays in use."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import datetime

import pytest

from mosscrate.core.fill.bringing import bring_from_volume
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.on_card import TheCard
from mosscrate.core.fill.plans import parse_plan, shipped
from mosscrate.core.fill.regrouping import regroup
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.sheet.planning.filling import Sources, fill
from mosscrate.core.sheet.running.recovering import undo
from mosscrate.core.sheet.running.run import run
from mosscrate.core.volumes import facts_of
from mosscrate.core.watch import Watch
from tests.fill.households import DAY, Model, Tree_
from tests.fill.samples import SAMPLES
from tests.fill.test_filling import fresh, on

PLAN = shipped()["short-codes-saves-beside"]
BATCH = 100


@pytest.mark.parametrize("batch", range(20))
def test_households_stay_whole_whatever_is_done_to_a_card(batch):
    for seed in range(batch * BATCH, (batch + 1) * BATCH):
        assert Model(seed).run() == [], seed


def places(files: dict[str, bytes], card: dict[str, bytes] | None = None, *, plan=PLAN, kind: str = "fat32",
           **answers: str) -> dict[str, str]:
    """Where files that are brought in go: path → place, "" for those that are left out."""
    volume, brought = Tree_(card or {}), bring_from_volume("mine", Tree_(files), 1, Watch())   # type: ignore[arg-type]
    answers = dict.fromkeys(("save size mine", "states mine"), "bring in all the same") | answers
    found = sort([replace(each, group="mine") for each in brought], plan,
                 Home(volume.entries, facts_of(kind), 4096, 1 << 40), OnTheCard(volume.read_at, volume.read_file),
                 answers=answers)
    return {str(each.file.path).removeprefix("mine/"): "" if each.act == "left out" else each.to
            for each in found.placed} | found.along


def test_a_save_that_may_be_of_two_games_is_asked_about():
    files = {"gb/Tamo (North).gb": b"n" * 99, "gb/Tamo (South).gb": b"s" * 98, "gb/Tamo.sav": b"?" * 8192}
    assert places(files)["gb/Tamo.sav"] == ""
    said = {"whose mine/gb/Tamo.sav": "Tamo (South)"}
    assert places(files, **said)["gb/Tamo.sav"] == "gb/Tamo (South).sav"


@pytest.mark.parametrize("kind", ["fat32", "ext4"])
def test_games_of_one_name_keep_the_saves_that_lie_beside_them(kind):
    files = {f"{box}/{name}.{ending}": f"{box}{name}{ending}".encode() * 1024
             for box, name in (("a", "Tamo"), ("b", "Tamo"), ("c", "tamo")) for ending in ("gb", "sav")}
    found = places(files, kind=kind)
    for box, name in (("a", "Tamo"), ("b", "Tamo"), ("c", "tamo")):
        assert found[f"{box}/{name}.sav"] == found[f"{box}/{name}.gb"].replace(".gb", ".sav").replace("sav/", "gb/", 1)
    assert len(set(found.values())) == 6


def test_one_stem_is_cut_for_all_and_says_something_in_every_script():
    files = {"gb/Mossy Adventure.gb": b"a" * 99, "gb/Mossy Adventure.sav": b"s" * 8192, "gb/Mossy Advent.gb": b"b" * 98,
             "gb/クマ.gb": b"k" * 97, "gb/クマ.sav": b"q" * 8192, "gb/キツネ.gb": b"f" * 96}
    found = places(files, plan=shipped()["numbered"])
    stems = {path: place.rpartition("/")[2].partition(".")[0] for path, place in found.items()}
    assert stems["gb/Mossy Adventure.gb"] == stems["gb/Mossy Adventure.sav"]
    assert stems["gb/クマ.gb"] == stems["gb/クマ.sav"]
    assert len({stems[path] for path in files if path.endswith(".gb")}) == 4
    assert all(0 < len(stem) <= 8 and stem.isascii() for stem in stems.values())


def test_a_game_that_is_there_under_another_name_takes_the_better_one_with_all_that_is_its():
    card = {"gb/tm.gb": b"t" * 99, "gb/tm.sav": b"s" * 8192, "gb/tm (2024-01-01).sav": b"o" * 8192, "gb/tm.st0": b"0",
            "gb/tm.mpk": b"m" * 32_768, "gb/tm.rtc": b"r", "gb/tm.cfg": b"c", "gb/media/tm.png": b"p"}
    found = places({"x/Tamo.gb": b"t" * 99, "x/Tamo.sav": b"new " * 2048}, card)
    assert {path: found[path] for path in card if path != "gb/tm.gb"} == {
        path: path.replace("/tm", "/Tamo") for path in card if path != "gb/tm.gb"}
    assert found["x/Tamo.gb"] == "gb/Tamo.gb"
    assert found["x/Tamo.sav"].startswith("gb/Tamo (")       # the card's stays in use


def test_a_track_of_a_sheet_on_the_card_never_takes_another_name():
    sheet = b'FILE "Tide.bin" BINARY\n'
    card = {"psx/Tide/Tide.cue": sheet, "psx/Tide/Tide.bin": b"t" * 2352}
    found = places({"psx/loose.bin": b"t" * 2352}, card)
    assert found == {"psx/loose.bin": "psx/loose.bin"}


def test_a_game_that_is_left_out_leaves_out_all_that_is_its():
    files = {"gb/Tamo.7z": b"no archive", "gb/Tamo.sav": b"s" * 8192, "gb/Tamo.png": b"p"}
    assert set(places(files).values()) == {""}


def test_discs_in_titled_folders_take_the_title():
    files = {f"psx/{title}/game.cue": b'FILE "track.bin" BINARY\nREM ' + title.encode() for title in ("Tide", "Road")}
    files |= {f"psx/{title}/track.bin": title.encode() * 2352 for title in ("Tide", "Road")}
    files |= {"psx/Road/game.srm": b"c" * 131_072}
    found = places(files)
    assert found["psx/Tide/game.cue"] == "psx/Tide/Tide.cue"
    assert found["psx/Road/track.bin"] == "psx/Road/track.bin"
    assert found["psx/Road/game.srm"] == "psx/Road/Road.sav"


def test_saves_take_the_ending_of_those_on_the_card_and_a_change_of_it_is_asked():
    plan = shipped()["long-names-saves-apart"]
    files = {"gb/Tamo.gb": b"t" * 99, "gb/Tamo.sav": b"s" * 8192}
    assert places(files, plan=plan)["gb/Tamo.sav"] == "saves/gameboy/Tamo.srm"
    kept = places(files, plan=plan, **{"endings of saves": "keep their endings"})
    assert kept["gb/Tamo.sav"] == "saves/gameboy/Tamo.sav"
    card = {"roms/gameboy/Hill.gb": b"h" * 98, "saves/gameboy/Hill.sav": b"x" * 8192}
    assert places(files, card, plan=plan)["gb/Tamo.sav"] == "saves/gameboy/Tamo.sav"


def test_discs_whose_names_differ_by_case_alone_keep_their_own_tracks_and_saves():
    card = {f"psx/{title}/{title}.{ending}": f"{title} {ending}".encode()
            for title in ("TAMO", "Tamo") for ending in ("cue", "bin", "sav")}
    card |= {f"psx/{title}/{title}.cue": f'FILE "{title}.bin" BINARY\n'.encode() for title in ("TAMO", "Tamo")}
    volume = Tree_(card)
    facts = facts_of("ext4")
    there = TheCard(volume.entries, PLAN, OnTheCard(volume.read_at, volume.read_file), facts)
    assert {str(each.lead.path): ([str(part.path) for part in each.parts], [str(own.path) for own in each.others])
            for each in there.games} == {
        f"psx/{title}/{title}.cue": ([f"psx/{title}/{title}.bin"], [f"psx/{title}/{title}.sav"])
        for title in ("TAMO", "Tamo")}


def test_between_plans_everything_goes_along_and_emptied_folders_go():
    now, then = PLAN, shipped()["long-names-saves-apart"]
    card = {"gb/Tamo.gb": b"t", "gb/Tamo.sav": b"s", "gb/Tamo.st1": b"1", "gb/Tamo.ips": b"i",
            "gb/media/Tamo.png": b"p", "gb/deep/Hill.gb": b"h", "gb/deep/Hill.sav": b"g", "bios/boot.bin": b"b",
            "own/notes.txt": b"n"}
    volume = Tree_(card)
    found = regroup(volume.entries, now, then, facts_of("fat32"), OnTheCard(volume.read_at, volume.read_file), {})
    assert found.moves == {
        "gb/Tamo.gb": "roms/gameboy/Tamo.gb", "gb/Tamo.sav": "saves/gameboy/Tamo.srm",
        "gb/Tamo.st1": "states/gameboy/Tamo.state1", "gb/Tamo.ips": "roms/gameboy/Tamo.ips",
        "gb/media/Tamo.png": "pictures/gameboy/Tamo.png", "gb/deep/Hill.gb": "roms/gameboy/deep/Hill.gb",
        "gb/deep/Hill.sav": "saves/gameboy/Hill.srm", "bios/boot.bin": "system/boot.bin"}
    assert found.emptied == ("bios", "gb")


def test_between_plans_a_save_that_two_games_share_is_asked_about_and_both_stay():
    now = shipped()["upper-codes"]
    volume = Tree_({"Roms/GB/Tamo.gb": b"a", "Roms/FC/Tamo.nes": b"b", "Saves/Tamo.sav": b"s", "Roms/GB/Hill.gb": b"h"})
    on_card = OnTheCard(volume.read_at, volume.read_file)
    found = regroup(volume.entries, now, PLAN, facts_of("fat32"), on_card, {})
    assert found.moves == {"Roms/GB/Hill.gb": "gb/Hill.gb"}
    question = next(each for each in found.questions if each.key == "whose Saves/Tamo.sav")
    said = {question.key: question.answers[2]}
    moved = regroup(volume.entries, now, PLAN, facts_of("fat32"), on_card, said).moves
    game = question.answers[2]
    assert moved["Saves/Tamo.sav"].rpartition(".")[0] == moved[game].rpartition(".")[0]
    assert len(moved) == 4


def test_between_plans_another_save_can_be_used_too():
    now, then = PLAN, shipped()["long-names-saves-apart"]
    volume = Tree_({"gb/Tamo.gb": b"t", "gb/Tamo.sav": b"s", "gb/Tamo (2024-05-06).sav": b"friend's"})
    on_card, dated = OnTheCard(volume.read_at, volume.read_file), "Tamo (2024-05-06).sav"
    for plan, place in ((now, "gb/Tamo.sav"), (then, "saves/gameboy/Tamo.srm")):
        found = regroup(volume.entries, now, plan, facts_of("fat32"), on_card, {})
        asked = next(each for each in found.questions if each.key.startswith("use "))
        assert found.moves.get(f"gb/{dated}", f"gb/{dated}") != place
        moves = regroup(volume.entries, now, plan, facts_of("fat32"), on_card, {asked.key: "use this one"}).moves
        assert moves[f"gb/{dated}"] == place
        assert moves["gb/Tamo.sav"] != place


def test_a_folder_that_was_made_for_a_system_is_known_again():
    plan = parse_plan('name = "mine"\nfresh = "{code}"\n[systems]\ngb = {folder = "gb"}\n', "mine.toml")
    first = places({"nes/Hill.nes": b"h" * 99}, plan=plan, **{"folder nes": "make one"})
    assert first == {"nes/Hill.nes": "nes/Hill.nes"}
    again = places({"nes/Tide.nes": b"t" * 98}, {"nes/Hill.nes": b"h" * 99}, plan=plan)
    assert again == {"nes/Tide.nes": "nes/Tide.nes"}


def test_one_word_makes_the_folders_of_all_systems_and_another_takes_one_away_again():
    plan = parse_plan('name = "mine"\nfresh = "{code}"\n[systems]\ngb = {folder = "gb"}\n', "mine.toml")
    files = {"nes/Hill.nes": b"h" * 99, "gba/Tide.gba": b"t" * 98}
    assert set(places(files, plan=plan, folders="make all of them").values()) == {"nes/Hill.nes", "gba/Tide.gba"}
    some = places(files, plan=plan, **{"folders": "make all of them", "folder gba": "leave out"})
    assert set(some.values()) == {"nes/Hill.nes", ""}


def test_a_save_that_came_beside_is_used_when_it_is_said_later():
    card = {"gb/Tamo.gb": b"t" * 99, "gb/Tamo.sav": b"mine" * 2048, "gb/Tamo (2024-05-06).sav": b"hers" * 2048}
    found = places({"gb/Hill.gb": b"h" * 98}, card, **{"use gb/Tamo (2024-05-06).sav": "use this one"})
    assert found["gb/Tamo (2024-05-06).sav"] == "gb/Tamo.sav"
    assert found["gb/Tamo.sav"] == f"gb/Tamo ({datetime.fromtimestamp(DAY):%Y-%m-%d}).sav"
    assert found["gb/Hill.gb"] == "gb/Hill.gb"


def test_a_card_on_which_households_changed_places_is_taken_back_to_the_byte(bench, tmp_path):
    rnd, top, card = random.Random(4), tmp_path / "x", fresh(bench)
    (top / "gb").mkdir(parents=True)
    for name, build in (("Tamo", 1), ("Hill", 2)):
        (top / "gb" / f"{name}.gb").write_bytes(SAMPLES["gb"][1](random.Random(build)))
        (top / "gb" / f"{name}.sav").write_bytes(rnd.randbytes(8192))
    run(fill(card, Sources([top]), PLAN, Watch(), partition=2).sheet, bench, Watch(), typed_tag=card.tag)
    before = on(card)
    (top / "gb" / "Tamo.gb").write_bytes(SAMPLES["gb"][1](random.Random(9)))
    (top / "gb" / "Tamo.sav").write_bytes(rnd.randbytes(8192))
    (top / "gb" / "Hill.gb").rename(top / "gb" / "Hill (World).gb")
    (top / "gb" / "Hill.sav").unlink()
    found = fill(card, Sources([top]), PLAN, Watch(), partition=2, answers={"both game": "take their place"})
    done = run(found.sheet, bench, Watch(), typed_tag=card.tag)
    after = on(card)
    assert after["gb/Tamo.gb"] == (top / "gb" / "Tamo.gb").read_bytes()
    assert after["gb/Hill (World).sav"] == before["gb/Hill.sav"]
    old = next(path for path, data in after.items() if data == before["gb/Tamo.gb"])
    assert after[old.replace(".gb", ".sav")] == before["gb/Tamo.sav"]
    undo(done.job, bench, Watch(), typed_tag=card.tag)
    assert on(card) == before
