"""Every step: forecast and run agree, files stay, a card pulled at any write is taken back."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import msgspec
import pytest

from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import MapKind, edits, read_map, write_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.volumes import Kind, Making, Seat, Traits, edit, format_for, open_volume
from mosscrate.core.watch import Watch
from tests.cards import MIB, fill, handheld, some_files
from tests.journals import cut_short, taken_back
from tests.volumes import WHEN, tree

SIZE = 72 * MIB
PARTS = (("fat16", 9, "PEAT"), ("ext4", 12, "STATE"), ("exfat", 12, "GAMES"))


def put_in(blocks, files: dict) -> None:
    """Files and folders into a volume of any kind."""
    editor = edit(blocks)
    for path, data in files.items():
        editor.add_folder(path) if data is None else editor.add_file(path, data, Traits(WHEN, comment="kept"))
    editor.commit()


def card(kind: MapKind = MapKind.MBR, *, tail: int = 30) -> MemoryBlocks:
    """Three partitions with gaps of 2 MiB, the rest free."""
    blocks = MemoryBlocks(bytes(SIZE), name="Card")
    map_ = edits.new_map(kind, SIZE, 512)
    at = 2 * MIB
    for fs, length, label in PARTS:
        map_, part = edits.added(map_, SIZE, start=at, length=length * MIB, kind=fs, label=label, alignment=MIB)
        window = Window(blocks, part.start, part.length)
        block = 512 if fs.startswith("fat") else 1024
        format_for(fs).make(window, Making(fs, label, block, made=WHEN, seat=Seat(part.start // 512)))
        put_in(window, some_files(len(label), 12, 3000))
        at = part.end + 2 * MIB
    write_map(blocks, map_)
    return blocks


def trees(blocks) -> dict[str, dict]:
    """Label: files, of every volume."""
    found = {}
    for look in survey(blocks).partitions:
        if look.volume and look.volume.used is not None:
            window = Window(straight(blocks), look.partition.start, look.partition.length)
            found[look.volume.label or str(look.index)] = {p: v[:2] for p, v in tree(window).items()}
    return found


def shape(layout) -> list[tuple]:
    return [(p.index, p.partition.start, p.partition.length, p.partition.type, p.partition.flags,
             p.volume.kind if p.volume else "", p.volume.label if p.volume else "") for p in layout.partitions]


@dataclass(frozen=True)
class Case:
    name: str
    step: s.AnyStep
    keeps: tuple[str, ...] = ("PEAT", "STATE", "GAMES")
    kinds: tuple[MapKind, ...] = (MapKind.MBR, MapKind.GPT)


CASES = (
    Case("move right, overlapping", s.MovePartition(3, 32 * MIB)), Case("move far", s.MovePartition(3)),
    Case("move left, overlapping", s.MovePartition(2, 12 * MIB)), Case("grow the last", s.GrowPartition(3)),
    Case("grow an inner one", s.GrowPartition(2, 13 * MIB)), Case("shrink exFAT", s.ShrinkPartition(3, 6 * MIB)),
    Case("shrink ext4", s.ShrinkPartition(2, 9 * MIB)), Case("shrink FAT", s.ShrinkPartition(1, 6 * MIB)),
    Case("label", s.LabelPartition(2, "MOSS"), ("PEAT", "GAMES")), Case("hide", s.FlagPartition(1, "hidden")),
    Case("remove", s.RemovePartition(2), ("PEAT", "GAMES")), Case("add", s.AddPartition("ext4", label="NEW")),
    Case("add FAT", s.AddPartition("fat", 20 * MIB, label="NEW")),
    Case("format", s.FormatPartition(2, "fat16", "FRESH"), ("PEAT", "GAMES")),
    Case("rebuild as ext4", s.RebuildPartition(3, "ext4")), Case("rebuild as exFAT", s.RebuildPartition(2, "exfat")),
    Case("rebuild FAT with other clusters", s.RebuildPartition(1, "", 1024)),
    Case("rebuild to fill", s.RebuildPartition(3, fills=True)),
    Case("rebuild larger, as another kind", s.RebuildPartition(2, "exfat", size=13 * MIB)),
    Case("logical drives", s.FillWithDrives(9 * MIB, 70 * MIB, "fat12", "D"), kinds=(MapKind.MBR,)),
    Case("swap bytes", s.SwapBytes()), Case("empty", s.EmptyCard(), ()), Case("new map", s.NewMap("gpt"), ()),
    Case("remove files", s.RemoveFiles(2, ("roms",)), ("PEAT", "GAMES")),
    Case("rename", s.RenameFile(3, "roms/gb", "EMPTY/gb"), ("PEAT", "STATE")),
    Case("regroup", s.RegroupFiles(3, ("roms/gb",), ("EMPTY/new/gb",)), ("PEAT", "STATE")),
    Case("make a folder", s.MakeFolder(1, "saves/gb"), ("STATE", "GAMES")),
)


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.name)
def test_a_step_does_what_its_forecast_says_and_keeps_every_other_file(case):
    for kind in case.kinds:
        blocks = card(kind)
        before, files = survey(blocks), trees(blocks)
        seen = forecast(JobSheet((case.step,)), None, before)
        assert seen.problems == ()
        assert seen.lines[0].sentence
        done = perform(case.step, blocks, None, Watch())
        assert done.sentence
        after = survey(blocks, thorough=True)
        assert shape(after) == shape(seen.layout)
        assert after.container == seen.layout.container
        assert [f for f in after.findings if f.severity in ("problem", "warning")] == []
        now = trees(blocks)
        for label in case.keeps:
            assert now[label] == files[label], label


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.name)
def test_a_card_pulled_at_any_write_of_a_step_is_taken_back(case, tmp_path):
    before = bytes(card().data)
    count = FaultyBlocks(MemoryBlocks(before), Faults())
    used = cut_short(case.step, count, None, tmp_path / "whole")
    assert used <= forecast(JobSheet((case.step,)), None, survey(MemoryBlocks(before))).journal
    assert Log(tmp_path / "whole").load(Log(tmp_path / "whole").folder.jobs()[0]).status == "done"
    files, layout = trees(MemoryBlocks(before)), shape(survey(MemoryBlocks(before)))
    n = count.writes
    cuts = range(1, n + 1) if n < 24 else {*range(1, 8), *range(8, n, n // 12), n - 1, n}
    for cut in cuts:
        medium = MemoryBlocks(before)
        cut_short(case.step, FaultyBlocks(medium, Faults(pulled_after_writes=cut)), None, tmp_path / f"{cut}")
        taken_back(medium, tmp_path / f"{cut}")
        assert (trees(medium), shape(survey(medium))) == (files, layout), f"cut after write {cut}"
        if case.step.is_undone_exactly:
            assert bytes(medium.data) == before


def test_a_partition_in_the_middle_grows_once_the_ones_behind_it_have_moved():
    blocks = card()
    files = trees(blocks)
    for step in (s.MovePartition(3), s.GrowPartition(2)):
        perform(step, blocks, None, Watch())
    layout = survey(blocks, thorough=True)
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
    assert (trees(blocks), layout.partition(2).partition.end) == (files, layout.partition(3).partition.start)


def test_what_cannot_be_is_refused_before_anything_is_written():
    blocks = card()
    before = bytes(blocks.data)
    for step in (s.MovePartition(3, 20 * MIB), s.MovePartition(9), s.GrowPartition(1, 40 * MIB),
                 s.ShrinkPartition(2, MIB), s.LabelPartition(1, "a label that is too long"),
                 s.FlagPartition(2, "hidden"), s.AddPartition("zfs"),
                 s.AddPartition("ext4", 60 * MIB), s.RemovePartition(4), s.RebuildPartition(1, "fat32"),
                 s.RemoveFiles(1, ("not there",)), s.RenameFile(1, "roms", "roms/x"),
                 s.FormatPartition(1, "fat32"), s.NewMap("apple")):
        with pytest.raises(FitError):
            perform(step, blocks, None, Watch())
        assert bytes(blocks.data) == before, step


def test_files_of_this_computer_are_put_without_litter_and_old_ones_are_kept(tmp_path):
    (tmp_path / "tree" / "sub").mkdir(parents=True)
    for name in ("tree/a.dtb", "tree/._a.dtb", "tree/sub/Thumbs.db", "tree/sub/b.sav"):
        (tmp_path / name).write_bytes(name.encode())
    for index in (1, 2, 3):
        blocks = card()
        put = s.PutFiles(index, (str(tmp_path / "tree"),), "new place", s.Existing.REFUSE)
        perform(put, blocks, None, Watch())
        label = PARTS[index - 1][2]
        assert {p for p in trees(blocks)[label] if p.startswith("new")} == {
            "new place", "new place/tree", "new place/tree/a.dtb", "new place/tree/sub", "new place/tree/sub/b.sav"}
        before = bytes(blocks.data)
        with pytest.raises(FitError, match="is there already"):
            perform(put, blocks, None, Watch())
        assert bytes(blocks.data) == before
        again = s.PutFiles(index, (str(tmp_path / "tree/a.dtb"),), "new place/tree", s.Existing.KEEP_BOTH)
        same = trees(blocks)
        perform(again, blocks, None, Watch())
        assert trees(blocks) == same                         # the same bytes need no second file
        (tmp_path / "tree/a.dtb").write_bytes(b"another")
        perform(again, blocks, None, Watch())
        assert len([p for p in trees(blocks)[label] if "/a" in p and p.endswith(".dtb")]) == 2
        (tmp_path / "tree/a.dtb").write_bytes(b"tree/a.dtb")
        renamed = s.PutFiles(index, (str(tmp_path / "tree/a.dtb"),), "", s.Existing.REFUSE, "panel.dtb")
        perform(renamed, blocks, None, Watch())
        assert trees(blocks)[label]["panel.dtb"][1] == b"tree/a.dtb"


def test_an_old_file_shows_its_day_where_names_have_eight_letters_too(tmp_path):
    blocks = MemoryBlocks(bytes(20 * MIB))
    format_for("gemdos").make(Window(blocks, 0, 20 * MIB), Making("gemdos", "BOOT"))
    put = s.PutFiles(0, (str(tmp_path / "README.TXT"),), "", s.Existing.KEEP_BOTH)
    for text in (b"first", b"second", b"third"):
        (tmp_path / "README.TXT").write_bytes(text)
        said = forecast(JobSheet((put,)), None, survey(blocks), target_blocks=blocks).lines[0].note
        perform(put, blocks, None, Watch())
    assert "README.TXT is there already" in said
    day = f"{datetime.now():%m%d}"
    volume = open_volume(blocks)
    there = {e.name: b"".join(volume.read_file(e)) for e in volume.tree().entries}
    assert there == {"README.TXT": b"third", f"READ{day}.TXT": b"first", f"REA{day}2.TXT": b"second"}


def test_files_of_another_card_are_copied_with_their_names():
    source, target = handheld(40 * MIB), card()
    for index in (2, 3):
        perform(s.CopyFiles(2, index, "from the old card"), target, source, Watch())
    games = {f"from the old card/{p}": v for p, v in trees(source)["GAMES"].items()}
    for label in ("STATE", "GAMES"):
        copied = {p: v for p, v in trees(target)[label].items() if p.startswith("from the old card/")}
        assert copied == games


def test_a_folder_is_copied_between_partitions_of_one_card_and_by_its_own_rules_where_it_is_already():
    blocks = card()
    files = trees(blocks)
    step = s.CopyFiles(3, 2, "from games", "roms/gb")
    assert forecast(JobSheet((step,)), None, survey(blocks)).problems == ()
    perform(step, blocks, None, Watch())
    wanted = {f"from games/gb{p.removeprefix('roms/gb')}": v for p, v in files["GAMES"].items()
              if p == "roms/gb" or p.startswith("roms/gb/")}
    now = trees(blocks)["STATE"]
    assert {p: v for p, v in now.items() if p.startswith("from games/")} == wanted
    assert len(wanted) > 2
    with pytest.raises(FitError, match="already"):
        perform(step, blocks, None, Watch())
    perform(msgspec.structs.replace(step, existing=s.Existing.REPLACE), blocks, None, Watch())
    assert trees(blocks)["STATE"] == now
    perform(s.CopyFiles(3, 2, "gb", "roms/gb", contents=True), blocks, None, Watch())
    flat = {p.removeprefix("gb/"): v for p, v in trees(blocks)["STATE"].items() if p.startswith("gb/")}
    assert flat == {p.removeprefix("from games/gb/"): v for p, v in wanted.items() if p != "from games/gb"}
    onto_itself = s.CopyFiles(2, 2)
    assert "into itself" in forecast(JobSheet((onto_itself,)), None, survey(blocks)).problems[0].sentence
    for bad, why in ((onto_itself, "into itself"), (s.CopyFiles(3, 2, "", "nowhere"), "no “nowhere”")):
        with pytest.raises(MossError, match=why):
            perform(bad, blocks, None, Watch())


@pytest.mark.parametrize("index", [1, 2, 3])
def test_files_and_folders_are_copied_on_their_own_volume_and_never_onto_themselves(index):
    blocks = card()
    label = ("PEAT", "STATE", "GAMES")[index - 1]
    old = trees(blocks)[label]
    first, *others = [p for p, v in sorted(old.items()) if v[1]]
    second = next(p for p in others if old[p][1] != old[first][1])
    perform(s.CopyFiles(index, index, existing=s.Existing.KEEP_BOTH, only=(first,), places=(second,)), blocks, None,
            Watch())
    now = trees(blocks)[label]
    (aside,) = now.keys() - old.keys()
    assert (now[second][1], now[aside][1]) == (old[first][1], old[second][1])
    assert {p: v[1] for p, v in now.items() if p not in (second, aside)} == {
        p: v[1] for p, v in old.items() if p != second}
    perform(s.CopyFiles(index, index, "roms/again", "roms/gb", contents=True), blocks, None, Watch())
    after = trees(blocks)[label]
    assert {p.removeprefix("roms/again/"): v[1] for p, v in after.items() if p.startswith("roms/again/")} == {
        p.removeprefix("roms/gb/"): v[1] for p, v in now.items() if p.startswith("roms/gb/")}
    for bad, why in ((s.CopyFiles(index, index, only=(first,), places=(first,)), "already"),
                     (s.CopyFiles(index, index, "roms", "roms/gb"), "already"),
                     (s.CopyFiles(index, index, "roms/gb/x", "roms/gb"), "into itself"),
                     (s.CopyFiles(index, index, "roms/gb", "roms/gb", contents=True), "into itself")):
        with pytest.raises(FitError, match=why):
            perform(bad, blocks, None, Watch())
    assert trees(blocks)[label] == after


@pytest.mark.parametrize("kind", ["", "exfat", "ext4", "fat32"])
def test_single_partitions_are_brought_over_exactly_or_made_anew(kind):
    source = card(MapKind.GPT)
    target = MemoryBlocks(bytes(160 * MIB), name="Target")
    perform(s.NewMap("mbr"), target, None, Watch())
    for index in (1, 2, 3):
        step = s.CopyPartition(index, kind, 40 * MIB if kind or index > 1 else None)
        seen = forecast(JobSheet((step,)), survey(source), survey(target))
        assert seen.problems == ()
        perform(step, target, source, Watch())
        assert shape(survey(target)) == shape(seen.layout)
    layout = survey(target, thorough=True)
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
    assert [p.volume.kind for p in layout.partitions] == ([kind] * 3 if kind else ["fat16", "ext4", "exfat"])
    assert trees(target) == trees(source)


@pytest.mark.parametrize("kind", ["fat16", "exfat"])
def test_attributes_stay_when_a_volume_is_made_anew(kind):
    blocks = card()
    editor = edit(Window(blocks, read_map(blocks).partition(1).start, 9 * MIB))
    editor.add_file("IO.SYS", b"boot", Traits(WHEN, is_hidden=True, attributes=7))
    editor.add_file("plain.txt", b"x", Traits(WHEN))
    editor.commit()
    perform(s.RebuildPartition(1, kind, 2048), blocks, None, Watch())
    found = {e.path: e.attributes for e in open_partition(blocks, 1).tree().entries}
    assert (found["IO.SYS"], found["plain.txt"]) == (7, 32)


def test_what_is_lost_in_another_kind_is_told_first():
    blocks = card()
    perform(s.MakeFolder(2, "x"), blocks, None, Watch())
    editor = edit(Window(blocks, read_map(blocks).partition(2).start, 12 * MIB))
    editor.add_link("x/link", "target")
    editor.add_file("what? a name", b"1", Traits(WHEN, owner=(1000, 1000)))
    editor.add_file("x/CASE", b"1")
    editor.add_file("x/case", b"2")
    editor.commit()
    said = " ".join(f.sentence for f in shortened(together(forecast(
        JobSheet((s.RebuildPartition(2, "exfat"),)), None, survey(blocks), target_blocks=blocks))))
    for word in ("Owners", "1 link", "“what_ a name”", "“case (2)”"):
        assert word in said
    perform(s.RebuildPartition(2, "exfat"), blocks, None, Watch())
    assert {"what_ a name", "x/CASE", "x/case (2)"} <= trees(blocks)["STATE"].keys()


def test_an_image_a_little_too_large_fits_once_its_last_volume_is_shrunk():
    for kind in (MapKind.MBR, MapKind.GPT):
        source = card(kind)
        perform(s.GrowPartition(3), source, None, Watch())
        target = MemoryBlocks(b"\x33" * (SIZE - 5 * MIB - 512), name="Smaller")
        before = bytes(source.data)
        seen = forecast(JobSheet((s.WriteFitted(),)), survey(source), survey(target))
        assert seen.problems == ()
        perform(s.WriteFitted(), target, source, Watch())
        after = survey(target, thorough=True)
        assert shape(after) == shape(seen.layout)
        assert [f for f in after.findings if f.severity in ("problem", "warning")] == []
        assert (trees(target), bytes(source.data)) == (trees(source), before)


def test_a_bare_volume_is_grown_filled_and_rebuilt_without_a_map():
    blocks = MemoryBlocks(bytes(12 * MIB))
    format_for("ext4").make(Window(blocks, 0, 9 * MIB), Making("ext4", "BARE", 1024, made=WHEN))
    perform(s.GrowPartition(0), blocks, None, Watch())
    perform(s.MakeFolder(0, "saves"), blocks, None, Watch())
    perform(s.RebuildPartition(0, "fat16"), blocks, None, Watch())
    layout = survey(blocks, thorough=True)
    assert (layout.map_kind, layout.partitions[0].volume.kind, layout.partitions[0].volume.label) == \
        (MapKind.NONE, "fat16", "BARE")
    assert trees(blocks) == {"BARE": {"saves": ("folder", None)}}
    assert read_map(blocks).partitions[0].length == 12 * MIB
    fill(blocks, {"one.sav": b"1"})


@pytest.mark.parametrize("kind", ["ofs", "ffs-intl"])
def test_a_bare_volume_with_its_root_in_the_middle_comes_whole_into_a_map_of_cylinders(kind):
    lone, drive = MemoryBlocks(bytes(16 * MIB), name="Lone"), MemoryBlocks(bytes(64 * MIB), name="Drive")
    format_for(kind).make(lone, Making(kind, "LONE", made=WHEN))
    put_in(lone, {p: d for p, d in some_files(3, 20, 3000).items() if max(map(len, p.split("/"))) <= 30})
    perform(s.NewMap("rdb"), drive, None, Watch())
    step = s.CopyPartition(0)
    seen = forecast(JobSheet((step,)), survey(lone), survey(drive))
    assert "made anew" in seen.lines[0].sentence
    perform(step, drive, lone, Watch())
    after = survey(drive, thorough=True)
    assert shape(after) == shape(seen.layout)
    assert after.partition(1).partition.length >= lone.size
    assert [f for f in after.findings if f.severity in ("problem", "warning")] == []
    assert trees(drive) == trees(lone)
    assert {e.comment for e in open_partition(drive, 1).tree().entries if e.kind == Kind.FILE} == {"kept"}
    twin = MemoryBlocks(bytes(64 * MIB), name="Twin")
    perform(s.NewMap("rdb"), twin, None, Watch())
    perform(s.CopyPartition(1), twin, drive, Watch())            # the same length now: to the byte
    same = [bytes(m.data[p.start:p.end]) for m in (drive, twin) for p in read_map(m).partitions]
    assert same[0] == same[1]
