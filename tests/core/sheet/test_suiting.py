"""A move for a machine that would not know the source: another map, other file systems, another order of bytes."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.swapped import swapped
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.machines import Boot, Geometry, Limit, Machine, check
from mosscrate.core.maps import rdb
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.suiting import Suited, suited
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sizes import binary
from mosscrate.demo.cards import apple_map
from mosscrate.demo.contents import MadeFile
from mosscrate.demo.hfs import make_hfs
from tests.core.sheet.test_converting import DRIVES, run
from tests.volumes import MIB, WHEN

USUAL = JobSheet((s.KeepCard(s.Which.SOURCE), s.WriteImage(), s.Verify(), s.Eject()))
LOOM = Machine("loom", ("rdb", "none"), ("ofs", "ofs-intl"), bytes="either", geometry=Geometry(8, 32),
               boot=Boot(must_be_marked=True))


def names(blocks) -> list[list[str]]:
    return [sorted(e.path.upper() for e in open_partition(blocks, p.index).tree().entries)
            for p in survey(blocks).partitions]


@pytest.mark.parametrize("size", [96, 240])
def test_partitions_come_under_a_map_and_in_file_systems_that_the_machine_knows(size):
    drive, target = DRIVES["ahdi"](), MemoryBlocks(bytes(size * MIB), name="Target")
    made = suited(USUAL, survey(drive), survey(target), LOOM)
    assert [f.sentence for f in made.findings] == [
        "A loom does not know the source’s map: its partitions come under one that it knows."]
    kept, *middle, eject = made.sheet.steps
    assert (kept, middle[0], middle[-1], eject) == (s.KeepCard(s.Which.SOURCE), s.NewMap("rdb", 8, 32),
                                                    s.FlagPartition(1, "active"), s.Eject())
    layout = run(middle, target, drive)
    assert [p.volume.variant for p in layout.partitions] == ["ofs-intl"] * 3
    head = rdb.head_of(layout.map)[1]
    assert (int(head["heads"]), int(head["sectors"])) == (8, 32)
    assert [f.severity for f in check(layout, LOOM)] == ["good"]
    assert names(target) == names(drive)


def test_a_volume_that_is_made_anew_is_no_larger_than_the_machine_takes():
    drive, target = DRIVES["ahdi"](), MemoryBlocks(bytes(96 * MIB), name="Target")
    machine = Machine("loom", ("rdb",), ("ffs",), partition=Limit("10 MiB", "its shuttle is short"))
    steps = suited(USUAL, survey(drive), survey(target), machine).sheet.steps[1:-1]
    assert [step.size for step in steps if isinstance(step, s.CopyPartition)] == [None, 10 * MIB, None]
    layout = run(steps, target, drive)
    assert max(p.partition.length for p in layout.partitions) <= 10 * MIB
    assert names(target) == names(drive)


def test_of_an_apple_drive_the_volumes_come_and_not_what_serves_its_map():
    bare = MemoryBlocks(bytes(8 * MIB))
    make_hfs(bare, "Tapes", [MadeFile("Songs", None, WHEN), MadeFile("Songs/First", b"la" * 3000, WHEN)], WHEN)
    drive = MemoryBlocks(apple_map("Tapes", bare.size) + bytes(bare.data), name="Desk")
    target = MemoryBlocks(bytes(96 * MIB), name="Target")
    steps = suited(USUAL, survey(drive), survey(target), LOOM).sheet.steps[1:-1]
    assert [type(step) for step in steps] == [s.NewMap, s.CopyPartition, s.FlagPartition]
    assert [p.name for p in run(steps, target, drive).partitions] == ["Tapes"]
    assert names(target) == [["SONGS", "SONGS/FIRST"]]


def test_what_the_machine_knows_or_cannot_have_stays_the_usual_move():
    drive, target = survey(DRIVES["ahdi"]()), survey(MemoryBlocks(bytes(96 * MIB)))
    small = survey(MemoryBlocks(bytes(20 * MIB)))
    for machine, onto in ((Machine("music machine", ("ahdi",), ("gemdos",)), target),
                          (Machine("workstation", ("apple",), ("hfs",)), target), (LOOM, small)):
        assert suited(USUAL, drive, onto, machine) == Suited(USUAL)
    unknown = survey(MemoryBlocks(b"\x5a" * (8 * MIB)))
    assert suited(USUAL, unknown, target, Machine("board", ("mbr",), ("fat16",))) == Suited(USUAL)


def test_bytes_are_exchanged_for_a_machine_that_reads_them_in_the_other_order():
    drive, target = DRIVES["ahdi"](), survey(MemoryBlocks(bytes(96 * MIB)))
    turned = MemoryBlocks(bytes(swapped(bytes(drive.data))))
    for source, order, is_swapped in ((drive, "swapped", True), (drive, "straight", False), (drive, "either", False),
                                      (turned, "straight", True), (turned, "swapped", False)):
        machine = Machine("adapter", ("ahdi",), ("gemdos",), bytes=order)
        made = suited(USUAL, survey(source), target, machine)
        assert s.WriteImage(swap=is_swapped) in made.sheet.steps
        assert len(made.findings) == is_swapped


def test_what_grows_stops_where_the_machine_does_and_says_so():
    drive, target = DRIVES["rdb"](), survey(MemoryBlocks(bytes(240 * MIB)))
    usual = JobSheet((s.WriteImage(), s.GrowPartition(3), s.Verify()))
    reach = Limit("120 MiB", "its drivers count bytes in 27 bits")
    made = suited(usual, survey(drive), target, Machine("loom", ("rdb",), ("ffs-intl",), reach=reach))
    grown = forecast(made.sheet, survey(drive), target).layout.partition(3)
    assert 119 * MIB < grown.partition.end <= 120 * MIB
    assert [f.sentence for f in made.findings] == [
        f"{grown.name} stops at {binary(made.sheet.steps[1].size)}: its drivers count bytes in 27 bits."]
    tight = Machine("loom", ("rdb",), ("ffs-intl",), partition=Limit("2 MiB", "its shuttle is short"))
    made = suited(usual, survey(drive), target, tight)
    assert made.sheet.steps == (s.WriteImage(), s.Verify())
    assert made.findings[0].sentence == f"{grown.name} does not grow: its shuttle is short."
