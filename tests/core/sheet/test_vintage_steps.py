"""Steps on drives of home computers: a drive pulled at any write is taken back, whatever the step was."""

from __future__ import annotations

from dataclasses import replace

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.maps import rdb_code, read_map, write_map
from mosscrate.core.maps.dostypes import DOS_TYPES
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.volumes import Making, format_for
from mosscrate.core.volumes.ffs import structures as f
from mosscrate.core.watch import Watch
from tests.core.maps.test_ahdi import drive as ahdi_drive
from tests.core.maps.test_rdb import drive as rdb_drive
from tests.core.maps.test_rdb import with_code
from tests.core.sheet.test_converting import filled
from tests.core.sheet.test_propose import long_chain
from tests.core.sheet.test_steps import put_in, shape, trees
from tests.core.volumes.test_ffs import patch
from tests.journals import cut_short, taken_back
from tests.volumes import MIB


def rdb() -> MemoryBlocks:
    return filled(rdb_drive(40 * MIB))


def coded() -> MemoryBlocks:
    drive = rdb()
    with_code(drive, b"PFS\x03", bytes(range(246)) * 6, (200, 60, 62, 61))
    return drive


def chained() -> MemoryBlocks:
    drive = ahdi_drive(2, 60 * MIB)
    for number in range(3):
        perform(s.AddPartition("gemdos", 5 * MIB, label=f"CHAIN{number}", is_logical=True), drive, None, Watch())
    return filled(drive)


def gap_in_chain() -> MemoryBlocks:
    """Logical drives, the last of them far behind; its record is still close to where it was."""
    card = long_chain()
    perform(s.MovePartition(7, 14 * MIB), card, None, Watch())
    return card


def bare(kind: str) -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(3 * MIB), name="Bare")
    format_for(kind).make(blocks, Making(kind, "Work"))
    put_in(blocks, {"MUSIC": None, **{f"MUSIC/song {k}": bytes((k,)) * k * 300 for k in range(30)}})
    return blocks


def unclean() -> MemoryBlocks:
    blocks = bare("ffs")
    from mosscrate.core.volumes import open_volume
    patch(blocks, open_volume(blocks).root, f.BM_FLAG, 0)
    return blocks


