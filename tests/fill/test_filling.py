"""Filling a card: each file where the plan says, twice changes nothing, and nothing of the person's is lost."""

from __future__ import annotations

import random
import zipfile
import zlib

import pytest

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import bring
from mosscrate.core.fill.plans import parse_plan, shipped
from mosscrate.core.sheet.planning.filling import Sources, fill, regroup_under
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import PutFiles
from mosscrate.core.sheet.steps.files.regroup import in_turn
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.core.test_store import card_with
from tests.fill.samples import SAMPLES

SYSTEMS = ("gb", "gba", "nes", "sms", "md", "snes", "ngp")


@pytest.fixture
def library(tmp_path):
    """Games in folders that are called otherwise, a zip, saves, system files, litter, something strange."""
    top, rnd = tmp_path / "library", random.Random(3)
    folders = ("GB", "Advance", "NES roms", "Master System", "misc", "Super", "pocket")
    for folder, code in zip(folders, SYSTEMS, strict=True):
        (top / folder).mkdir(parents=True)
        ending, build = SAMPLES[code]
        for name in ("Hill Run", "Velvet Weaver"):
            (top / folder / f"{name} {code}.{'bin' if folder == 'misc' else ending}").write_bytes(build(rnd))
    with zipfile.ZipFile(top / "NES roms" / "Packed.zip", "w") as packed:
        packed.writestr("Packed.nes", SAMPLES["nes"][1](rnd))
    (top / "GB" / "Hill Run gb.sav").write_bytes(rnd.randbytes(8192))
    (top / "bios").mkdir()
    (top / "bios" / "disc.bin").write_bytes(rnd.randbytes(4096))
    (top / "GB" / "Thumbs.db").write_bytes(b"litter")
    (top / "GB" / "strange.xyz").write_bytes(b"what is this")
    (top / "lynx").mkdir()
    (top / "lynx" / "Tide.lnx").write_bytes(SAMPLES["lynx"][1](rnd))
    return top


def on(card, index: int = 2) -> dict[str, bytes]:
    with card.open() as blocks:
        volume = open_partition(blocks, index)
        return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}


def fresh(bench, size: int = 200 * MIB):
    put_card(bench, "one", size, handheld(size).data, name="Pipkin")
    return bench.shelf.find("Pipkin")


@pytest.mark.parametrize("plan", shipped())
def test_each_file_comes_where_the_plan_says_and_twice_changes_nothing(plan, library, bench):
    card, chosen = fresh(bench), shipped()[plan]
    before = on(card)
    filling = fill(card, Sources([library]), chosen, Watch(), partition=2)
    assert {p.file.path.name: p.file.system for p in filling.sorted.placed if p.file.role == "game"} == {
        **{f"{name} {code}.{'bin' if code == 'md' else SAMPLES[code][0]}": code for code in SYSTEMS
           for name in ("Hill Run", "Velvet Weaver")}, "Packed.zip": "nes", "Tide.lnx": "lynx"}
    if filling.sheet is None:
        pytest.skip("nothing of it is opened by this plan")
    run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    after = on(card)
    assert {path: data for path, data in after.items() if path in before} == before
    written = {p.to: b"".join(p.origin.read()) for p in filling.sorted.coming}
    assert any(p.is_unpacked for p in filling.sorted.coming) == ("zip" not in chosen.packings("nes"))
    folded = {path.casefold(): data for path, data in after.items()}
    assert {to.casefold(): data for to, data in written.items()}.items() <= folded.items()
    assert len(after) == len(before) + len(written)
    for each in filling.sorted.coming:
        if each.file.role == "game":
            assert each.to.rpartition("/")[0] == chosen.folder_of(each.file.system)
    again = fill(card, Sources([library]), chosen, Watch(), partition=2)
    assert again.sheet is None
    assert {p.act for p in again.sorted.placed} == {"there already", "left out"}


