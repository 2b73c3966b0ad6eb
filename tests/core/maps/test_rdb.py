"""RDB: sizes, a drive laid out and changed, what is kept, damaged chains."""

from __future__ import annotations

import contextlib
import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, whole_partition
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import MapKind, rdb, rdb_code, read_map
from mosscrate.core.maps.base import Environment
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.volumes import Traits, edit
from mosscrate.core.watch import Watch
from tests.volumes import MIB, WHEN

CYLINDER = 16 * 63 * 512


def drive(size: int = 64 * MIB) -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(size), name="Tarn")
    for step in (s.NewMap("rdb"), s.AddPartition("ffs-intl", 8 * MIB, label="System"),
                 s.AddPartition("ffs", 12 * MIB, label="Work"), s.AddPartition("ofs", 6 * MIB, label="Old")):
        perform(step, blocks, None, Watch())
    return blocks


def longs_sum(block: bytes) -> int:
    return sum(int.from_bytes(block[k:k + 4], "big") for k in range(0, 256, 4)) & 0xFFFFFFFF


def test_structures_have_the_sizes_of_the_specification():
    assert (rdb.RDSK.itemsize, rdb.PART.itemsize) == (256, 256)
    assert [rdb.PART.fields[f][1] for f in ("drive_name", "table_size", "low_cyl", "dos_type")] == [36, 128, 164, 192]


def test_a_drive_is_laid_out_in_whole_cylinders_with_sound_blocks():
    blocks = drive()
    map_ = read_map(blocks)
    assert (map_.kind, [p.label for p in map_.partitions]) == (MapKind.RDB, ["DH0", "DH1", "DH2"])
    assert [p.type for p in map_.partitions] == ["0x444f5303", "0x444f5301", "0x444f5300"]
    assert all(p.start % CYLINDER == p.length % CYLINDER == 0 for p in map_.partitions)
    for place in (0, *(p.record for p in map_.partitions)):
        assert longs_sum(bytes(blocks.data[place:place + 256])) == 0
    layout = survey(blocks, thorough=True)
    assert [(p.name, p.volume.kind) for p in layout.partitions] == [("System", "ffs"), ("Work", "ffs"), ("Old", "ofs")]
    assert [f for f in layout.findings if f.severity != "good"] == []


def test_partitions_are_removed_moved_flagged_and_retyped_and_the_rest_is_kept():
    blocks = drive()
    code = b"LSEG" + bytes(range(252))
    blocks.write(40 * 512, code)                             # somewhere in the map's own area
    perform(s.FlagPartition(2, "active"), blocks, None, Watch())
    perform(s.RemovePartition(1), blocks, None, Watch())
    perform(s.MovePartition(1, 2 * CYLINDER), blocks, None, Watch())
    perform(s.TypePartition(1, "0x50465303"), blocks, None, Watch())
    map_ = read_map(blocks)
    assert [(p.index, p.label, p.start, p.type_name, p.flags) for p in map_.partitions] == [
        (1, "DH1", 2 * CYLINDER, "PFS\\3", ("active",)), (2, "DH2", map_.partitions[1].start, "OFS", ())]
    assert bytes(blocks.data[40 * 512:40 * 512 + 256]) == code
    with pytest.raises(FitError, match="does not carry"):
        perform(s.AddPartition("exfat"), blocks, None, Watch())
    perform(s.MovePartition(1, 3 * MIB), blocks, None, Watch())
    assert read_map(blocks).partition(1).start == 7 * CYLINDER


