"""Laid over as it is, and what is done on the card itself: folders made, litter swept, preinstalled things removed."""

from __future__ import annotations

import random
import tarfile
import zipfile
import zlib

from mosscrate.core.fill.plans import parse_plan, shipped
from mosscrate.core.sheet.planning.choosing import choose_plan
from mosscrate.core.sheet.planning.filling import Sources, fill, lay_over, regroup_under
from mosscrate.core.sheet.planning.wanting import wanted_on
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import KeepCard, PutFiles
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.core.test_store import card_with
from tests.fill.samples import SAMPLES, gb
from tests.fill.test_filling import fresh, on
from tests.fill.test_sources import filled, make

PLAN = shipped()["short-codes-saves-beside"]


def laid(card, bench, sources: Sources, **answers: str):
    """Lay over and run; what was planned."""
    found = lay_over(card, sources, Watch(), partition=2, answers=answers)
    if found.sheet is not None:
        run(found.sheet, bench, Watch(), typed_tag=card.tag)
    return found


def test_an_overlay_adds_keeps_or_replaces_and_a_second_time_changes_nothing(tmp_path, bench):
    card = fresh(bench)
    first = {"system/menu.cfg": b"one", "system/pictures/a.png": b"picture", "boot.txt": b"boot", "Thumbs.db": b"x"}
    laid(card, bench, Sources([make(tmp_path / "overlay 1", first)]))
    there = on(card)
    assert {path: there[path] for path in first if path != "Thumbs.db"} == {
        path: data for path, data in first.items() if path != "Thumbs.db"}
    assert "Thumbs.db" not in there
    second = make(tmp_path / "overlay 2", {"system/menu.cfg": b"two!", "boot.txt": b"boot", "new/file.bin": b"new"})
    found = laid(card, bench, Sources([second]))
    assert "1 file of the card has other contents: menu.cfg" in found.questions[0].sentence
    after = on(card)
    assert after["system/menu.cfg"] == b"two!"
    assert sorted(after.values()) == sorted([*there.values(), b"two!", b"new"])
    assert laid(card, bench, Sources([second])).sheet is None
    third = make(tmp_path / "overlay 3", {"system/menu.cfg": b"three"})
    laid(card, bench, Sources([third]), over="replace them")
    assert b"two!" not in on(card).values()
    assert on(card)["system/menu.cfg"] == b"three"


def test_what_is_missing_after_an_overlay_is_told(tmp_path, bench):
    plan = parse_plan('name = "m"\n[systems]\ngb = {folder = "gb"}\n[[wants]]\nfile = "boot.bin"\nsystems = ["gb"]\n'
                      'places = ["system"]\n[[wants]]\nfile = "here.bin"\nsystems = ["gb"]\nplaces = ["system"]\n',
                      "m.toml")
    card = fresh(bench)
    laid(card, bench, Sources([make(tmp_path / "w", {"psx/there.bin": b"x"})]))
    top = make(tmp_path / "x", {"system/here.bin": b"x", "psx/Tide.cue": b'FILE "gone.bin" BINARY\n',
                                "psx/Hill.cue": b'FILE "there.bin" BINARY\n'})
    said = [q.sentence for q in lay_over(card, Sources([top]), Watch(), partition=2, plan=plan).questions]
    assert not any("Hill.cue" in each for each in said)
    assert "1 system file of the plan by which this card is filled is missing then: boot.bin." in said
    assert "“Tide.cue” names gone.bin, and nothing of that name is beside it." in said


def test_a_folder_around_everything_in_an_archive_is_taken_off_unless_the_card_has_it(tmp_path, bench):
    card, path = fresh(bench), tmp_path / "overlay-1.2.zip"
    with zipfile.ZipFile(path, "w") as packed:
        packed.writestr("overlay-1.2/system/menu.cfg", b"one")
        packed.writestr("overlay-1.2/themes/x.txt", b"x")
    bare = tmp_path / "else.zip"
    with zipfile.ZipFile(bare, "w") as packed:
        packed.writestr("games/x.txt", b"x")
    assert [p.to for p in lay_over(card, Sources([bare]), Watch(), partition=2).sorted.coming] == ["games/x.txt"]
    assert {p.to for p in lay_over(card, Sources([path]), Watch(), partition=2,
                                   answers={"wrapping": "with the folder"}).sorted.coming} == {
        "overlay-1.2/system/menu.cfg", "overlay-1.2/themes/x.txt"}
    laid(card, bench, Sources([path]))
    assert {"system/menu.cfg", "themes/x.txt"} <= set(on(card))
    with zipfile.ZipFile(path, "w") as packed:
        packed.writestr("system/menu.cfg", b"one more")
    found = laid(card, bench, Sources([path]))
    assert [p.to for p in found.sorted.coming] == ["system/menu.cfg"]


