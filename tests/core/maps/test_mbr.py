"""MBR: an annotated sample from outside our code, sizes, CHS, what is not an MBR, damaged chains."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks, create_image
from mosscrate.core.contents import survey
from mosscrate.core.errors import FitError
from mosscrate.core.machines import Machines, check
from mosscrate.core.maps import MapKind, Partition, edits, mbr, read_map, write_map
from mosscrate.core.maps.geometry import Geometry, derived, read_off
from mosscrate.core.sheet.planning.preparing import Wish, prepared
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import AddPartition, CopyPartition, NewMap
from mosscrate.core.volumes.fat.making import make, plan_geometry
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch

# As a firmware's own script wrote it: 255 heads, 63 sectors; worked out by hand from the CHS rules.
SAMPLE = bytes(440) + bytes.fromhex(
    "78 56 34 12  00 00 "                                          # disk signature, reserved
    "80 20 21 00  0c c2 22 20  00 08 00 00  00 00 08 00 "          # active FAT32 LBA, 2048 + 524288, to CHS 32/194/34
    "00 c2 23 20  16 fe ff ff  00 08 08 00  00 00 00 01 "          # hidden FAT16 (0x16), 526336 + 16777216
    "00 00 00 00  00 00 00 00  00 00 00 00  00 00 00 00 "
    "00 00 00 00  00 00 00 00  00 00 00 00  00 00 00 00 "
    "55 aa")
MIB = 1 << 20


def on_card(first: bytes, size: int = 1 << 20) -> MemoryBlocks:
    return MemoryBlocks(first.ljust(size, b"\0"))


def resized(map_, index: int, length: int) -> bytes:
    return mbr.first_sector(edits.placed(map_, index, 2**50, length=length), mbr.geometry_of(map_))


def test_structures_have_the_sizes_of_the_specification():
    assert (mbr.ENTRY.itemsize, mbr.SECTOR.itemsize) == (16, 512)


def test_sample_is_read():
    map_ = mbr.read(on_card(SAMPLE))
    a, b = map_.partitions
    assert (map_.kind, map_.id) == (MapKind.MBR, "12345678")
    assert (a.index, a.start, a.length, a.type, a.flags) == (1, 2048 * 512, 524288 * 512, "0x0c", ("active",))
    assert (b.index, b.start, b.length, b.type, b.flags) == (2, 526336 * 512, 16777216 * 512, "0x16", ("hidden",))
    assert any("behind the end" in f.sentence for f in map_.findings)


def test_built_sector_has_the_chs_fields_of_the_sample():
    parts = (Partition(1, 2048 * 512, 524288 * 512, "0x0c", flags=("active",)),
             Partition(2, 526336 * 512, 16777216 * 512, "0x16"))
    assert mbr.build(parts, disk_signature=0x12345678) == SAMPLE


@given(st.binary(min_size=440, max_size=440), st.integers(1, 2**20), st.integers(1, 2**26))
def test_a_resized_partition_changes_nothing_else(code, start, count):
    sector = bytearray(mbr.build((Partition(2, start * 512, count * 512, "0x1b"),), disk_signature=7, boot_code=code))
    blocks = on_card(bytes(sector))
    changed = resized(mbr.read(blocks), 2, (count + 9) * 512)
    again = mbr.read(on_card(changed)).partitions[0]
    assert (again.start, again.length, again.flags) == (start * 512, (count + 9) * 512, ("hidden",))
    assert changed[:446] == sector[:446]
    assert changed[446:462] == sector[446:462]
    assert changed[478:] == sector[478:]


def test_sizes_end_where_32_bits_end():
    map_ = mbr.read(on_card(mbr.build((Partition(1, 2048 * 512, 512, "0x0b"),), disk_signature=1)))
    assert resized(map_, 1, (2**32 - 1 - 2048) * 512)[458:462] == (2**32 - 1 - 2048).to_bytes(4, "little")
    with pytest.raises(FitError, match="32 bits"):
        resized(map_, 1, (2**32 - 2048) * 512)


@pytest.mark.parametrize("type", list(FatType))
def test_the_boot_sector_of_a_bare_volume_is_not_taken_for_a_map(type):
    size = {FatType.FAT12: 1 << 20, FatType.FAT16: 16 << 20, FatType.FAT32: 40 << 20}[type]
    blocks = MemoryBlocks(bytes(size))
    make(blocks, plan_geometry(size, type), volume_id=1)
    map_ = read_map(blocks)
    assert (map_.kind, [(p.index, p.start, p.length) for p in map_.partitions]) == (MapKind.NONE, [(0, 0, size)])


def ebr(first: int, link: int | None) -> bytes:
    entries = (Partition(1, first * 512, 8 * 512, "0x06"),)
    if link is not None:
        entries += (Partition(2, link * 512, 64 * 512, "0x05"),)
    return mbr.build(entries, disk_signature=0)


def test_logical_drives_follow_the_primaries():
    blocks = on_card(mbr.build((Partition(2, 100 * 512, 500 * 512, "0x0f"),), disk_signature=1))
    blocks.write(100 * 512, ebr(1, 200))
    blocks.write(300 * 512, ebr(2, None))
    found = [(p.index, p.start // 512) for p in read_map(blocks).partitions]
    assert found == [(2, 100), (5, 101), (6, 302)]


@pytest.mark.parametrize("link", [0, 10**6, 2**32 - 65])
def test_a_chain_of_logical_drives_that_bends_back_or_leaves_the_card_ends_in_a_finding(link):
    blocks = on_card(mbr.build((Partition(1, 100 * 512, 500 * 512, "0x05"),), disk_signature=1))
    blocks.write(100 * 512, ebr(1, link))
    map_ = read_map(blocks)
    assert [p.index for p in map_.partitions] == [1, 5]
    assert [f.severity for f in map_.findings] == ["problem"]


def test_a_map_of_another_family_is_named_and_called_sound():
    map_ = read_map(on_card(b"ER\2\0".ljust(512, b"\0") + b"PM"))
    assert (map_.kind, map_.findings[-1].severity) == (MapKind.APPLE, "good")


def test_logical_drives_are_added_removed_and_chained_as_the_format_wants():
    card = on_card(mbr.build((Partition(1, MIB, 40 * MIB, "0x06"),), disk_signature=5, boot_code=b"boot"), 600 * MIB)
    map_, drives = edits.fill_with_drives(read_map(card), card.size, each=100 * MIB, until=500 * MIB, kind="fat16")
    write_map(card, map_)
    again = read_map(card)
    assert (again.findings, again.origin[:4]) == ((), b"boot")
    found = [(p.index, p.start, p.length) for p in again.partitions[2:]]
    assert found == [(p.index, p.start, p.length) for p in drives]
    cylinder = 255 * 63 * 512                                       # as the table of the card counts
    assert [p.end % cylinder for p in drives] == [0] * len(drives)
    assert all(100 * MIB - cylinder < p.length <= 100 * MIB for p in drives[:4])
    assert drives[-1].end <= 500 * MIB
    outer = again.partitions[1]
    assert (outer.type, outer.end) == ("0x05", drives[-1].end) or outer.end >= drives[-1].end
    write_map(card, edits.removed(again, 6))
    fewer = read_map(card)
    assert [p.index for p in fewer.partitions] == [1, 2, *range(5, 4 + len(drives))]
    assert [p.start for p in fewer.partitions[2:]] == [p.start for p in drives if p.index != 6]
    write_map(card, edits.removed(fewer, 5))
    assert [p.start for p in read_map(card).partitions[2:]] == [p.start for p in drives if p.index not in (5, 6)]


def test_flags_and_types_follow_and_only_one_partition_is_active():
    card = on_card(mbr.build((Partition(1, MIB, MIB, "0x06", flags=("active",)), Partition(2, 2 * MIB, MIB, "0x0b")),
                             disk_signature=5), 8 * MIB)
    map_ = edits.flagged(edits.flagged(read_map(card), 2, "active", is_set=True), 2, "hidden", is_set=True)
    write_map(card, map_)
    assert [(p.type, p.flags) for p in read_map(card).partitions] == [("0x06", ()), ("0x1b", ("active", "hidden"))]
    write_map(card, edits.retyped(read_map(card), 2, "exfat"))
    assert read_map(card).partitions[1].type == "0x17"
    with pytest.raises(FitError, match="cannot carry"):
        edits.flagged(edits.retyped(map_, 1, "ext4"), 1, "hidden", is_set=True)
    with pytest.raises(FitError, match="overlap"):
        edits.placed(map_, 1, card.size, length=2 * MIB)


# Ten drives as they were sold, and the heads that a BIOS which translates counts them in: as they are up to 504 MiB,
# then the fewest of 32, 64, 128 and 255 that come out with 1024 cylinders. One that does not translate stays with 16.
SOLD = {120_000_000: 16, 340_000_000: 16, 1024 * 16 * 63 * 512: 16, 540_000_000: 32, 850_000_000: 32,
        1_280_000_000: 64, 2_000_000_000: 64, 2_560_000_000: 128, 4_000_000_000: 128, 8_400_000_000: 255}


@pytest.mark.parametrize("bios", ["translating", "plain"])
@pytest.mark.parametrize("size", SOLD)
def test_a_drive_for_an_old_pc_is_counted_as_its_bios_does_everywhere(tmp_path, size, bios):
    heads = SOLD[size] if bios == "translating" else 16
    with create_image(tmp_path / "drive.img", size) as card:
        steps = prepared(Wish("drives", label="C"), survey(card))
        tracks = {"translating": (0, 0), "plain": (16, 63)}[bios]
        for step in (NewMap("mbr", *tracks), *steps[1:]):
            perform(step, card, None, Watch())
        map_, first = read_map(card), card.read(0, 512)
        assert (map_.heads, map_.sectors) == (heads, 63)
        for p in map_.partitions:
            entry = first[430 + 16 * p.index:][:16] if p.index < 5 else card.read(p.record + 446, 16)
            start, last = p.start // 512, p.end // 512 - 1
            assert last % (heads * 63) == heads * 63 - 1                              # ends on a cylinder
            for lba, field in ((start, entry[1:4]), (last, entry[5:8])):
                cylinder, head, sector = lba // (heads * 63), lba // 63 % heads, lba % 63 + 1
                assert field == (bytes((head, sector | cylinder >> 2 & 0xC0, cylinder & 0xFF)) if cylinder < 1024
                                 else bytes((heads - 1, 0xFF, 0xFF)))
            if p.type not in ("0x05", "0x0f"):
                boot = card.read(p.start, 512)
                assert [int.from_bytes(boot[at:at + n], "little") for at, n in ((24, 2), (26, 2), (28, 4))] == [
                    63, heads, start]
        machine = Machines().find("pc-dos" if bios == "translating" else "pc-dos-old-bios")
        assert not any("BIOS of a" in f.sentence for f in check(survey(card), machine))


@given(st.integers(1, 255), st.integers(1, 63), st.integers(1, 1000), st.integers(1, 500))
def test_the_geometry_of_a_table_is_read_off_it_or_noted_in_an_empty_one(heads, sectors, first, length):
    geometry = Geometry(heads, sectors)
    size = 1024 * geometry.cylinder
    card = MemoryBlocks(bytes(64 * 512))
    write_map(card, mbr.new(card.size, 512, "00000001", geometry))
    assert mbr.geometry_of(read_map(card)) == geometry
    start, end = first * geometry.cylinder, min(first + length, 1023) * geometry.cylinder
    if end > start:
        fields = [(lba, geometry.chs(lba)) for lba in (start, end - 1)]
        found = read_off(fields, derived(size))
        assert [found.chs(lba) for lba, _ in fields] == [field for _, field in fields]


def test_a_volume_that_moves_to_another_drive_is_counted_as_that_one():
    old, new = MemoryBlocks(bytes(40 * MIB), name="Old"), MemoryBlocks(bytes(64 * MIB), name="New")
    for card, tracks in ((old, (4, 32)), (new, (8, 17))):
        perform(NewMap("mbr", *tracks), card, None, Watch())
    perform(AddPartition("fat16", 20 * MIB), old, None, Watch())
    perform(CopyPartition(1), new, old, Watch())
    place = read_map(new).partition(1)
    boot = new.read(place.start, 512)
    assert (boot[24], boot[26], int.from_bytes(boot[28:32], "little")) == (17, 8, place.start // 512)
    with pytest.raises(FitError, match="1 to 63 sectors of a track"):
        perform(NewMap("mbr", 16, 64), new, None, Watch())
