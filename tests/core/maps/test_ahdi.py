"""AHDI root sectors and GEMDOS volumes: layout, second style, chains, a second reader written from the layout alone."""

from __future__ import annotations

import contextlib
import random
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import MapKind, ahdi, read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.propose import under_another_map
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.volumes import Making, Traits, edit, format_for, open_volume
from mosscrate.core.volumes.fat.making import make as make_fat
from mosscrate.core.volumes.fat.making import plan_gemdos
from mosscrate.core.watch import Watch
from tests.volumes import MIB, WHEN, tree

# A root sector written by hand: GEM from sector 2 (8 MiB, bootable), then XGM from sector 16386.
SAMPLE = bytes(0x1C2) + bytes.fromhex(
    "00 00 a0 00  81 47454d 00000002 00004000  01 58474d 00004002 00005ffe"
    "00 000000 00000000 00000000  00 000000 00000000 00000000  00000000 00000000 0000")
CHAINED = bytes(0x1C6) + bytes.fromhex("01 47454d 00000001 00002000  01 58474d 00002001 00003ffd") + bytes(34)
LAST = bytes(0x1C6) + bytes.fromhex("01 42474d 00000001 00003ffc") + bytes(46)


def chained_drive() -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(0xA000 * 512))
    for sector, data in ((0, SAMPLE), (0x4002, CHAINED), (0x4002 + 0x2001, LAST)):
        blocks.write(sector * 512, data)
    return blocks


def drive(parts: int = 3, size: int = 80 * MIB) -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(size), name="Corvid")
    perform(s.NewMap("ahdi"), blocks, None, Watch())
    for number in range(parts):
        step = s.AddPartition("gemdos", 6 * MIB if number != 1 else 20 * MIB, label=f"PART{number}")
        perform(step, blocks, None, Watch())
    return blocks


def contents_of(blocks) -> dict[str, bytes]:
    return {path: data for path, (_, data, _) in tree(blocks).items()}