def test_archives_of_loose_files_and_packed_tars_are_opened_and_folders_are_those_of_the_card(tmp_path, bench):
    card = fresh(bench)
    laid(card, bench, Sources([make(tmp_path / "a", {"sys/old.cfg": b"old"})]))
    with zipfile.ZipFile(tmp_path / "loose.zip", "w") as packed:
        packed.writestr("menu.cfg", b"menu")
        packed.writestr("läufer.cfg", b"runner")
    files = make(tmp_path / "t", {"SYS/x.cfg": b"x", "sys/y.cfg": b"y",
                                  "SYS/deep/z.bin": random.Random(1).randbytes(9000)})
    for kind in ("gz", "bz2", "xz"):
        with tarfile.open(tmp_path / f"over.tar.{kind}", f"w:{kind}") as tar:
            for name in ("SYS/x.cfg", "sys/y.cfg", "SYS/deep/z.bin"):
                tar.add(files / name, name)
        laid(card, bench, Sources([tmp_path / "loose.zip", tmp_path / f"over.tar.{kind}"]))
        there = on(card)
        assert {"menu.cfg", "läufer.cfg", "sys/old.cfg", "sys/x.cfg", "sys/y.cfg", "sys/deep/z.bin"} <= set(there)
        assert there["sys/deep/z.bin"] == (files / "SYS/deep/z.bin").read_bytes()
        assert lay_over(card, Sources([tmp_path / "loose.zip", tmp_path / f"over.tar.{kind}"]), Watch(),
                        partition=2).sheet is None
    (tmp_path / "cut.tar.gz").write_bytes((tmp_path / "over.tar.gz").read_bytes()[:-200])
    damaged = lay_over(card, Sources([tmp_path / "cut.tar.gz"]), Watch(), partition=2)
    assert "cut.tar.gz cannot be unpacked" in " ".join(each.why for each in damaged.sorted.placed)


def test_what_stands_in_the_way_of_an_overlay_is_left_and_told(tmp_path, bench):
    card = fresh(bench)
    laid(card, bench, Sources([make(tmp_path / "a", {"thing": b"a file", "folder/inner": b"x"})]))
    found = laid(card, bench, Sources([make(tmp_path / "b", {"thing/inner.txt": b"y", "folder": b"z"})]))
    assert found.sheet is None
    assert "2 files cannot come where they belong" in found.questions[0].sentence


def test_a_skeleton_is_made_litter_swept_and_preinstalled_things_taken_away_only_when_asked(tmp_path, bench):
    plan = parse_plan('name = "mine"\npreinstalled = ["gb/demo*.gb"]\nreserved = ["gb/keep.tmp"]\nlitter = ["*.tmp"]\n'
                      '[systems]\ngb = {folder = "gb", opens = ["gb"]}\nnes = {folder = "n"}\nsms = {folder = "s"}\n',
                      "mine.toml")
    card, rnd = fresh(bench), random.Random(1)
    laid(card, bench, Sources([make(tmp_path / "old", {
        "gb/demo 1.gb": gb(rnd), "gb/mine.gb": gb(rnd), "gb/x.tmp": b"x", "gb/keep.tmp": b"k"})]))
    make(tmp_path / "litter", {"._a": b"a", "gb/._b": b"b", ".Trashes/501/c": b"c"})
    bare = [f"{path.relative_to(tmp_path / 'litter')}" for path in (tmp_path / "litter").rglob("*") if path.is_file()]
    put_raw(card, bench, tmp_path / "litter", bare)
    before = on(card)
    source = Sources([make(tmp_path / "new", {"GB/new.gb": gb(rnd)})])
    quiet = fill(card, source, plan, Watch(), partition=2)
    said = " ".join(q.sentence for q in quiet.questions)
    assert "4 pieces of litter that desktops have left on the card" in said
    assert "1 file came preinstalled" in said
    assert "2 folders of this plan are not on the card yet" in said
    found = fill(card, source, plan, Watch(), partition=2, answers={
        "litter there": "sweep them", "preinstalled": "take them away", "skeleton": "make them"})
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    after = on(card)
    assert set(before) - set(after) == {"gb/demo 1.gb", "gb/x.tmp", "._a", "gb/._b", ".Trashes/501/c"}
    assert set(after) - set(before) == {"gb/new.gb"}
    assert fill(card, source, plan, Watch(), partition=2).sheet is None


