"""A card teaches its plan: what can be known is known, what cannot is asked, and nothing is guessed wrongly."""

from __future__ import annotations

from collections import Counter

import pytest

from mosscrate.core.fill.learning import Learnt, learn
from mosscrate.core.fill.systems import systems
from mosscrate.core.volumes import Entry, Kind
from tests.fill.cards import Filled, filled
from tests.fill.conventions import CONVENTIONS, read

CARDS = 50                               # of each share


def judged(card: Filled, learnt: Learnt) -> Counter[str]:
    """Folders that can be known: right, asked, wrong; others: wrong where they are called certain and are not."""
    lines, found = {line.folder: line for line in learnt.lines}, Counter[str]()
    for folder, code in card.systems.items():
        line = lines.get(folder)
        if line is None or not line.is_certain:
            found["asked" if folder in card.knowable else "unknowable, asked"] += 1
        else:
            found["right" if systems().are_kin(line.system, code) else "wrong"] += 1
    found["wrong"] += sum(line.is_certain and line.folder not in card.systems for line in learnt.lines)
    return found


@pytest.mark.parametrize(("strays", "forgotten", "least"), [(0.0, 0.0, 0.98), (0.1, 0.0, 0.95), (0.0, 0.3, 0.9)])
@pytest.mark.parametrize("share", range(2))
def test_random_cards_teach_their_plans(share, strays, forgotten, least):
    total, places = Counter[str](), 0
    for seed in range(share * CARDS, (share + 1) * CARDS):
        card = filled(seed, strays=strays, forgotten=forgotten)
        learnt = learn(card.entries, card.read_at)
        total += judged(card, learnt)
        places += learnt.plan.saves is None or learnt.plan.saves.place == card.saves
    assert total["wrong"] == 0
    assert total["right"] >= least * (total["right"] + total["asked"])
    assert places >= 0.95 * CARDS


def tree(*paths: str) -> list[Entry]:
    """Files of 40,000 bytes, and empty folders with a stroke at the end."""
    folders = {path[:at] for path in paths for at, letter in enumerate(path) if letter == "/"}
    return [*(Entry(path, Kind.FOLDER, 0, None, 0) for path in sorted(folders)),
            *(Entry(path, Kind.FILE, 40_000, None, 0) for path in paths if not path.endswith("/"))]


@pytest.mark.parametrize("name", ["ws", "ng", "ps", "md", "ms", "fc", "sg", "ss", "ngc"])
def test_empty_folders_that_mean_several_things_are_asked(name):
    line, = learn(tree(f"roms/{name}/")).lines
    assert not line.is_certain
    assert line.guesses


@pytest.mark.parametrize(("paths", "folder"), [
    (["gb/a.gba", "gb/b.gba", "gb/c.gba", "gb/d.gba"], "gb"),
    (["Best/a.gb", "Best/b.gb"], "Best"),
    (["RPG/a.gb", "RPG/b.gb", "RPG/c.gb", "Racing/d.gb", "Racing/e.gb", "Racing/f.gb"], "RPG"),
    (["things/a.gb", "things/b.gba", "things/c.nes", "things/d.sms"], "things"),
])
def test_what_contradicts_itself_is_asked(paths, folder):
    line = next(line for line in learn(tree(*paths)).lines if line.folder == folder)
    assert not line.is_certain
    assert line.why_not


@pytest.mark.parametrize("paths", [
    ["saves/gb/a.srm", "saves/gba/b.srm"], ["bios/gb_bios.bin"], [".hidden/gb/a.gb"], ["music/a.mp3"], ["usr/lib/a.so"],
    ["notes/a.md", "notes/b.md", "notes/readme.txt", "notes/c.txt", "notes/d.txt", "notes/e.txt"]])
def test_what_is_no_system_is_not_taken_for_one(paths):
    assert not [line for line in learn(tree(*paths)).lines if line.is_certain]


def test_an_answer_decides_and_the_plan_opens_what_lies_there():
    paths = ["ROMS/MD/a.bin", "ROMS/MD/b.zip", *(f"ROMS/GB/{name}.gb" for name in "cde"), "Saves/GB/c.sav",
             "Saves/GB/d.sav"]
    first = learn(tree(*paths))
    assert [line.folder for line in first.asked] == ["ROMS/MD"]
    plan = learn(tree(*paths), answers={"ROMS/MD": "md"}).plan
    assert (plan.root, plan.fresh) == ("ROMS", "{CODE}")
    assert (plan.folder_of("md"), plan.folder_of("gb")) == ("ROMS/MD", "ROMS/GB")
    assert plan.packings("md") == ("zip",)
    assert plan.saves is not None
    assert plan.saves.place == "Saves/{folder}/{stem}.sav"
    assert plan.fill_in(plan.saves.place, "gb", "x/Hill Run.gb") == "Saves/GB/Hill Run.sav"
    assert learn(tree(*paths), answers={"ROMS/MD": ""}).asked == ()


@pytest.mark.parametrize("name", CONVENTIONS)
def test_conventions_by_hand_are_known_or_asked_and_never_taken_for_something_else(name):
    """Without headers: names that mean several things may be asked; all others have to be known."""
    entries, truth = read(CONVENTIONS[name])
    lines = {line.folder: line for line in learn(entries).lines}
    for folder, code in truth.items():
        line = next((lines[path] for path in (folder, folder.rpartition("/")[0]) if path in lines), None)
        told = line.system if line is not None and line.is_certain else ""
        if code in ("?", "-"):
            assert not told, folder
        elif told:
            assert systems().are_kin(told, code), folder
        else:
            assert folder.rpartition("/")[2].casefold() in ("md", "ps", "ws"), folder


def test_the_cards_own_settings_say_whose_folders_are_and_what_is_opened():
    """XML and INI, wherever they lie; folders that nobody else could know; what is damaged is passed over."""
    files = {"menu/list.cfg": b"""<?xml version="1.0"?><systemList>
        <system><name>wsc</name><path>/mnt/card/roms/ws</path><extension>.ws .wsc .zip</extension></system>
        <system><name>mystery</name><path>./roms/odd</path></system>
        <system><fullname>Game Gear</fullname><path>roms/little ones</path></system></systemList>""",
             "menu/more.ini": b"[md]\nfolder = roms/sixteen\nextensions = md, bin\n[broken",
             "menu/bad.xml": b"<system><path>", "menu/noise.cfg": b"path" + bytes(range(256))}
    empty = ("roms/ws/", "roms/odd/", "roms/little ones/", "roms/sixteen/", "roms/ps/")
    entries = [*tree(*empty), *(Entry(path, Kind.FILE, len(data), None, 0) for path, data in files.items())]
    learnt = learn(entries, lambda entry, at, count: files.get(entry.path, b"")[at:at + count])
    lines = {line.folder: line for line in learnt.lines}
    assert {folder: line.system for folder, line in lines.items() if line.is_certain} == {
        "roms/ws": "wsc", "roms/little ones": "gg", "roms/sixteen": "md"}
    assert lines["roms/ws"].guesses[0].evidence == ("“menu/list.cfg” says so",)
    assert (learnt.plan.opens("wsc"), learnt.plan.packings("wsc")) == (("ws", "wsc"), ("zip",))
    assert not lines["roms/ps"].is_certain