CASES = {
    "tune": (rdb, s.TunePartition(2, "BOOT", 5, 0xFFFFFE, 0x20000, 60)),
    "bring code": (rdb, s.BringCode()), "remove code": (coded, s.RemoveCode("0x50465303")),
    "add to an RDB": (coded, s.AddPartition("ffs-cache", 5 * MIB, label="New")),
    "move in an RDB": (rdb, s.MovePartition(3)), "remove from an RDB": (rdb, s.RemovePartition(2)),
    "grow FFS anew": (rdb, s.GrowPartition(3)), "rebuild with long names": (rdb, s.RebuildPartition(2, "ffs-long")),
    "add to a chain": (chained, s.AddPartition("gemdos", 5 * MIB, label="NEW")),
    "remove from a chain": (chained, s.RemovePartition(4)), "move in a chain": (chained, s.MovePartition(5)),
    "front of an extended": (long_chain, s.MovePartition(2, 9 * MIB // 2)),
    "move a logical drive": (long_chain, s.MovePartition(7)),
    "grow a logical drive up to the next": (gap_in_chain, s.GrowPartition(6)),
    "rebitmap": (unclean, s.RebuildBitmap(0)),
    "put into caches": (lambda: bare("ofs-cache"), s.MakeFolder(0, "MUSIC/more/and/more")),
    "remove from long names": (lambda: bare("ffs-long"), s.RemoveFiles(0, ("MUSIC",))),
    "set traits": (lambda: bare("ffs-cache"), s.SetTraits(0, "MUSIC/song 3", "a comment", "-----w--", 1_500_000_000)),
}


def codes(blocks) -> list:
    map_ = read_map(blocks)
    return [(c.dos_type, c.load) for c in rdb_code.codes_in(map_)] if map_.kind == "rdb" else []


@pytest.mark.parametrize("name", CASES)
def test_a_drive_pulled_at_any_write_of_a_step_is_taken_back(name, tmp_path):
    make, step = CASES[name]
    before, source = bytes(make().data), coded()
    count = FaultyBlocks(MemoryBlocks(before), Faults())
    used = cut_short(step, count, source, tmp_path / "whole")
    assert used <= forecast(JobSheet((step,)), survey(source), survey(MemoryBlocks(before))).journal
    plain = MemoryBlocks(before)
    was = (trees(plain), shape(survey(plain)), codes(plain))
    done = MemoryBlocks(before)
    perform(step, done, source, Watch())
    assert [x.sentence for x in survey(done, thorough=True).findings if x.severity in ("problem", "warning")] == []
    n = count.writes
    cuts = range(1, n + 1) if n < 16 else {*range(1, 6), *range(6, n, n // 8), n - 1, n}
    for cut in cuts:
        medium = MemoryBlocks(before)
        cut_short(step, FaultyBlocks(medium, Faults(pulled_after_writes=cut)), source, tmp_path / f"{cut}")
        taken_back(medium, tmp_path / f"{cut}")
        assert (trees(medium), shape(survey(medium)), codes(medium)) == was, f"cut after write {cut}"
        if step.is_undone_exactly:
            assert bytes(medium.data) == before


@pytest.mark.parametrize("kind", list(DOS_TYPES))
@pytest.mark.parametrize("block", [512, 1024, 4096])
def test_the_entry_of_a_bare_volume_that_is_brought_over_says_what_the_volume_is(kind, block):
    source = MemoryBlocks(bytes(3 * MIB), name="Bare")
    format_for(kind).make(source, Making(kind, "Work", block))
    put_in(source, {"song": b"la" * 3000})
    drive = MemoryBlocks(bytes(40 * MIB), name="Drive")
    perform(s.NewMap("rdb"), drive, None, Watch())
    perform(s.CopyPartition(0), drive, source, Watch())
    part = read_map(drive).partition(1)
    assert (part.type, part.environment.block) == (f"0x444f530{DOS_TYPES[kind]}", block)
    assert survey(drive, thorough=True).findings[-1].severity != "problem"
    wrong = MemoryBlocks(bytes(drive.data))
    map_ = read_map(wrong)
    lie = replace(part, environment=replace(part.environment, block=2048))
    write_map(wrong, replace(map_, partitions=(lie,)))
    assert any("Its machine cannot mount Work: the drive's map gives it blocks of 2048" in f.sentence
               for f in survey(wrong).findings)
    write_map(wrong, replace(map_, partitions=(replace(part, type="0x50465303"),)))
    assert any("Its machine cannot mount Work" in f.sentence for f in survey(wrong).findings)


@pytest.mark.parametrize("is_logical", [False, True])
def test_the_id_of_an_ahdi_partition_follows_its_size(is_logical):
    drive = MemoryBlocks(bytes(60 * MIB), name="Corvid 8")
    perform(s.NewMap("ahdi"), drive, None, Watch())
    perform(s.AddPartition("gemdos", 12 * MIB, label="MUSIC", is_logical=is_logical), drive, None, Watch())
    assert read_map(drive).partition(1).type == "GEM"
    perform(s.GrowPartition(1, 30 * MIB), drive, None, Watch())
    assert (read_map(drive).partition(1).type, survey(drive).partitions[0].volume.label) == ("BGM", "MUSIC")
    perform(s.ShrinkPartition(1, 14 * MIB), drive, None, Watch())
    assert read_map(drive).partition(1).type == "GEM"


@pytest.mark.parametrize("block", f.BLOCK_SIZES)
@pytest.mark.parametrize("kind", list(DOS_TYPES))
def test_the_entry_of_a_volume_says_what_the_volume_is_whichever_way_it_came(kind, block):
    """Read here as the published include writes it: DosType at 192, longs of a block at 132, sectors in it at 144."""
    alone = MemoryBlocks(bytes(4 * MIB), name="Alone")
    format_for(kind).make(alone, Making(kind, "Work", block))
    for steps, source in (((s.CopyPartition(0),), alone), ((s.AddPartition(kind, 4 * MIB, block=block),), None),
                          ((s.AddPartition("ofs", 4 * MIB), s.FormatPartition(1, kind, "Work", block)), None),
                          ((s.AddPartition("ofs", 4 * MIB), s.RebuildPartition(1, kind, block)), None)):
        drive = MemoryBlocks(bytes(16 * MIB), name="Drive")
        for step in (s.NewMap("rdb"), *steps):
            perform(step, drive, source, Watch())
        part = drive.read(read_map(drive).partition(1).record, 256)
        start = read_map(drive).partition(1).start
        assert part[192:196] == drive.read(start, 4)
        assert int.from_bytes(part[132:136], "big") * 4 * int.from_bytes(part[144:148], "big") == block
        layout = survey(drive, thorough=True)
        assert (layout.partitions[0].volume.block, layout.partitions[0].variant) == (block, kind)
        assert [f.sentence for f in layout.findings if f.severity in ("problem", "warning")] == []