def test_what_is_there_in_another_state_stays_beside(library, bench):
    card, plan = fresh(bench), shipped()["short-codes-saves-beside"]
    run(fill(card, Sources([library]), plan, Watch(), partition=2).sheet, bench, Watch(), typed_tag=card.tag)
    old = on(card)["gb/Hill Run gb.sav"]
    further = b"further on".ljust(16) * 512
    (library / "GB" / "Hill Run gb.sav").write_bytes(further)
    filling = fill(card, Sources([library]), plan, Watch(), partition=2)
    assert [p.file.path.name for p in filling.sorted.coming] == ["Hill Run gb.sav"]
    assert "1 save is on the card with other contents" in filling.sorted.questions[0].sentence
    run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    saves = {path: data for path, data in on(card).items() if path.startswith("gb/Hill Run gb") and ".sav" in path}
    assert saves.pop("gb/Hill Run gb.sav") == old
    assert list(saves.values()) == [further]
    assert fill(card, Sources([library]), plan, Watch(), partition=2).sheet is None
    chosen = fill(card, Sources([library]), plan, Watch(), partition=2, answers={
        "both save": "use the ones brought in"})
    run(chosen.sheet, bench, Watch(), typed_tag=card.tag)
    assert on(card)["gb/Hill Run gb.sav"] == further
    assert old in on(card).values()


def test_questions_have_answers_and_what_does_not_fit_is_not_written(library, bench):
    card, plan = fresh(bench, 60 * MIB), shipped()["numbered"]
    (library / "open").mkdir()
    (library / "open" / "Tide.uze").write_bytes(SAMPLES["uzebox"][1](random.Random(1)))
    first = fill(card, Sources([library]), plan, Watch(), partition=2)
    assert {"litter", "folder uzebox", "unknown GB"} <= {q.key for q in first.sorted.questions}
    answered = fill(card, Sources([library]), plan, Watch(), partition=2, answers={"folder uzebox": "make one"})
    assert next(p.to for p in answered.sorted.placed if p.file.system == "uzebox") == "15 uzebox/Tide.uze"
    large = library / "GB" / "Large.gb"
    data = bytearray(SAMPLES["gb"][1](random.Random(1)))
    large.write_bytes(bytes(data) + bytes(80 * MIB))
    full = fill(card, Sources([library]), shipped()["short-codes-saves-beside"], Watch(), partition=2)
    assert full.sheet is None
    said = " ".join(q.sentence for q in full.sorted.questions)
    assert "do not fit. Without GB" in said


def test_several_groups_are_left_out_together_where_none_alone_is_enough(bench, tmp_path):
    rnd, card = random.Random(7), fresh(bench, 60 * MIB)
    for name in ("one", "two", "three"):
        (tmp_path / "x" / name).mkdir(parents=True)
        (tmp_path / "x" / name / f"{name}.gb").write_bytes(SAMPLES["gb"][1](rnd) + bytes(45 * MIB))
    (tmp_path / "x" / "small").mkdir()
    (tmp_path / "x" / "small" / "small.gb").write_bytes(SAMPLES["gb"][1](rnd))
    full = fill(card, Sources([tmp_path / "x"]), shipped()["short-codes-saves-beside"], Watch(), partition=2)
    question = next(q for q in full.sorted.questions if "do not fit" in q.sentence)
    assert question.key.count(" + ") == 1
    found = fill(card, Sources([tmp_path / "x"]), shipped()["short-codes-saves-beside"], Watch(), partition=2,
                 answers={question.key: "leave out"})
    assert found.sheet is not None
    assert len(found.sorted.coming) == 2


@pytest.mark.parametrize("kind", ["fat16", "exfat", "ext4", "ffs-intl"])
def test_volumes_of_other_kinds_are_filled_too(kind, library, bench, tmp_path):
    blocks = card_with(kind, 4, acts=20)
    put_card(bench, "two", len(blocks.data), bytes(blocks.data), name="Other")
    card = bench.shelf.find("Other")
    filling = fill(card, Sources([library / "GB"]), shipped()["short-codes-saves-beside"], Watch(), partition=1)
    assert filling.sheet is not None
    run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    with card.open() as opened:
        volume = open_partition(opened, 1)
        there = {e.path: e for e in volume.tree().entries}
        for each in filling.sorted.coming:
            assert b"".join(volume.read_file(there[each.to])) == b"".join(each.origin.read())


