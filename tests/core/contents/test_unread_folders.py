"""A folder that cannot be read: nothing that takes files from its volume passes that over in silence."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.files import FileKind
from mosscrate.core.contents.survey import open_partition, survey
from mosscrate.core.crate import Crate
from mosscrate.core.crate.compare import compare
from mosscrate.core.crate.parts import Choice, keep_part
from mosscrate.core.errors import MediumError
from mosscrate.core.fill.bringing import bring, bring_from_volume
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.images.kept.manifest import CardRecord
from mosscrate.core.sheet.bench import card_of as bench_card
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.losses import must_be_kept_still, what_would_be_lost
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import CopyFiles, CopyPartition, RefreshPartition
from mosscrate.core.sheet.steps.files.put import below
from mosscrate.core.sheet.steps.shared.comparing import verify_copy
from mosscrate.core.volumes import Entry, Kind, Tree, open_volume
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from mosscrate.demo.hfs import MadeFile, make_hfs
from tests.cards import MIB, handheld, lay_out, make_volume, put_card
from tests.core.sheet.test_steps import put_in
from tests.volumes import fresh

SIZE, NOWHERE = 40 * MIB, 0x0FFFF0


@pytest.fixture
def torn() -> MemoryBlocks:
    """A card whose folder “roms” leads to a cluster that is not there."""
    card = handheld(SIZE)
    entry = re.search(rb"ROMS~1     \x10", bytes(card.data))
    assert entry is not None, "made by our own formatter"
    card.write(entry.start() + 20, (NOWHERE >> 16).to_bytes(2, "little"))           # first cluster, high and low half
    card.write(entry.start() + 26, (NOWHERE & 0xFFFF).to_bytes(2, "little"))
    return card


def test_taking_out_tells_of_it(torn, tmp_path):
    volume = open_partition(torn, 2)
    everything = take_out(volume, "/", tmp_path / "all", Watch())
    assert everything.taken
    assert "“roms” cannot be read" in everything.shortfall
    assert "“roms” cannot be read" in take_out(volume, "ROMS", tmp_path / "roms", Watch()).shortfall
    assert not take_out(volume, "Ein längerer Ordner", tmp_path / "other", Watch()).shortfall
    with pytest.raises(MediumError, match="may be there all the same: The folder “roms”"):
        take_out(volume, "roms/gb/game.gb", tmp_path / "one", Watch())


@pytest.mark.parametrize("step", [CopyFiles(2, 1), CopyFiles(2, 1, path="roms"), CopyPartition(2, kind="ext4")])
def test_a_copy_by_files_is_refused(torn, step):
    assert "“roms” cannot be read" in problem_of(step, torn)
    assert "Choose folders that can be read" in problem_of(step, torn)


@pytest.mark.parametrize("step", [CopyFiles(2, 1, path="Ein längerer Ordner"), CopyPartition(2)])
def test_what_lies_beside_it_goes_and_all_of_it_as_it_is(torn, step):
    assert problem_of(step, torn) == ""


def problem_of(step, source) -> str:
    target = MemoryBlocks(bytes(3 * SIZE))
    lay_out(target, [(MIB, SIZE, FatType.FAT16, "NEW", {})])
    seen = forecast(JobSheet((step,)), survey(source), survey(target), source_blocks=source, target_blocks=target)
    return " ".join(finding.sentence for finding in seen.problems)


def test_a_part_that_is_kept_says_so(torn, tmp_path):
    card = CardRecord("Pipkin", "aa" * 8, "PIPK", SIZE, "", "")
    kept = keep_part(Crate(tmp_path), card, torn, survey(torn), Choice((FileKind.SAVE,)), Watch())
    assert kept.chosen == "saves: 1 file; 1 folder could not be read in full"
    kept = keep_part(Crate(tmp_path), card, torn, survey(torn), Choice(folders=("Ein längerer Ordner",)), Watch())
    assert "could not be read" not in kept.chosen


def test_files_in_it_are_not_said_to_be_gone(torn, tmp_path):
    class State:
        def __init__(self, blocks):
            self.blocks = blocks

        def open(self):
            return MemoryBlocks(self.blocks.data)

    _, games = compare(State(handheld(SIZE)), State(torn))
    assert (games.gone, games.sentence) == ((), "1 folder could not be read in full")


def test_what_is_brought_in_names_it(torn, tmp_path):
    found = bring_from_volume("Pipkin", open_partition(torn, 2), 2, Watch())
    assert [str(each.path) for each in found if "cannot be read" in each.reason] == ["Pipkin/roms"]


@pytest.fixture
def closed(tmp_path: Path) -> Path:
    """A folder of this computer that cannot be looked into, beside one that can."""
    top = tmp_path / "games"
    (top / "open").mkdir(parents=True)
    (top / "open" / "Velvet Weaver.gb").write_bytes(b"game")
    (top / "closed").mkdir()
    return top


def test_a_folder_of_this_computer_that_cannot_be_read_is_named(closed, monkeypatch):
    whole = os.scandir
    monkeypatch.setattr(os, "scandir", lambda path: whole(path) if not str(path).endswith("closed") else deny(path))
    found = bring([closed], Watch())
    assert [str(each.path) for each in found if "cannot be read" in each.reason] == ["games/closed"]
    with pytest.raises(MediumError, match=r"closed cannot be read.* Nothing was changed"):
        list(below(closed))


def deny(path):
    raise PermissionError(13, "Permission denied", str(path))


def test_entries_that_a_volume_has_lost_are_missed(tmp_path):
    exfat = fresh("exfat", 8 * MIB)
    put_in(exfat, {"saves": None, "saves/one.srm": b"1", "saves/two.srm": b"2"})
    volume = open_volume(exfat)
    folder = volume.extents_of(volume.tree().find("saves"))[0].start
    hfs = MemoryBlocks(bytes(2 * MIB))
    make_hfs(hfs, "Tapes", [MadeFile("Notes", None, 0), *(MadeFile(f"Notes/note {k}", b"x", 0) for k in range(40))], 0)
    record = bytes(hfs.data).index(b"note 17") - 7                       # its key, with length and parent in front
    fat = MemoryBlocks(bytes(8 * MIB))
    make_volume(fat, FatType.FAT16, files={"one.srm": b"1"})
    for blocks, place, damage, told in (
            (exfat, folder + 32 + 20, b"\xff" * 4, "“saves” has 1 damaged entry"),    # first cluster
            (exfat, folder + 32 + 31, b"\xff", "“saves” has 1 damaged entry"),        # size beyond all
            (hfs, record, b"\0", "“Notes” counts 40 entries; 39 are named"),
            (fat, 14, b"\3\0", "more may be there than can be read")):                  # reserved sectors
        before = blocks.read(place, len(damage))
        assert not take_out(open_volume(blocks), "/", tmp_path / f"{place}", Watch()).shortfall
        blocks.write(place, damage)
        assert told in take_out(open_volume(blocks), "/", tmp_path / f"{place} damaged", Watch()).shortfall
        assert survey(blocks).partitions
        blocks.write(place, before)


@pytest.mark.parametrize("place", ["roms", "/"])
def test_a_card_is_not_called_empty_or_kept_where_it_cannot_be_read(torn, place, bench):
    """What the guard says of a target."""
    card = torn
    if place == "/":
        card = MemoryBlocks(bytes(SIZE))
        lay_out(card, [(MIB, SIZE - MIB, FatType.FAT32, "GAMES", {"one.srm": b"1"})])
        geometry = open_partition(card, 1).geometry
        for copy in range(geometry.fat_count):
            card.write(MIB + geometry.fat_offset(copy) + 4 * geometry.root_cluster, bytes(4))
    put_card(bench, "pipkin", SIZE, card.data)
    medium = bench.shelf.find("pipkin")
    for _ in range(2):
        layout = survey(medium.open())
        told = what_would_be_lost(medium, layout, bench.crate)
        assert f"GAMES cannot be read in full: The folder “{place}” cannot be read" in told[0].sentence
        assert {finding.severity for finding in told} <= {Severity.WARNING, Severity.NOTE}
        assert layout.partitions[-1].volume.summary != "empty"
        bench.crate.keep(bench_card(medium), medium.open(), Watch())


def test_files_that_are_to_be_kept_may_not_lie_where_it_cannot_be_read(torn):
    source = handheld(SIZE)
    seen = forecast(JobSheet((RefreshPartition(2, 2, keep=("*.sav",)),)), survey(source), survey(torn),
                    source_blocks=source, target_blocks=torn)
    assert "may lie where it cannot be read" in seen.problems[0].sentence


def test_a_file_is_missed_in_the_folder_that_should_hold_it_alone():
    folder = [Entry(path, Kind.FOLDER, 0, None, 0) for path in ("saves", "roms", "roms/gb")]
    tree = Tree(tuple(folder), (Finding(Severity.PROBLEM, "roms", "roms"),))
    hidden = [tree.hides(path) for path in ("saves/a.srm", "ROMS/a.gb", "roms/nes/a.nes", "roms/gb/a.gb", "a")]
    assert hidden == [False, True, True, False, False]
    assert [len(tree.unread(path)) for path in ("", "roms", "saves", "roms/gb", "roms/nes", "saves/one.srm")] == \
        [1, 1, 0, 0, 1, 0]


def test_what_was_not_read_is_not_called_equal(torn):
    copy = MemoryBlocks(bytes(torn.data))
    assert "1 folder of the source could not be read in full" in verify_copy(torn, copy, Watch()).sentence


@pytest.mark.parametrize("kind", ["fat16", "fat32", "exfat", "ext4"])
def test_what_can_be_read_of_a_damaged_folder_is_shown(kind, tmp_path):
    blocks = fresh(kind, (8 if kind == "fat16" else 40) * MIB)
    names = [f"saves/a name that is long enough {k}.srm" for k in range(800)]
    put_in(blocks, {"saves": None, **{name: name.encode() for name in names}})
    sound = open_volume(blocks)
    extents = sound.extents_of(sound.tree().find("saves"))
    places = [at for extent in extents for at in range(extent.start, extent.end, sound.block)]
    before = bytes(blocks.data)
    for how in ("the chain ends too early", "a cluster fails"):
        unit, looked, at = sound.block, blocks, places[len(places) // 2]
        if how == "a cluster fails":
            looked = FaultyBlocks(blocks, Faults(bad=(Bad(at, 512),)))
        elif kind == "ext4":
            blocks.write(at + 4, b"\3\0")                           # a record that cannot be that short
        else:
            cluster = (at - sound.geometry.cluster_offset(2)) // unit + 2
            for copy in range(getattr(sound.geometry, "fat_count", 1)):
                width = 2 if kind == "fat16" else 4
                blocks.write(sound.geometry.fat_offset(copy) + width * cluster, bytes(width))
        volume = open_volume(looked)
        tree = volume.tree()
        assert "“saves” cannot be read in full" in tree.findings[0].sentence
        shown = [entry for entry in tree.entries if entry.kind == Kind.FILE]
        by_name = [entry for entry in shown if entry.path in names]
        assert 300 < len(shown) < 800
        assert len(by_name) >= len(shown) - 1                       # a long name may end in the part that is missing
        assert not take_out(volume, by_name[0].path, tmp_path / how, Watch()).shortfall
        assert all(b"".join(volume.read_file(entry)) == entry.path.encode() for entry in by_name)
        blocks.data[:] = before


def test_a_volume_with_a_damaged_entry_counts_as_kept_once_it_is_kept(bench):
    blocks = fresh("exfat", 8 * MIB)
    put_in(blocks, {"saves": None, "saves/one.srm": b"1"})
    volume = open_volume(blocks)
    folder = volume.extents_of(volume.tree().find("saves"))[0].start
    blocks.write(folder + 32 + 8, b"\xff")                                # the name's hash alone
    blocks.write(7 * MIB, b"left in free room")
    put_card(bench, "pipkin", 8 * MIB, blocks.data)
    medium = bench.shelf.find("pipkin")
    bench.crate.keep(bench_card(medium), medium.open(), Watch())
    assert "damaged entry" in what_would_be_lost(medium, survey(medium.open()), bench.crate)[0].sentence
    must_be_kept_still(medium, medium.open(), bench.crate, Watch())
