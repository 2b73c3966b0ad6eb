"""MBR: an annotated sample from outside our code, sizes, CHS, what is not an MBR, damaged chains."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, Partition, edits, mbr, read_map, write_map
from mosscrate.core.volumes.fat.making import make, plan_geometry
from mosscrate.core.volumes.fat.structures import FatType

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
    assert [p.length for p in drives[:4]] == [100 * MIB // 512 * 512] * 4
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