def test_the_same_games_under_another_plan_and_back(library, bench):
    """By renaming alone: every file is there, saves go with their games, and back they are where they were."""
    card, plans = fresh(bench), shipped()
    first, second = plans["short-codes-saves-beside"], plans["long-names-saves-apart"]
    run(fill(card, Sources([library]), first, Watch(), partition=2).sheet, bench, Watch(), typed_tag=card.tag)
    before = on(card)
    there = regroup_under(card, second, partition=2, now=first)
    run(there.sheet, bench, Watch(), typed_tag=card.tag)
    moved = on(card)
    assert {"roms/gameboy/Hill Run gb.gb", "saves/gameboy/Hill Run gb.srm"} <= set(moved)
    assert "roms/megadrive/Hill Run md.bin" in moved
    assert sorted(moved.values()) == sorted(before.values())
    assert regroup_under(card, second, partition=2, now=second).sheet is None
    run(regroup_under(card, first, partition=2, now=second).sheet, bench, Watch(), typed_tag=card.tag)
    assert on(card) == before


def test_system_files_go_to_every_place_that_wants_them_and_are_missed_where_they_do_not(library, bench):
    """Known by size and checksum under another name; what is missing is told with the games that wait."""
    wanted = (library / "bios" / "disc.bin").read_bytes()
    (library / "bios" / "disc.bin").rename(library / "GB" / "boot old.bin")
    text = (f'name = "mine"\n[systems]\ngb = {{folder = "gb"}}\nnes = {{folder = "nes"}}\n'
            f'[[wants]]\nfile = "disc.bin"\nsystems = ["gb"]\nplaces = ["system", "gb/boot"]\nsize = {len(wanted)}\n'
            f'digests = ["crc32:{zlib.crc32(wanted):08x}"]\n'
            f'[[wants]]\nfile = "gone.bin"\nsystems = ["gb", "nes"]\nplaces = ["system"]\n'
            f'[[wants]]\nfile = "other.bin"\nsystems = ["md"]\nplaces = ["system"]\n')
    card, plan = fresh(bench), parse_plan(text, "mine.toml")
    filling = fill(card, Sources([library]), plan, Watch(), partition=2)
    assert {p.to for p in filling.sorted.coming if "disc.bin" in p.to} == {"system/disc.bin", "gb/boot/disc.bin"}
    said = [q.sentence for q in filling.sorted.questions if q.key.startswith("want ")]
    assert said == ["gone.bin is missing for gb and nes; 5 games wait for it."]
    run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    assert on(card)["system/disc.bin"] == on(card)["gb/boot/disc.bin"] == wanted


def test_names_that_a_menu_does_not_take_are_shortened_the_same_each_time(tmp_path, bench):
    """Eight letters and three, plain; two that become one are told apart; a second time nothing is to be done."""
    top, rnd = tmp_path / "long", random.Random(4)
    (top / "GB").mkdir(parents=True)
    for name in ("Velvet Weaver of the long road", "Velvet Weaver of the long hill", "Größe", "Short"):
        (top / "GB" / f"{name}.gb").write_bytes(SAMPLES["gb"][1](rnd))
    card, plan = fresh(bench), shipped()["numbered"]
    filling = fill(card, Sources([top]), plan, Watch(), partition=2)
    names = {p.to.rpartition("/")[2] for p in filling.sorted.coming}
    assert len(names) == 4
    assert all(len(name) <= plan.names.most and name.isascii() for name in names)
    assert "3 names cannot stand there: its menu shows eight letters and three" in " ".join(
        q.sentence for q in filling.sorted.questions)
    run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    assert fill(card, Sources([top]), plan, Watch(), partition=2).sheet is None


def test_folders_that_no_one_is_sure_of_stay_unless_a_known_plan_calls_them_so(bench, tmp_path):
    """Games without the headers that their endings promise: the names alone are those of a plan."""
    top = tmp_path / "made up"
    for folder, ending in (("gb", "gb"), ("gba", "gba"), ("nes", "nes"), ("sms", "sms"), ("my box", "gb")):
        (top / folder).mkdir(parents=True)
        for number in range(4):
            (top / folder / f"Hill {number}.{ending}").write_bytes(bytes([number]) * 5000)
    card = fresh(bench)
    run(JobSheet((PutFiles(2, (str(top),), contents=True),), None, reference(card)), bench, Watch(), typed_tag=card.tag)
    found = regroup_under(card, shipped()["long-names-saves-apart"], partition=2)
    assert {place.rpartition("/")[0] for place in found.found.moves.values()} >= {"roms/gameboy", "roms/famicom"}
    assert not any(path.startswith("my box") for path in found.found.moves)