def test_folders_alone_are_made_on_an_empty_card(bench):
    card = fresh(bench)
    found = regroup_under(card, PLAN, partition=2, answers={"skeleton": "make them"})
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    assert regroup_under(card, PLAN, partition=2).questions == ()


def test_a_folder_is_asked_once_and_known_afterwards(tmp_path, bench):
    """`ps` full of nothing that tells: asked; the answer is the card's own from then on."""
    card, rnd = fresh(bench), random.Random(2)
    laid(card, bench, Sources([make(tmp_path / "old", {"ps/x.bin": b"x", "gb/a.gb": gb(rnd), "gb/b.gb": gb(rnd),
                                                      "nes/n.nes": b"NES\x1a\x01\1\0\0" + bytes(8 + 24576),
                                                      "sms/a.sms": bytes(0x7FF0) + b"TMR SEGA" + bytes(7) + b"\x4c"})]))
    asked = choose_plan(card, 2, shipped(), bench.state)
    question = next(q for q in asked.questions if q.key == "folder is ps")
    assert question.answers[0] == "ask me later"
    assert "psx" in question.answers
    choose_plan(card, 2, shipped(), bench.state, answers={"folder is ps": "psx"})
    known = choose_plan(card, 2, shipped(), bench.state)
    assert not [q for q in known.questions if q.key == "folder is ps"]
    assert known.plan.folder_of("psx") == "ps"


def test_saves_of_a_card_that_has_taught_no_place_for_them_go_by_a_plan_only_where_it_is_that_plan(tmp_path, bench):
    """Folders as a shipped plan calls them: its place for saves; folders of somebody's own: none is guessed."""
    rnd = random.Random(6)
    for names, place in ((("gb", "gba", "nes", "lynx"), "{root}/{folder}/{stem}.sav"),
                         (("my boys", "advance", "famicom things", "cats"), "")):
        card = fresh(bench)
        tree = {f"{folder}/Hill {k}.{SAMPLES[code][0]}": SAMPLES[code][1](rnd) for folder, code in zip(
            names, ("gb", "gba", "nes", "lynx"), strict=True) for k in range(4)}
        make(tmp_path / names[0], tree)
        paths = {str(tmp_path / names[0] / path): path for path in tree}
        step = PutFiles(2, tuple(paths), places=tuple(paths.values()))
        run(JobSheet((step,), None, reference(card)), bench, Watch(), typed_tag=card.tag)
        plan = choose_plan(card, 2, shipped(), bench.state).plan
        assert (plan.saves.place if plan.saves else "").replace("{root}/", "") == place.replace("{root}/", ""), names


def test_an_empty_card_takes_the_plan_of_the_card_that_is_brought_in(tmp_path, bench):
    first, rnd = fresh(bench), random.Random(3)
    top = make(tmp_path / "x", {f"{code}/Hill {k}.{SAMPLES[code][0]}": SAMPLES[code][1](rnd)
                                for code in ("gb", "nes", "gba", "lynx") for k in range(4)})
    filled(first, bench, Sources([top]), shipped()["long-names-saves-apart"])
    blocks = card_with("fat32", 4, acts=0)
    put_card(bench, "two", len(blocks.data), bytes(blocks.data), name="Quillon")
    choice = choose_plan(bench.shelf.find("Quillon"), 1, shipped(), bench.state, like=first)
    assert choice.plan.folder_of("nes") == "roms/famicom"
    assert choice.plan.name == "as Pipkin has it"


def test_a_card_on_which_nothing_tells_asks_for_its_plan_by_name(tmp_path, bench):
    blocks = card_with("fat32", 4, acts=0)
    put_card(bench, "two", len(blocks.data), bytes(blocks.data), name="Quillon")
    card, names = bench.shelf.find("Quillon"), {plan.name for plan in shipped().values()}
    top = make(tmp_path / "x", {"games/Hill.gb": gb(random.Random(5))})
    for answers, folder in (({}, None), ({"plan": "upper-case short codes"}, "Roms/GB")):
        choice = choose_plan(card, 1, shipped(), bench.state, answers=answers)
        found = fill(card, Sources([top]), choice, Watch(), partition=1, answers=answers)
        assert found.questions[0].key == "plan"
        assert set(found.questions[0].answers) == names
        (game,) = [each for each in found.sorted.placed if each.file.system == "gb"]
        assert folder is None or game.to == f"{folder}/Hill.gb"


