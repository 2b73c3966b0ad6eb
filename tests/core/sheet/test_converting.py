"""Conversions: drives to bare volumes and back, one map to another, trees into other file systems and back."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks, Window, open_blocks
from mosscrate.core.blocks.swapped import swapped
from mosscrate.core.contents import survey
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, JobError, MediumError
from mosscrate.core.maps import MapKind, read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.passing import together
from mosscrate.core.sheet.planning.propose import under_another_map
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.volumes import Kind, edit, open_volume
from mosscrate.core.watch import Watch
from tests.cards import handheld
from tests.core.maps.test_ahdi import drive as ahdi_drive
from tests.core.maps.test_rdb import drive as rdb_drive
from tests.core.sheet.test_steps import card, put_in
from tests.volumes import MIB, WHEN, tree


def filled(drive: MemoryBlocks) -> MemoryBlocks:
    """Files on every partition, some of them removed again, so that free room holds old data."""
    for p in read_map(drive).partitions:
        window, rnd = Window(drive, p.start, p.length), random.Random(p.index)
        put_in(window, {"MUSIC": None, "MUSIC/OLD.SNG": rnd.randbytes(70_000)})
        put_in(window, {f"MUSIC/TUNE{k}.SNG": rnd.randbytes(k * 311) for k in range(40)})
        editor = edit(window)
        editor.remove("MUSIC/OLD.SNG")
        editor.commit()
    return drive


DRIVES = {"rdb": lambda: filled(rdb_drive()), "ahdi": lambda: filled(ahdi_drive(3, 64 * MIB))}


def run(steps, blocks, source):
    """Carry out steps, each as its forecast says."""
    for step in steps:
        seen = forecast(JobSheet((step,)), survey(source) if source else None, survey(blocks))
        assert [p.sentence for p in seen.problems] == []
        perform(step, blocks, source, Watch())
        now = survey(blocks)
        assert [(p.index, p.partition.start, p.partition.length, p.partition.type, p.volume.kind if p.volume else "")
                for p in now.partitions] == [
               (p.index, p.partition.start, p.partition.length, p.partition.type, p.volume.kind if p.volume else "")
                for p in seen.layout.partitions]
    found = survey(blocks, thorough=True)
    assert [f.sentence for f in found.findings if f.severity in ("problem", "warning")] == []
    return found


@pytest.mark.parametrize("kind", DRIVES)
def test_a_drive_taken_apart_into_bare_volumes_and_put_together_again_is_equal_to_the_byte(kind):
    drive = DRIVES[kind]()
    again = MemoryBlocks(bytes(drive.size), name="Again")
    run((s.NewMap(kind),), again, None)
    for p in read_map(drive).partitions:
        bare = MemoryBlocks(bytes(p.length), name="Bare")
        layout = run((s.CopyPartition(p.index),), bare, drive)
        assert (layout.map_kind, bytes(bare.data)) == (MapKind.NONE, drive.read(p.start, p.length))
        run((s.CopyPartition(0),), again, bare)
        back = read_map(again).partitions[-1]
        assert again.read(back.start, back.length) == drive.read(p.start, p.length)
    names = [p.name for p in survey(drive).partitions]
    assert [p.name for p in survey(again).partitions] == names


@pytest.mark.parametrize(("kind", "other", "made"), [
    ("rdb", "ahdi", "fat16"), ("ahdi", "rdb", "ffs"), ("rdb", "mbr", "fat12"), ("ahdi", "gpt", "fat12")])
def test_all_volumes_go_under_another_map_with_their_files(kind, other, made):
    drive, target = DRIVES[kind](), MemoryBlocks(bytes(96 * MIB), name="Target")
    steps = under_another_map(survey(drive), MapKind(other))
    seen = forecast(JobSheet(steps), survey(drive), survey(target), source_blocks=drive, target_blocks=target)
    assert together(seen).changed_names == {}
    layout = run(steps, target, drive)
    assert (layout.map_kind, {p.volume.kind for p in layout.partitions} - {"fat16"}) == (MapKind(other), {made} - {
        "fat16"})
    for old, new in zip(read_map(drive).partitions, layout.partitions, strict=True):
        before = {p: v[:2] for p, v in tree(Window(drive, old.start, old.length)).items()}
        window = Window(target, new.partition.start, new.partition.length)
        assert {p: v[:2] for p, v in tree(window).items()} == before
    with pytest.raises(FitError, match="no map"):
        perform(s.CopyPartition(1), rdb_bare(), drive, Watch())


class Forgetful(MemoryBlocks):
    """A card that keeps one byte differently from how it was written, without saying so."""

    at = -1

    def _write(self, offset, data):
        super()._write(offset, data)
        if offset <= self.at < offset + len(bytes(data)):
            self.data[self.at] ^= 1


@pytest.mark.parametrize(("make", "steps"), [
    (DRIVES["rdb"], (s.NewMap("rdb"), s.CopyPartition(2))),
    (DRIVES["rdb"], (s.NewMap("ahdi"), s.CopyPartition(2, "gemdos"))),
    (handheld, (s.NewMap("gpt"), s.CopyPartition(2))), (handheld, (s.NewMap("mbr"), s.CopyPartition(2, "ext4")))])
def test_a_card_that_keeps_something_else_than_was_written_is_found_out_while_it_is_filled(make, steps):
    source, sound, odd = make(), MemoryBlocks(bytes(96 * MIB)), Forgetful(bytes(96 * MIB))
    for step in steps:
        perform(step, sound, source, Watch())
    part = read_map(source).partition(2)
    volume = open_volume(Window(source, part.start, part.length))
    largest = max((e for e in volume.tree().entries if e.kind == Kind.FILE), key=lambda e: e.size)
    odd.at = sound.data.index(b"".join(volume.read_file(largest))[:300]) + 100
    perform(steps[0], odd, source, Watch())
    with pytest.raises(JobError, match="does not read back as it was"):
        perform(steps[1], odd, source, Watch())
    assert read_map(odd).partitions == ()                              # the map is written last


def rdb_bare() -> MemoryBlocks:
    """A bare volume that must not be written over by accident."""
    drive = rdb_drive()
    p = read_map(drive).partition(1)
    return MemoryBlocks(drive.read(p.start, p.length))


def test_a_bare_volume_fills_a_longer_card_and_goes_through_an_image_with_room_for_more():
    drive, longer = DRIVES["rdb"](), MemoryBlocks(bytes(20 * MIB), name="Longer")
    layout = run((s.CopyPartition(3),), longer, drive)
    assert (layout.map_kind, layout.partition(0).volume.size, layout.partition(0).name) == (MapKind.NONE, 20 * MIB,
                                                                                           "Old")
    part = read_map(drive).partition(3)
    assert {p: v[:2] for p, v in tree(longer).items()} == {
        p: v[:2] for p, v in tree(Window(drive, part.start, part.length)).items()}
    modern = card()
    fat = MemoryBlocks(bytes(12 * MIB), name="Fat")
    assert run((s.CopyPartition(1),), fat, modern).partition(0).volume.kind == "fat16"
    with pytest.raises(FitError, match="anew"):
        perform(s.CopyPartition(1), MemoryBlocks(bytes(8 * MIB)), modern, Watch())


@pytest.mark.parametrize("kind", DRIVES)
def test_an_image_is_converted_into_another_file_and_nothing_half_made_is_left(kind, tmp_path):
    drive = DRIVES[kind]()
    before = bytes(drive.data)
    convert_to(tmp_path / "swapped", drive, Conversion(is_swapped=True), Watch())
    assert (tmp_path / "swapped").read_bytes() == swapped(before)
    with open_blocks(tmp_path / "swapped") as blocks:
        assert survey(blocks).container == "swapped"
        convert_to(tmp_path / "again", blocks, Conversion(is_swapped=True), Watch())
        convert_to(tmp_path / "one", blocks, Conversion(2), Watch())
        convert_to(tmp_path / "under", blocks, Conversion(under=MapKind.MBR), Watch())
        with pytest.raises(FitError):
            convert_to(tmp_path / "small", blocks, Conversion(under=MapKind.MBR, size=4 * MIB), Watch())
        with pytest.raises(MediumError, match="there already"):
            convert_to(tmp_path / "one", blocks, Conversion(1), Watch())
    assert (tmp_path / "again").read_bytes() == before
    part = read_map(drive).partition(2)
    assert (tmp_path / "one").read_bytes() == drive.read(part.start, part.length)
    with open_blocks(tmp_path / "under") as blocks:
        layout = survey(blocks, thorough=True)
        assert [(p.name, p.volume.files) for p in layout.partitions] == [
            (p.name.upper(), p.volume.files) for p in survey(drive).partitions]
        assert [f.sentence for f in layout.findings if f.severity in ("problem", "warning")] == []
    assert sorted(p.name for p in tmp_path.iterdir()) == ["again", "one", "swapped", "under"]


NAMES = ("readme", "Übung macht den Meister", "a rather long name that goes on and on ({}).module", "tune {}.mod",
         "ÅÄÖ {}", "naïve résumé {}", "日本 {}.txt", "e\u0301tude {}", "x" * 90 + " {}", "semi:colon {}", "what? {}")


def made_tree(folder: Path, count: int) -> dict[str, tuple[bytes, int]]:
    """Files under hard names; {path: (bytes, time)}."""
    rnd, files = random.Random(5), dict[str, tuple[bytes, int]]()
    folders = ["", "Ordner Ä", "deep/er", "LONG " + "f" * 60]
    for path in folders:
        (folder / path).mkdir(parents=True, exist_ok=True)
    for number in range(count):
        name = rnd.choice(NAMES).format(number // 3)
        place = folder / rnd.choice(folders) / (name.upper() if number % 7 == 0 else name)  # case collides there
        data = rnd.randbytes(rnd.randrange(1500))
        place.write_bytes(data)
        os.utime(place, (WHEN + 2 * number, WHEN + 2 * number))
        files[str(place.relative_to(folder))] = (data, WHEN + 2 * number)
    return files


@pytest.mark.parametrize(("kind", "size"), [("ffs-long", 12), ("ffs-intl", 12), ("gemdos", 20)])
def test_two_thousand_files_go_from_here_onto_a_volume_and_back_with_what_was_announced(kind, size, tmp_path):
    folder = tmp_path / "tree"
    files = made_tree(folder, 2600)
    blocks = MemoryBlocks(bytes(size * MIB), name="Bare")
    perform(s.FormatPartition(0, kind), blocks, None, Watch())
    step = s.PutFiles(0, (str(folder),))
    seen = forecast(JobSheet((step,)), None, survey(blocks), target_blocks=blocks)
    assert seen.problems == ()
    passage = seen.lines[0].decided.passage
    done = perform(step, blocks, None, Watch())
    assert len(files) > 2000
    assert f"{len(files)} files put" in done.sentence
    assert [f.sentence for f in volumes.check(open_volume(blocks))] == []
    take_out(open_partition(blocks, 0), "", tmp_path / "back", Watch())
    came = {str(p.relative_to(tmp_path / "back")): p for p in (tmp_path / "back").rglob("*") if p.is_file()}
    for path, (data, when) in files.items():
        new = passage.renamed.get(f"tree/{path}", f"tree/{path}")
        new = new.upper() if kind == "gemdos" else new
        place = came.pop(new)
        assert (place.read_bytes(), int(place.stat().st_mtime)) == (data, when), path
    assert came == {}
    if kind == "ffs-long":                        # only what is not Latin-1, a separator, or another case of a name
        fits = [old for old in passage.changed_names if old.isascii() and ":" not in old]
        lower = [str(p).lower() for p in files]
        assert all(lower.count(old.removeprefix("tree/").lower()) > 1 for old in fits)


def test_the_same_files_put_twice_replace_themselves(tmp_path):
    folder = tmp_path / "tree"
    files = made_tree(folder, 60)
    blocks = MemoryBlocks(bytes(6 * MIB), name="Bare")
    perform(s.FormatPartition(0, "gemdos"), blocks, None, Watch())
    perform(s.PutFiles(0, (str(folder),)), blocks, None, Watch())
    first = tree(blocks)
    perform(s.PutFiles(0, (str(folder),), existing=s.Existing.REPLACE), blocks, None, Watch())
    assert (tree(blocks), sum(k == Kind.FILE for k, *_ in first.values())) == (first, len(files))
    perform(s.PutFiles(0, (str(folder),), existing=s.Existing.KEEP_BOTH), blocks, None, Watch())
    assert first.items() <= {p: v for p, v in tree(blocks).items()}.items()


@pytest.mark.parametrize("under", ["", "rdb", "mbr", "gpt", "ahdi"])
def test_a_volume_that_nothing_is_known_of_is_brought_exactly_also_alone(under):
    drive, target = rdb_drive(), MemoryBlocks(bytes(96 * MIB), name="Target")
    place = read_map(drive).partition(2)
    perform(s.TypePartition(2, "0x58595a07"), drive, None, Watch())
    drive.write(place.start, random.Random(1).randbytes(place.length))
    for step in (*((s.NewMap(under),) if under else ()), s.CopyPartition(2)):
        assert forecast(JobSheet((step,)), survey(drive), survey(target)).problems == ()
        perform(step, target, drive, Watch())
    made = read_map(target).partitions[0]
    assert target.read(made.start, place.length) == drive.read(place.start, place.length)
    assert made.type == ("0x58595a07" if under == "rdb" else made.type)
