"""FAT: table, names and whole volumes against plain models; faults found; nothing trusted."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.errors import FitError, FormatError, MossError
from mosscrate.core.volumes import open_volume
from mosscrate.core.volumes.clusters import BAD, END, FREE, Chains, owners
from mosscrate.core.volumes.fat import directory, names, open_fat, structures
from mosscrate.core.volumes.fat.growing import grow, plan
from mosscrate.core.volumes.fat.making import make, plan_geometry
from mosscrate.core.volumes.fat.structures import FatType, Geometry
from mosscrate.core.volumes.fat.table import decode, encode
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, expected, make_volume, some_files

SIZES = {FatType.FAT12: 2 * MIB, FatType.FAT16: 9 * MIB, FatType.FAT32: 36 * MIB}
types = st.sampled_from(list(FatType))
tables = st.lists(st.sampled_from([FREE, BAD, END]) | st.integers(2, 39), min_size=38, max_size=38)


def geometry(entries: int) -> Geometry:
    return Geometry(FatType.FAT16, 512, 1, 1, 2, 1, 16, 4 + entries - 2)


def naive_chain(table: list[int], first: int) -> list[int] | None:
    """A chain cluster by cluster; None where it is damaged."""
    found: list[int] = []
    while first != END:
        if not 2 <= first < len(table) or table[first] in (FREE, BAD) or first in found:
            return None
        found.append(first)
        first = table[first]
    return found


def test_structures_have_the_sizes_of_the_specification():
    sizes = (structures.BOOT16, structures.BOOT32, structures.FSINFO, structures.DIRECTORY_ENTRY, structures.LONG_NAME)
    assert [s.itemsize for s in sizes] == [512, 512, 512, 32, 32]


def test_a_fat12_is_packed_as_the_specification_shows():
    # §4: entry 2 = 0x003, 3 = 0x004, 4 = end, 5 = bad, 6 = free; two entries take three bytes, low nibbles first
    raw = bytes.fromhex("f8 ff ff  03 40 00  ff 7f ff  00 00 00")
    table = decode(raw, FatType.FAT12, 7)
    assert table[2:].tolist() == [3, 4, END, BAD, FREE]
    assert encode(table, FatType.FAT12, head=(0xFF8, 0xFFF)) == raw[:11]


@given(types, tables)
def test_decode_undoes_encode(type, rest):
    table = np.array([END, END, *rest], np.uint32)
    assert decode(encode(table, type, head=(END, END)), type, len(table)).tolist() == table.tolist()


@given(tables, st.integers(0, 45))
def test_chains_are_followed_as_cluster_by_cluster(rest, first):
    table = [END, END, *rest]
    chains = Chains(np.array(table, np.uint32), geometry(len(table)))
    want = [] if first == 0 else naive_chain(table, first)
    if want is None:
        with pytest.raises(FormatError):
            chains.runs(first)
    else:
        assert [c + k for c, n in chains.runs(first) for k in range(n)] == want


@given(tables, st.lists(st.integers(0, 45), max_size=5, unique=True))
def test_owners_tells_lost_held_and_crossed_clusters_apart(rest, heads):
    table = [END, END, *rest]
    walks = [naive_chain(table, h) for h in heads if h >= 2]
    if any(w is None for w in walks):
        return
    held = [sum(c in w for w in walks if w) for c in range(len(table))]
    found = owners(np.array(table, np.uint32), np.array(heads, np.int64))
    assert np.minimum(found, 2)[2:].tolist() == [min(h, 2) for h in held][2:]


@given(st.lists(st.text(st.characters(exclude_categories=["Cs", "Cc"], exclude_characters='"*/:<>?\\|'), min_size=1,
                        max_size=60).filter(lambda n: not names.why_not(n)), unique_by=str.lower, max_size=12))
def test_names_come_back_from_a_directory_as_they_went_in(wanted):
    taken = names.ShortNames()
    raw = b"".join(directory.build(n, attributes=32, cluster=k + 2, size=k, modified=None, taken=taken)
                   for k, n in enumerate(wanted))
    rows = list(directory.rows(raw + bytes(64)))
    assert [(r.name, r.cluster, r.size) for r in rows] == [(n, k + 2, k) for k, n in enumerate(wanted)]
    assert len({r.short for r in rows}) == len(wanted)


@given(st.integers(315532800, 4354819198))
def test_times_come_back_in_steps_of_two_seconds(seconds):
    assert names.timestamp(*names.fields_of(seconds)) == seconds // 2 * 2


@pytest.mark.parametrize("type", list(FatType))
def test_a_filled_volume_is_read_as_it_was_written_and_is_sound(type):
    blocks, files = MemoryBlocks(bytes(SIZES[type])), some_files(int(type), 120)
    make_volume(blocks, type, files=files)
    volume = open_fat(blocks)
    assert contents(blocks) == expected(files)
    assert (volume.kind, volume.label, volume.id) == (f"fat{int(type)}", "GAMES", "1234-5678")
    assert volumes.check(volume) == ()
    used = sum(e.length for e in volume.used_extents()[1:])
    assert volume.free == volume.geometry.cluster_count * volume.block - used


@pytest.mark.parametrize("type, clusters", [(FatType.FAT12, 4084), (FatType.FAT16, 4085), (FatType.FAT16, 65524),
                                            (FatType.FAT32, 65525)])
def test_the_type_turns_at_the_cluster_counts_of_the_specification(type, clusters):
    overhead = {FatType.FAT12: 1 + 2 * 12 + 32, FatType.FAT16: 1 + 2 * -(-(clusters + 2) * 2 // 512) + 32,
                FatType.FAT32: 32 + 2 * -(-(clusters + 2) * 4 // 512)}[type]
    blocks = MemoryBlocks(bytes((overhead + clusters) * 512))
    make(blocks, plan_geometry(blocks.size, type, cluster=512), volume_id=1)
    found = open_fat(blocks).geometry
    assert (found.type, found.cluster_count) == (type, clusters)


def damage(kind: str) -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(SIZES[FatType.FAT32]))
    make_volume(blocks, FatType.FAT32, files={"a.bin": b"a" * 5000, "b.bin": b"b" * 5000})
    volume = open_fat(blocks)
    a, b = (e.node for e in volume.tree().entries)
    fat, second = volume.geometry.fat_offset(0), volume.geometry.fat_offset(1)

    def link(cluster: int, value: int, *, both: bool = True) -> None:
        for base in (fat, second) if both else (second,):
            blocks.write(base + 4 * cluster, value.to_bytes(4, "little"))

    match kind:
        case "lost":
            link(5000, END)
        case "crossed":
            link(b, a + 1)
        case "loop":
            link(a + 2, a)
        case "short":
            link(a, END)
        case "copies":
            link(77, 5, both=False)
        case "fsinfo":
            blocks.write(512 + 488, (3).to_bytes(4, "little"))
        case "backup":
            blocks.write(6 * 512 + 13, b"\x40")
        case "dirty":
            blocks.write(fat + 7, b"\x07")
            blocks.write(second + 7, b"\x07")
    return blocks


@pytest.mark.parametrize("kind, words", [
    ("lost", "marked as used but belong to no file"), ("crossed", "more than one file"), ("loop", "damaged"),
    ("short", "its chain holds"), ("copies", "Copy 2 of the FAT differs"), ("fsinfo", "FSInfo says 3 free"),
    ("backup", "backup of the boot sector differs"), ("dirty", "not put away properly")])
def test_each_fault_is_found_and_named(kind, words):
    assert any(words in f.sentence for f in volumes.check(open_volume(damage(kind))))


cases = st.tuples(types, st.integers(0, 5), st.integers(0, 10**6), st.integers(101, 400))


@given(cases)
def test_growing_keeps_every_file_and_leaves_a_sound_volume(case):
    type, doubling, seed, percent = case
    start = SIZES[type] * (1 << doubling) // 8 // 512 * 512 if type == FatType.FAT12 else SIZES[type]
    cluster = {FatType.FAT12: 512 << doubling, FatType.FAT16: 512 << doubling % 2, FatType.FAT32: 512}[type]
    blocks = MemoryBlocks(bytes(start * percent // 100 // 512 * 512))
    files = some_files(seed, 50)
    volume = MemoryBlocks(bytes(start))
    make_volume(volume, type, cluster=cluster, files=files)
    blocks.write(0, bytes(volume.data))
    blocks.write(start, b"\xee" * (blocks.size - start))            # old rubbish behind the partition
    try:
        done = grow(blocks, blocks.size, Watch())
    except FitError:
        assert bytes(blocks.data[:start]) == bytes(volume.data)
        return
    after = open_fat(blocks)
    assert contents(blocks) == expected(files)
    assert volumes.check(after) == ()
    assert after.size == done.size <= blocks.size
    assert done.limit or blocks.size - after.size < after.block
    assert (after.label, after.id, after.kind) == ("GAMES", "1234-5678", f"fat{int(type)}")


def test_a_fat16_stops_at_its_cluster_count_and_says_so():
    blocks = MemoryBlocks(bytes(64 * MIB))
    volume = MemoryBlocks(bytes(9 * MIB))
    make_volume(volume, FatType.FAT16, cluster=512, files=some_files(3))
    blocks.write(0, bytes(volume.data))
    done = grow(blocks, blocks.size, Watch())
    assert "65,524" in done.limit
    assert open_fat(blocks).geometry.cluster_count == 65524
    assert plan(open_fat(volume), 9 * MIB + 512 * 600).limit == ""


def test_a_bad_cluster_in_the_way_is_refused_before_anything_is_written():
    blocks = MemoryBlocks(bytes(80 * MIB))
    volume = MemoryBlocks(bytes(SIZES[FatType.FAT32]))
    make_volume(volume, FatType.FAT32)
    blocks.write(0, bytes(volume.data))
    fat = open_fat(blocks).geometry.fat_offset(0)
    blocks.write(fat + 4 * 9, BAD.to_bytes(4, "little"))
    before = bytes(blocks.data)
    with pytest.raises(FitError, match="marked as bad"):
        grow(blocks, blocks.size, Watch())
    assert bytes(blocks.data) == before


@given(st.binary(max_size=2000))
def test_garbage_raises_only_our_errors(data):
    blocks = MemoryBlocks(data.ljust(4096, b"\0"))
    try:
        volume = open_volume(blocks)
        volume.tree()
        volumes.check(volume)
    except MossError:
        pass


def test_format_errors_name_field_offset_and_value():
    blocks = MemoryBlocks(bytes(SIZES[FatType.FAT32]))
    make_volume(blocks, FatType.FAT32)
    blocks.write(44, (0xFFFFFFF).to_bytes(4, "little"))
    with pytest.raises(FormatError, match="root_cluster at byte 0x2c is 268435455"):
        open_volume(blocks)
