"""Folders of this computer and running devices filled like a card: nothing is lost, a cut leaves whole files."""

from __future__ import annotations

import os
import platform
import random
import subprocess
import sys
from contextlib import closing, suppress
from pathlib import Path

import pytest

from mosscrate.core.devices import Device, KnownDevices
from mosscrate.core.devices.filled import DeviceHome
from mosscrate.core.errors import MediumError, Stopped
from mosscrate.core.fill.plans import shipped
from mosscrate.core.fill.tree_home import PART, FolderHome, TreeHome, part_of
from mosscrate.core.sheet.planning.choosing import Choice, choose_for_tree
from mosscrate.core.sheet.planning.filling import Sources, fill_tree
from mosscrate.core.sheet.running.pouring import pour
from mosscrate.core.watch import Watch
from mosscrate.demo.device import PASSWORD, StandIn
from tests.fill.samples import SAMPLES, gb
from tests.fill.test_sources import make

PLAN = shipped()["long-names-saves-apart"]


@pytest.fixture(params=["folder", "device"])
def home(request, tmp_path):
    """An empty folder, here or over a real connection."""
    top = tmp_path / "filled"
    top.mkdir()
    if request.param == "folder":
        yield FolderHome(top)
        return
    with StandIn(top) as running:
        known = KnownDevices(tmp_path / "devices.json")
        known.trust(running.address.server, " ".join(running.key.export_public_key().decode().split()[:2]))
        with closing(Device(running.address, known, password=PASSWORD, keys=[])) as device:
            device.connect()
            yield DeviceHome(device)


def on(top: Path) -> dict[str, bytes]:
    return {str(p.relative_to(top)): p.read_bytes() for p in sorted(top.rglob("*")) if p.is_file()}


def poured(home: TreeHome, top: Path, plan=PLAN, **answers: str) -> str:
    with fill_tree(home, Sources([top]), Choice(plan), Watch(), answers=answers) as found:
        return pour(home, found.sorted, Watch())


def test_games_saves_and_discs_come_where_the_plan_says_and_twice_changes_nothing(home, tmp_path):
    rnd, top, there = random.Random(1), tmp_path / "mine", tmp_path / "filled"
    files = {"GB/Hill Run.gb": gb(rnd), "GB/Hill Run.sav": rnd.randbytes(32768), "GB/x.zip": b"no zip",
             "psx/Tide.cue": b'FILE "Tide.bin" BINARY\n', "psx/Tide.bin": rnd.randbytes(3_000_000)}
    make(top, files)
    assert poured(home, top).startswith("4 files put into")
    assert on(there) == {
        "roms/gameboy/Hill Run.gb": files["GB/Hill Run.gb"], "saves/gameboy/Hill Run.srm": files["GB/Hill Run.sav"],
        "roms/playstation/Tide/Tide.cue": files["psx/Tide.cue"],
        "roms/playstation/Tide/Tide.bin": files["psx/Tide.bin"]}
    assert poured(home, top).startswith("0 files put into")
    before, other, further = on(there), gb(rnd), rnd.randbytes(32768)
    make(top, {"GB/Hill Run.gb": other, "GB/Hill Run.sav": further})
    poured(home, top)
    after = on(there)
    assert after == before | {"roms/gameboy/Hill Run (2).gb": other, "saves/gameboy/Hill Run (2).srm": further}
    assert poured(home, top).startswith("0 files put into")
    poured(home, top, **{"both game": "take their place"})   # both households change places as a whole
    now = on(there)
    assert (now["roms/gameboy/Hill Run.gb"], now["saves/gameboy/Hill Run.srm"]) == (other, further)
    assert sorted(now.values()) == sorted(after.values())
    old = next(path for path, data in now.items() if data == files["GB/Hill Run.gb"]).rpartition("/")[2]
    assert now[f"saves/gameboy/{old.removesuffix('.gb')}.srm"] == files["GB/Hill Run.sav"]