@pytest.mark.parametrize("seed", range(40))
def test_renames_find_every_place_free(seed):
    rnd = random.Random(seed)
    names = [f"file {k}" for k in range(rnd.randrange(1, 40))]
    wanted = dict(zip(names, rnd.sample([*names, *(f"new {k}" for k in range(20))], len(names)), strict=True))
    there = {name: name for name in names}
    for path, place in in_turn(wanted):
        assert place not in there
        there[place] = there.pop(path)
    assert there == {place: path for path, place in wanted.items()}


def test_links_and_hostile_names_do_not_leave_their_folder(tmp_path, bench):
    top = tmp_path / "hostile"
    (top / "GB").mkdir(parents=True)
    (top / "GB" / "out.gb").symlink_to("/etc/passwd")
    (top / "GB" / "con.gb").write_bytes(SAMPLES["gb"][1](random.Random(1)))
    (top / "GB" / "trailing. .gb ").write_bytes(SAMPLES["gb"][1](random.Random(2)))
    (top / "GB" / ("long " * 40 + ".gb")).write_bytes(SAMPLES["gb"][1](random.Random(3)))
    (top / "GB" / "bad.zip").write_bytes(b"PK\x03\x04" + bytes(100))
    brought = bring([top], Watch())
    assert "out.gb" not in {b.path.name for b in brought}
    card = fresh(bench)
    filling = fill(card, Sources([top]), shipped()["short-codes-saves-beside"], Watch(), partition=2)
    run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    assert sum(path.startswith("gb/") for path in on(card)) >= 3


def test_archives_that_lie_bombs_and_climbing_names_do_no_harm(tmp_path, bench):
    """A bomb is as large as it says and does not fit; a name in an archive is only a name; damage stops the job."""
    top, rnd = tmp_path / "packed", random.Random(5)
    (top / "NES").mkdir(parents=True)
    with zipfile.ZipFile(top / "NES" / "climbs.zip", "w") as packed:
        packed.writestr("../../etc/Climb.nes", SAMPLES["nes"][1](rnd))
    with zipfile.ZipFile(top / "NES" / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("bomb.nes", bytes(300 * MIB))
    card, plan = fresh(bench), shipped()["upper-codes"]
    full = fill(card, Sources([top]), plan, Watch(), partition=2)
    assert full.sheet is None
    assert "do not fit" in " ".join(q.sentence for q in full.sorted.questions)
    (top / "NES" / "bomb.zip").unlink()
    filling = fill(card, Sources([top]), plan, Watch(), partition=2)
    assert [p.to for p in filling.sorted.coming] == [f"{plan.folder_of('nes')}/Climb.nes"]
    damaged = bytearray((top / "NES" / "climbs.zip").read_bytes())
    damaged[200:20_000] = rnd.randbytes(19_800)
    before = on(card)
    (top / "NES" / "climbs.zip").write_bytes(bytes(damaged))
    with pytest.raises(MossError, match=r"climbs\.zip cannot be unpacked"):
        run(filling.sheet, bench, Watch(), typed_tag=card.tag)
    assert on(card) == before


@pytest.mark.parametrize(("name", "version"), [
    ("update-v2.1.3.bin", "v2.1.3"), ("firmware_1.10.upd", "1.10"), ("FW-2026-05-01.img", "2026-05-01"),
    ("panel.dtb", ""), ("a1.2b.bin", "")])
def test_an_update_alone_on_a_card_tells_the_version_to_compare(name, version, bench, tmp_path):
    (tmp_path / name).write_bytes(b"update")
    card = fresh(bench)
    step = PutFiles(2, (str(tmp_path / name),))
    said = run(JobSheet((step,), None, reference(card)), bench, Watch(), typed_tag=card.tag).done[-1].sentence
    assert ("compare that with what the device shows" in said) == bool(version)
    assert f"Its name says {version}" in said or not version