def test_one_folder_that_is_certain_is_the_plan_of_the_card(tmp_path, bench):
    card, rnd = fresh(bench), random.Random(4)
    laid(card, bench, Sources([make(tmp_path / "x", {f"my boys/Hill {k}.gb": gb(rnd) for k in range(4)})]))
    choice = choose_plan(card, 2, shipped(), bench.state)
    assert (choice.plan.name, choice.plan.folder_of("gb")) == ("as this card has it", "my boys")


def put_raw(card, bench, top, names) -> None:
    step = PutFiles(2, tuple(str(top / name) for name in names), places=tuple(names))
    run(JobSheet((step,), None, reference(card)), bench, Watch(), typed_tag=card.tag)


def test_a_wanted_system_file_is_taken_from_a_backup_under_another_name(tmp_path, bench):
    """Same size, other contents: not taken; the right one of another card: taken, unless it is said otherwise."""
    rnd = random.Random(4)
    boot, wrong = rnd.randbytes(5000), rnd.randbytes(5000)
    first = fresh(bench)
    laid(first, bench, Sources([make(tmp_path / "old", {"stuff/boot old.bin": boot, "stuff/a wrong one.bin": wrong})]))
    run(JobSheet((KeepCard(),), reference(first)), bench, Watch())
    blocks = card_with("fat32", 4, acts=0)
    put_card(bench, "two", len(blocks.data), bytes(blocks.data), name="Quillon")
    card = bench.shelf.find("Quillon")
    plan = parse_plan(f'name = "m"\n[systems]\ngb = {{folder = "gb"}}\n[[wants]]\nfile = "boot.bin"\nsystems = ["gb"]\n'
                      f'places = ["system", "gb"]\nsize = 5000\ndigests = ["crc32:{zlib.crc32(boot):08x}"]\n', "m.toml")
    source = Sources([make(tmp_path / "new", {"GB/new.gb": gb(rnd)})])
    bare = fill(card, source, plan, Watch(), partition=1)
    assert "boot.bin is missing for gb; 1 game waits for it." in [q.sentence for q in bare.questions]
    without = fill(card, source, plan, Watch(), partition=1, bench=bench, answers={"want boot.bin": "go on without"})
    assert "boot.bin is missing for gb; 1 game waits for it. The crate has it as “boot old.bin”, compared." in [
        q.sentence for q in without.questions]
    wanted, = wanted_on(card, 1, plan, bench)
    assert (wanted.there, wanted.gone, wanted.held) == (
        (), ("system/boot.bin", "gb/boot.bin"), "The crate has it as “boot old.bin”, compared.")
    found = fill(card, source, plan, Watch(), partition=1, bench=bench)
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    assert on(card, 1)["system/boot.bin"] == on(card, 1)["gb/boot.bin"] == boot
    assert wanted_on(card, 1, plan, bench)[0].sentence == \
        "boot.bin: on the card at system/boot.bin and gb/boot.bin; 2 games of gb there."


def test_room_behind_the_volume_is_offered_and_taken_first(tmp_path, bench):
    """60 MiB do not fit into 34; grown first in the same job, they do."""
    put_card(bench, "one", 400 * MIB, handheld(48 * MIB).data, name="Pipkin")
    card = bench.shelf.find("Pipkin")
    top = make(tmp_path / "x", {f"GB/Hill {k}.gb": gb(random.Random(k)) + bytes(20 * MIB) for k in range(3)})
    full = fill(card, Sources([top]), PLAN, Watch(), partition=2)
    assert full.sheet is None
    assert "352 MiB behind GAMES are not used." in [q.sentence for q in full.questions]
    found = fill(card, Sources([top]), PLAN, Watch(), partition=2, answers={"grow": "grow it first"})
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    assert sum(path.startswith("gb/Hill") for path in on(card)) == 3
    assert not [q for q in fill(card, Sources([top]), PLAN, Watch(), partition=2).questions if q.key == "grow"]