def test_what_is_there_under_another_name_is_renamed_and_the_tree_teaches_its_plan(home, tmp_path):
    rnd, there = random.Random(2), tmp_path / "filled"
    games = {f"{code}/old {k}.{code}": SAMPLES[code][1](rnd) for code in ("gb", "nes") for k in range(4)}
    make(there, games | {"gba/x.gba": rnd.randbytes(300_000), "gb/old 0.sav": b"s" * 32768})
    top = make(tmp_path / "mine", {"stuff/Hill Run.gb": games["gb/old 0.gb"]})
    choice = choose_for_tree(home, shipped(), tmp_path / "state")
    with fill_tree(home, Sources([top]), choice, Watch()) as found:
        assert pour(home, found.sorted, Watch()).endswith("2 files renamed.")
    assert {"gb/Hill Run.gb", "gb/Hill Run.sav"} <= set(on(there))
    assert sorted(on(there).values()) == sorted([*games.values(), on(there)["gba/x.gba"], b"s" * 32768])


def test_a_filling_that_is_stopped_leaves_whole_files_and_goes_on(home, tmp_path):
    rnd, there, left = random.Random(3), tmp_path / "filled", [4]
    top = make(tmp_path / "mine", {f"GB/Game {k}.gb": gb(rnd) for k in range(8)})

    def is_over() -> bool:
        left[0] -= 1
        return left[0] < 0

    with fill_tree(home, Sources([top]), Choice(PLAN), Watch()) as found, pytest.raises(Stopped):
        pour(home, found.sorted, Watch(should_stop=is_over))
    partly = on(there)
    assert 0 < len(partly) < 8
    assert {path.rpartition("/")[2]: data for path, data in partly.items()}.items() <= {
        path.rpartition("/")[2]: data for path, data in on(top).items()}.items()
    poured(home, top)
    assert len(on(there)) == 8


def test_what_is_there_keeps_its_name_until_the_new_file_is_whole(home, tmp_path):
    there = make(tmp_path / "filled", {"gb/Hill.gb": b"old"})

    def breaks():
        yield b"half"
        raise MediumError("The card is gone.")

    with pytest.raises(MediumError, match="gone"):
        home.put("gb/Hill.gb", breaks(), None, old=("gb/Hill.gb", "gb/Hill 2026-01-01.gb"))
    assert {path: data for path, data in on(there).items() if not path.endswith(PART)} == {"gb/Hill.gb": b"old"}
    home.put("gb/Hill.gb", iter([b"new"]), None, old=("gb/Hill.gb", "gb/Hill 2026-01-01.gb"))
    assert {path: data for path, data in on(there).items() if not path.endswith(PART)} == {
        "gb/Hill.gb": b"new", "gb/Hill 2026-01-01.gb": b"old"}


def test_parts_of_a_filling_that_is_no_more_go_and_free_room_is_known(home, tmp_path, monkeypatch):
    there, top = tmp_path / "filled", make(tmp_path / "mine", {"GB/Hill.gb": gb(random.Random(4))})
    gone = subprocess.Popen(["true"])
    gone.wait()
    names = []
    for process in (gone.pid, os.getpid()):
        monkeypatch.setattr(os, "getpid", lambda process=process: process)
        names.append(part_of("Hill.gb"))
    foreign = names[0].replace(platform.node().partition(".")[0][:30] or "here", "another-bench")
    make(there, {f"roms/{name}": b"half" for name in (*names, foreign)})
    poured(home, top)
    assert {path.rpartition("/")[2] for path in on(there)} == {"Hill.gb", names[1], foreign}
    about = os.statvfs(there)
    assert abs(home.free() - about.f_bavail * about.f_frsize) < 1 << 34          # others write meanwhile