def files_of(raw: bytes) -> dict[str, bytes]:
    """A second reader: the BPB, the 16-bit FAT and the folders, a byte and a cluster at a time."""
    word = lambda at: raw[at] | raw[at + 1] << 8                       # noqa: E731
    sector, per, reserved, fats, entries, fat_size = word(11), raw[13], word(14), raw[16], word(17), word(22)
    root = (reserved + fats * fat_size) * sector
    data = root + -(-entries * 32 // sector) * sector

    def chain(cluster: int) -> bytes:
        out = b""
        while 2 <= cluster < 0xFFF8:
            out += raw[data + (cluster - 2) * per * sector:data + (cluster - 1) * per * sector]
            cluster = word(reserved * sector + 2 * cluster)
        return out

    found: dict[str, bytes] = {}

    def walk(folder: bytes, prefix: str) -> None:
        for at in range(0, len(folder), 32):
            entry = folder[at:at + 32]
            if not entry or entry[0] == 0:
                return
            if entry[0] in (0xE5, 0x2E) or entry[11] & 8:
                continue
            name = (entry[:8].rstrip() + (b"." + entry[8:11].rstrip() if entry[8:11].strip() else b"")).decode("cp437")
            first, length = entry[26] | entry[27] << 8, int.from_bytes(entry[28:32], "little")
            if entry[11] & 16:
                walk(chain(first), f"{prefix}{name}/")
            else:
                found[prefix + name] = chain(first)[:length]

    walk(raw[root:root + entries * 32], "")
    return found


def test_structures_have_the_sizes_of_the_layout():
    assert (ahdi.ENTRY.itemsize, ahdi.ROOT.itemsize) == (12, 512)
    assert [ahdi.ROOT.fields[f][1] for f in ("more", "hd_size", "entries", "checksum")] == [0x156, 0x1C2, 0x1C6, 0x1FE]


def test_chains_of_extended_entries_are_followed_and_written():
    blocks = chained_drive()
    map_ = read_map(blocks)
    assert [(p.index, p.start // 512, p.length // 512, p.type, p.flags) for p in map_.partitions] == [
        (1, 2, 0x4000, "GEM", ("active",)), (2, 0x4003, 0x2000, "GEM", ()), (3, 0x6004, 0x3FFC, "BGM", ())]
    before = bytes(blocks.data)
    perform(s.MendMap(), blocks, None, Watch())
    assert bytes(blocks.data) == before                       # to the byte, as it was written by hand
    perform(s.RemovePartition(2), blocks, None, Watch())
    perform(s.MovePartition(2, 0x4800 * 512), blocks, None, Watch())
    perform(s.AddPartition("fat12", 3 * MIB, label="THREE"), blocks, None, Watch())
    map_ = read_map(blocks)
    assert [(p.index, p.start // 512, p.length // 512) for p in map_.partitions[:2]] == [
        (1, 2, 0x4000), (2, 0x4800, 0x3FFC)]
    assert (map_.partitions[2].record, survey(blocks).partition(3).name) == (map_.partitions[2].start - 512, "THREE")
    blocks = MemoryBlocks(before)
    blocks.write(0x4002 * 512 + 0x1C6 + 12 + 4, (0).to_bytes(4, "big"))          # back to the chain's first sector
    assert any("breaks" in f.sentence for f in read_map(blocks).findings)


def test_an_entry_of_an_unknown_kind_hides_none_of_the_others_and_stays():
    raw = bytearray(SAMPLE)
    raw[0x1D2:0x1DE] = bytes.fromhex("01 513758 00004002 00001000")   # "Q7X" instead of the chain
    blocks = MemoryBlocks(bytes(raw) + bytes(40 * MIB))
    assert [p.type for p in read_map(blocks).partitions] == ["GEM", "Q7X"]
    perform(s.AddPartition("gemdos", 6 * MIB), blocks, None, Watch())
    assert blocks.data[0x1D2:0x1DE] == raw[0x1D2:0x1DE]
    assert [p.type for p in read_map(blocks).partitions] == ["GEM", "Q7X", "GEM"]


def test_a_sector_that_is_an_mbr_too_is_read_as_one_and_the_rest_is_told():
    shared = bytearray(SAMPLE[:0x1D2].ljust(512, b"\0"))              # the first entry alone
    shared[0x1EE:0x200] = bytes.fromhex("00 feffff 06 feffff 00800000 00200000 55aa")      # the fourth of an MBR
    blocks = MemoryBlocks(bytes(shared) + bytes(40 * MIB))
    map_ = read_map(blocks)
    assert (map_.kind, [p.start for p in map_.partitions]) == (MapKind.MBR, [0x8000 * 512])
    assert ["also names 1 partition" in f.sentence for f in map_.findings] == [True]
    blocks.write(0x1BE, b"\x17")                                    # no status of an MBR: its mark says nothing
    assert (read_map(blocks).kind, read_map(blocks).partition(1).start) == (MapKind.AHDI, 1024)


def test_more_than_four_partitions_take_the_second_style_and_none_of_them_boots_by_accident():
    blocks = drive(9)
    layout = survey(blocks, thorough=True)
    assert (layout.map_kind, len(layout.partitions)) == (MapKind.AHDI, 9)
    assert [p.partition.type for p in layout.partitions[:3]] == ["GEM", "BGM", "GEM"]
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
    words = sum(int.from_bytes(blocks.data[k:k + 2], "big") for k in range(0, 512, 2)) & 0xFFFF
    assert words != 0x1234
    perform(s.RemovePartition(2), blocks, None, Watch())
    assert [p.name for p in survey(blocks).partitions] == ["PART0", *(f"PART{k}" for k in range(2, 9))]


@pytest.mark.parametrize("size", [5 * MIB, 30 * MIB, 60 * MIB, 200 * MIB])
def test_gemdos_volumes_have_two_sectors_a_cluster_and_a_second_reader_agrees(size):
    blocks = MemoryBlocks(bytes(size))
    format_for("gemdos").make(blocks, Making("gemdos", "MOSS", id="1A2B-3C4D"))
    g = open_volume(blocks).geometry
    assert (g.cluster_sectors, g.type, g.sector) == (2, 16, {5: 512, 30: 512, 60: 1024, 200: 4096}[size // MIB])
    assert bytes(blocks.data[510:512]) != b"\x55\xaa"
    rnd, editor, files = random.Random(size), edit(blocks), {}
    editor.add_folder("AUTO", Traits(WHEN))
    for number in range(60):
        path = f"{'AUTO/' if number % 2 else ''}PROG{number}.TOS"
        files[path] = rnd.randbytes(rnd.randrange(30_000))
        editor.add_file(path.lower(), files[path], Traits(WHEN))
    with pytest.raises(FitError, match="eight characters"):
        editor.add_file("a long name.prg", b"x")
    editor.commit()
    assert files_of(bytes(blocks.data)) == files
    volume = open_volume(blocks)
    assert (volume.kind, volume.label, volumes.check(volume)) == ("fat16", "MOSS", ())
    assert (volume.id, bytes(blocks.data[8:11])) == ("2B3C4D", b"\x4d\x3c\x2b")    # its serial has three bytes


@pytest.mark.parametrize(("size", "sector"), [(30, 512), (60, 1024), (200, 4096), (None, 16384)])
def test_a_gemdos_volume_grows_past_what_its_sectors_can_count_by_being_made_anew(size, sector):
    blocks = MemoryBlocks(bytes(1100 * MIB), name="Corvid")
    for step in (s.NewMap("ahdi"), s.AddPartition("gemdos", 20 * MIB, label="MOSS")):
        perform(step, blocks, None, Watch())
    part = read_map(blocks).partition(1)
    editor, rnd = edit(Window(blocks, part.start, part.length)), random.Random(1)
    files = {f"FILE{k}.DAT": rnd.randbytes(k * 900) for k in range(30)}
    for path, data in files.items():
        editor.add_file(path, data, Traits(WHEN))
    editor.commit()
    step = s.GrowPartition(1, size * MIB if size else None)
    seen = forecast(JobSheet((step,)), None, survey(blocks))
    assert seen.problems == ()
    perform(step, blocks, None, Watch())
    layout = survey(blocks, thorough=True)
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
    assert layout.partition(1).partition.length == seen.layout.partition(1).partition.length
    window = Window(blocks, part.start, layout.partition(1).partition.length)
    assert open_volume(window).geometry.sector == sector
    assert files_of(window.read(0, min(window.size, 32 * MIB))) == files


def test_files_with_long_names_are_rebuilt_into_gemdos_with_the_names_told():
    blocks = drive()
    perform(s.FormatPartition(2, "fat16", "LONG", 2048), blocks, None, Watch())
    part = read_map(blocks).partition(2)
    editor = edit(Window(blocks, part.start, part.length))
    for name in ("A long name of a song.mod", "A long name of a solo.mod", "Übung.txt"):
        editor.add_file(name, name.encode())
    editor.commit()
    done = perform(s.RebuildPartition(2, "gemdos"), blocks, None, Watch())
    assert "becomes “ALONGN" in done.sentence
    window = Window(blocks, part.start, part.length)
    found = {e.path for e in open_volume(window).tree().entries}
    assert found == {"ALONGN~1.MOD", "ALONGN~2.MOD", "UBUNG.TXT"}
    assert files_of(window.read(0, window.size)).keys() == found


def test_a_chain_is_begun_where_it_is_asked_for_and_bears_every_change():
    blocks = MemoryBlocks(bytes(80 * MIB), name="Corvid")
    perform(s.NewMap("ahdi"), blocks, None, Watch())
    for number in range(8):
        perform(s.AddPartition("gemdos", (5 + number) * MIB, label=f"PART{number}", is_logical=number > 1), blocks,
                None, Watch())
    layout = survey(blocks, thorough=True)
    assert [p.name for p in layout.partitions] == [f"PART{k}" for k in range(8)]
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
    perform(s.RemovePartition(4), blocks, None, Watch())
    perform(s.GrowPartition(3), blocks, None, Watch())
    perform(s.MovePartition(7), blocks, None, Watch())
    layout = survey(blocks, thorough=True)
    names = [f"PART{k}" for k in (0, 1, 2, 4, 5, 6, 7)]
    assert ([p.name for p in layout.partitions], layout.partition(3).partition.length > 11 * MIB) == (names, True)
    assert layout.partition(3).partition.end <= layout.partition(4).partition.record
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
    for _ in range(2):
        perform(s.RemovePartition(1), blocks, None, Watch())
    assert [p.name for p in survey(blocks).partitions] == names[2:]


@given(st.integers(0, 10**9))
def test_a_damaged_root_sector_is_read_or_refused(seed):
    rnd, blocks = random.Random(seed), chained_drive()
    for _ in range(rnd.choice((1, 3, 8))):
        place = rnd.choice((0, 0x4002, 0x6003)) * 512 + rnd.choice((0x156, 0x1C2)) + rnd.randrange(60)
        blocks.write(place, rnd.randbytes(rnd.choice((1, 4))))
    with contextlib.suppress(MossError):
        survey(blocks)


def test_a_volume_that_other_machines_read_otherwise_is_told_and_not_passed_on():
    blocks = drive(1, 40 * MIB)
    place = read_map(blocks).partition(1)
    small = Window(blocks, place.start, 3 * MIB)
    geometry = replace(plan_gemdos(5 * MIB), total_sectors=small.size // 512)      # as its own formatter leaves it
    make_fat(small, geometry, label="TINY", volume_id=1, is_gemdos=True)
    songs = {f"SONG{k}.SNG": bytes((k + 1,)) * 3000 for k in range(60)}
    editor = edit(small)
    for name, data in songs.items():
        editor.add_file(name, data, Traits(WHEN))
    editor.commit()
    assert files_of(bytes(small.read(0, small.size))) == songs                    # in 16 bits
    assert contents_of(small) == songs
    layout = survey(blocks, thorough=True)
    assert [f.sentence for f in layout.findings if f.severity == "warning"] == [
        "TINY is read rightly by its own machine alone: with fewer than 4085 clusters its own machine reads the table "
        "in 16 bits, all others in 12."]
    for map_, kind, refusal in (("ahdi", "", ""), ("mbr", "", "cannot be brought exactly"), ("mbr", "fat", "")):
        target = MemoryBlocks(bytes(40 * MIB))
        perform(s.NewMap(map_), target, None, Watch())
        with pytest.raises(FitError, match=refusal) if refusal else contextlib.nullcontext():
            perform(s.CopyPartition(1, kind), target, blocks, Watch())
            assert contents_of(partition_window(target, read_map(target).partition(1))) == songs
    perform(s.GrowPartition(1, 8 * MIB), blocks, None, Watch())
    assert [f for f in survey(blocks).findings if f.severity == "warning"] == []
    assert contents_of(Window(blocks, place.start, 8 * MIB)) == songs


def test_no_volume_is_made_or_left_that_other_machines_would_read_otherwise():
    blocks = drive(1, 40 * MIB)
    with pytest.raises(FitError, match=r"below 4\.02 MiB it would have so few clusters"):
        perform(s.AddPartition("gemdos", 4 * MIB), blocks, None, Watch())
    perform(s.ShrinkPartition(1), blocks, None, Watch())
    volume = open_partition(blocks, 1)
    assert (volume.variant, volume.geometry.cluster_count >= 4085) == ("gemdos", True)
    handheld = MemoryBlocks(bytes(40 * MIB))
    perform(s.NewMap("mbr"), handheld, None, Watch())
    perform(s.AddPartition("fat12", 2 * MIB, label="PEAT"), handheld, None, Watch())
    for step in under_another_map(survey(handheld), MapKind.AHDI):
        perform(step, blocks, handheld, Watch())
    assert [(p.name, p.variant) for p in survey(blocks).partitions] == [("PEAT", "gemdos")]