def test_a_partition_may_count_in_cylinders_and_sectors_of_its_own():
    """Surfaces, track and SizeBlock are the partition's; some programs leave cylinders in the drive's 512 bytes."""
    blocks = drive()
    old = read_map(blocks).partition(2)
    raw = np.frombuffer(bytes(blocks.data[old.record:old.record + 512]), rdb.PART, count=1)[0].copy()
    raw["size_block"], raw["surfaces"] = 256, 8                      # half the heads: twice the cylinders
    raw["low_cyl"], raw["high_cyl"] = old.start // (CYLINDER // 2), old.end // (CYLINDER // 2) - 1
    blocks.write(old.record, rdb.sealed(raw))
    assert (read_map(blocks).partition(2).start, read_map(blocks).partition(2).length) == (old.start, old.length)
    perform(s.RemovePartition(1), blocks, None, Watch())
    perform(s.AddPartition("ofs", 2 * MIB), blocks, None, Watch())
    kept = read_map(blocks).partition(1)
    assert (kept.start, kept.length, kept.environment.sector) == (old.start, old.length, 512)
    told = [f.sentence for f in survey(blocks, thorough=True).findings if f.severity != "good"]
    assert len(told) == 1                                            # its volume was not made for such blocks
    assert told[0].endswith("the drive's map gives it blocks of 1024 bytes, the volume has 512.")
    blocks.write(old.start, bytes(4))                                # nothing to be seen: its own table counts
    assert read_map(blocks).partition(1).start == 2 * old.start


def test_partitions_that_overlap_or_leave_the_drive_are_told_and_the_map_is_not_called_sound():
    blocks = drive()
    old = read_map(blocks).partition(1)
    raw = np.frombuffer(bytes(blocks.data[old.record:old.record + 512]), rdb.PART, count=1)[0].copy()
    raw["high_cyl"] += 200
    blocks.write(old.record, rdb.sealed(raw))
    told = [f.sentence for f in read_map(blocks).findings]
    assert [t.split(" ends ")[0] for t in told] == [
        "Partition 1", "Partitions 1 and 2 overlap.", "Partitions 1 and 3 overlap.",
        "This is a drive of another family of machines."]


