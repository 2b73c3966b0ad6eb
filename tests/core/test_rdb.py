"""RDB: sizes, a drive laid out and changed, what is kept, damaged chains."""

from __future__ import annotations

import contextlib
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import MapKind, rdb, read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.fit import forecast
from mosscrate.core.sheet.performing import perform
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
    with pytest.raises(FitError, match="multiple of"):
        perform(s.MovePartition(1, 3 * MIB), blocks, None, Watch())


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