def test_killed_at_any_moment_a_folder_has_whole_files_and_no_parts_after_the_next_time(tmp_path):
    """Two fillings of one folder at once besides: each file is there once, whole."""
    rnd, top, there = random.Random(5), tmp_path / "mine", tmp_path / "filled"
    make(top, {f"GB/Game {k}.gb": gb(rnd) + bytes(200_000) for k in range(60)})
    there.mkdir()
    words = [sys.executable, "-m", "mosscrate.cli", "fill", str(there), str(top), "--plan", PLAN.id, "--run"]
    environment = {**os.environ, "MOSSCRATE_STATE": str(tmp_path / "state"), "MOSSCRATE_CRATE": str(tmp_path / "crate")}
    for wait in (0.5, 0.8, 1.1):
        with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment) as running:
            with suppress(subprocess.TimeoutExpired):
                running.wait(wait)
            running.kill()
        assert all((top / "GB" / name.rpartition("/")[2]).read_bytes() == data for name, data in on(there).items()
                   if not name.endswith(PART))
    both = [subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment)
            for _ in range(2)]
    assert 0 in [each.wait() for each in both]
    poured(FolderHome(there), top)
    assert {name.rpartition("/")[2]: data for name, data in on(there).items()} == {
        path.name: path.read_bytes() for path in (top / "GB").iterdir()}


def test_links_that_lead_out_and_files_that_come_meanwhile_are_never_written_over(tmp_path):
    outside, there = tmp_path / "outside", tmp_path / "filled"
    outside.mkdir()
    there.mkdir()
    (there / "roms").symlink_to(outside)
    top = make(tmp_path / "mine", {"GB/Hill.gb": gb(random.Random(4))})
    home = FolderHome(there)
    with fill_tree(home, Sources([top]), Choice(PLAN), Watch()) as found:
        with pytest.raises(MediumError, match="leads out of"):
            pour(home, found.sorted, Watch())
        assert list(outside.iterdir()) == []
        (there / "roms").unlink()
        make(there, {"roms/gameboy/Hill.gb": b"came meanwhile"})
        with pytest.raises(MediumError, match="something is there already"):
            home.put("roms/gameboy/Hill.gb", iter((b"x",)), None)
    assert on(there) == {"roms/gameboy/Hill.gb": b"came meanwhile"}


@pytest.mark.parametrize("first", sorted(shipped())[:5])
def test_sets_in_five_naming_schemes_come_onto_five_plans(first, tmp_path):
    """Laid out by one plan and learnt by nobody: each game and save where the other plan says, by its contents."""
    rnd, plans = random.Random(first), shipped()
    codes = [code for code in ("gb", "gba", "nes", "md", "sms", "snes") if all(plan.folder_of(code)
                                                                              for plan in plans.values())]
    assert len(codes) >= 4
    names = {f"{name} {code}": (code, SAMPLES[code][1](rnd)) for code in codes for name in ("Hill", "Tide")}
    files = {f"{code}/{stem}.{SAMPLES[code][0]}": data for stem, (code, data) in names.items()}
    files["gb/Hill gb.sav"] = rnd.randbytes(32768)
    here = tmp_path / "first"
    here.mkdir()
    poured(FolderHome(here), make(tmp_path / "mine", files), plans[first])
    laid = on(here)
    assert sorted(laid.values()) == sorted(files.values())
    for then in sorted(plans)[:5]:
        there, plan = tmp_path / then, plans[then]
        there.mkdir()
        poured(FolderHome(there), here, plan)
        found = on(there)
        assert sorted(found.values()) == sorted(files.values()), then
        by_data = {data: path for path, data in found.items()}
        for code, data in names.values():
            assert by_data[data].rpartition("/")[0] == plan.folder_of(code), then
        game, save = by_data[names["Hill gb"][1]], by_data[files["gb/Hill gb.sav"]]
        assert save == plan.fill_in((plan.systems["gb"].saves or plan.saves).place, "gb", game), then
        assert poured(FolderHome(there), here, plan).startswith("0 files"), then