def test_on_a_larger_card_the_new_room_takes_another_partition():
    small = drive()
    blocks = MemoryBlocks(bytes(small.data) + bytes(40 * MIB), name="Larger")
    perform(s.AddPartition("ffs", label="More"), blocks, None, Watch())
    added = read_map(blocks).partitions[-1]
    assert (added.label, added.end) == ("DH3", blocks.size // CYLINDER * CYLINDER)
    window = Window(blocks, added.start, added.length)
    editor = edit(window)
    editor.add_file("readme", b"x" * 100_000)
    editor.commit()
    assert [f for f in survey(blocks, thorough=True).findings if f.severity != "good"] == []


def test_a_volume_of_another_size_is_made_anew_with_comments_and_protection():
    blocks = drive()
    part = read_map(blocks).partition(3)
    editor = edit(Window(blocks, part.start, part.length))
    editor.add_file("a song", b"la" * 5000, Traits(WHEN, protection=0x21, comment="from the old bench"))
    editor.add_folder("folder", Traits(WHEN, protection=2))
    editor.commit()
    for step in (s.GrowPartition(3), s.ShrinkPartition(3, 4 * MIB), s.RebuildPartition(3, "ffs")):
        seen = forecast(JobSheet((step,)), None, survey(blocks))
        assert seen.problems == ()
        perform(step, blocks, None, Watch())
        layout = survey(blocks, thorough=True)
        assert layout.partition(3).partition.length == seen.layout.partition(3).partition.length
        assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []
        found = {e.path: (e.protection, e.comment, e.size) for e in open_partition(blocks, 3).tree().entries}
        assert found == {"a song": (0x21, "from the old bench", 10000), "folder": (2, "", 0)}
    assert read_map(blocks).partition(3).type == "0x444f5301"


def with_code(blocks: MemoryBlocks, dos_type: bytes, load: bytes, numbers: tuple[int, ...]) -> None:
    """File-system code in free blocks of the map, written field by field: FSHD, then LSEG blocks."""
    def put(number, fields, data=b""):
        block = bytearray(data.ljust(512, b"\0"))
        for at, value in fields:
            block[at:at + 4] = value if isinstance(value, bytes) else value.to_bytes(4, "big")
        total = sum(int.from_bytes(block[k:k + 4], "big") for k in range(0, 4 * block_longs(block), 4))
        block[8:12] = (-total & 0xFFFFFFFF).to_bytes(4, "big")
        blocks.write(number * 512, bytes(block))

    def block_longs(block):
        return int.from_bytes(block[4:8], "big")

    head, *segments = numbers
    parts = [load[k:k + 492] for k in range(0, len(load), 492)]
    assert len(parts) == len(segments)
    for number, part, following in zip(segments, parts, (*segments[1:], 0xFFFFFFFF), strict=True):
        put(number, ((0, b"LSEG"), (4, 5 + len(part) // 4), (12, 7), (16, following)), bytes(20) + part)
    old = bytes(blocks.data[28:28 + 4])                                  # FileSysHeaderList is long 8
    put(head, ((0, b"FSHD"), (4, 64), (12, 7), (16, int.from_bytes(blocks.data[32:36], "big")), (32, dos_type),
               (36, 40 << 16 | 1), (40, 0x180), (72, segments[0]), (76, 0xFFFFFFFF)))
    assert old
    rdsk = bytearray(blocks.data[:512])
    rdsk[32:36], rdsk[8:12] = head.to_bytes(4, "big"), bytes(4)
    rdsk[8:12] = (-longs_sum(bytes(rdsk)) & 0xFFFFFFFF).to_bytes(4, "big")
    blocks.write(0, bytes(rdsk))


def test_embedded_code_goes_to_another_drive_byte_for_byte_and_stays_through_changes():
    first, second = drive(), drive()
    loads = {b"PFS\x03": random.Random(1).randbytes(492 * 9 + 100), b"DOS\x07": random.Random(2).randbytes(492 * 4)}
    with_code(first, b"PFS\x03", loads[b"PFS\x03"], (200, 60, 62, 61, 90, 91, 92, 93, 94, 95, 300))
    with_code(first, b"DOS\x07", loads[b"DOS\x07"], (20, 30, 40, 50, 55))
    perform(s.TypePartition(3, "0x50465303"), first, None, Watch())
    seen = forecast(JobSheet((s.BringCode("0x50465303"), s.BringCode())), survey(first), survey(second))
    assert seen.problems == ()
    for step in (s.BringCode("0x50465303"), s.BringCode(), s.BringCode()):        # a second time replaces
        perform(step, second, first, Watch())
    for step in (s.AddPartition("ffs", 8 * MIB), s.RemovePartition(1), s.TunePartition(1, buffers=80)):
        perform(step, second, None, Watch())
    codes = {c.dos_type: c for c in rdb_code.codes_in(read_map(second))}
    assert {k: c.load for k, c in codes.items()} == loads
    assert codes[b"PFS\x03"].name == "PFS\\3 40.1"
    was = {c.dos_type: c for c in rdb_code.codes_in(read_map(first))}
    assert all(codes[k].header[20:72] == was[k].header[20:72] for k in loads)
    records = {p.record // 512 for p in read_map(second).partitions}
    assert not records & {n for c in codes.values() for n in c.numbers}
    assert [f for f in survey(second, thorough=True).findings if f.severity in ("problem", "warning")] == []
    perform(s.RemoveCode("0x50465303"), second, None, Watch())
    assert [c.dos_type for c in rdb_code.codes_in(read_map(second))] == [b"DOS\x07"]
    with pytest.raises(FitError, match="embedded"):
        perform(s.RemoveCode("0x50465303"), second, None, Watch())


def test_a_circle_of_code_blocks_is_refused_and_left_alone():
    first, second = drive(), drive()
    with_code(first, b"PFS\x03", bytes(492 * 2), (200, 60, 61))
    block = bytearray(first.data[61 * 512:62 * 512])
    block[16:20], block[8:12] = (60).to_bytes(4, "big"), bytes(4)
    total = sum(int.from_bytes(block[k:k + 4], "big") for k in range(0, 512, 4))
    block[8:12] = (-total & 0xFFFFFFFF).to_bytes(4, "big")
    first.write(61 * 512, bytes(block))
    with pytest.raises(FitError, match="cannot be followed"):
        perform(s.BringCode(), second, first, Watch())
    before = bytes(first.data[60 * 512:62 * 512])
    perform(s.AddPartition("ffs"), first, None, Watch())
    assert bytes(first.data[60 * 512:62 * 512]) == before


def test_a_partition_keeps_what_its_drivers_need_when_it_changes_and_when_it_goes_to_another_drive():
    first, second = drive(), MemoryBlocks(bytes(64 * MIB), name="Fen")
    perform(s.NewMap("rdb", 4, 32), second, None, Watch())
    tuned = s.TunePartition(2, "BOOT", 5, 0x00FFFFFE, 0x20000, 99)
    for step in (tuned, s.TypePartition(2, "0x50465303"), s.FlagPartition(2, "active"),
                 s.AddPartition("ofs", block=1024)):
        perform(step, first, None, Watch())
    part = read_map(first).partition(2)
    assert (part.label, part.environment) == ("BOOT", Environment(5, 0x00FFFFFE, 0x20000, 99, 512))
    assert read_map(first).partition(4).environment.block == survey(first).partition(4).volume.block == 1024
    first.write(part.start, b"PFS\1")
    first.write(part.start + 5000, b"whatever stands on it")
    perform(s.CopyPartition(2), second, first, Watch())
    came = read_map(second).partition(1)
    assert (came.label, came.environment, came.type, came.flags) == (part.label, part.environment, "0x50465303",
                                                                     ("active",))
    assert second.read(came.start, part.length) == first.read(part.start, part.length)
    assert (came.start, came.length % (4 * 32 * 512)) == (4 * 32 * 512 * 2, 0)
    for step, why in ((s.TunePartition(1, boot_priority=200), "between"), (s.TunePartition(1, mask=0), "32 bits"),
                      (s.TunePartition(1, "x" * 31), "30 characters")):
        with pytest.raises(FitError, match=why):
            perform(step, second, None, Watch())


def test_a_drive_that_also_carries_an_mbr_keeps_it():
    blocks = drive()
    rdsk = bytes(blocks.data[:512])
    sector = bytes(446) + bytes.fromhex("80010100 0cfeffff 00080000 00400000").ljust(64, b"\0") + b"\x55\xaa"
    blocks.write(512 * 12, rdsk)
    blocks.write(0, sector)
    layout = survey(blocks)
    assert layout.map_kind == MapKind.RDB
    assert any("MBR too (1 partition)" in f.sentence for f in layout.findings)
    perform(s.RemovePartition(2), blocks, None, Watch())
    assert bytes(blocks.data[:512]) == sector
    assert len(survey(blocks).partitions) == 2


def test_a_whole_drive_inside_a_partition_is_named_and_taken_out_as_one():
    inner, card = drive(40 * MIB), MemoryBlocks(bytes(64 * MIB), name="Card")
    for step in (s.NewMap("mbr"), s.AddPartition("", 40 * MIB), s.TypePartition(1, "0x76")):
        perform(step, card, None, Watch())
    part = read_map(card).partition(1)
    card.write(part.start, bytes(inner.data))
    layout = survey(card)
    assert any("a whole drive of its own, with an RDB and 3 partitions" in f.sentence for f in layout.findings)
    taken = whole_partition(card, 1)
    assert shape_of(survey(MemoryBlocks(taken.read(0, taken.size)))) == shape_of(survey(inner))


def shape_of(layout):
    return [(p.name, p.partition.start, p.partition.length) for p in layout.partitions]


@given(st.integers(0, 10**9))
def test_a_damaged_chain_is_read_in_part_or_refused(seed):
    rnd, blocks = random.Random(seed), MemoryBlocks(DRIVE)
    for _ in range(rnd.choice((1, 2, 5))):
        place = rnd.choice((0, *RECORDS)) + rnd.randrange(256)
        blocks.write(place, rnd.randbytes(rnd.choice((1, 4))))
        if rnd.random() < 0.5:                               # a lie with a right checksum
            base = place // 512 * 512
            blocks.write(base + 8, bytes(4))
            blocks.write(base + 8, ((-longs_sum(bytes(blocks.data[base:base + 256]))) & 0xFFFFFFFF).to_bytes(4, "big"))
    with contextlib.suppress(MossError):
        survey(blocks)


DRIVE = bytes(drive().data)
RECORDS = [p.record for p in read_map(MemoryBlocks(DRIVE)).partitions]
