"""The sheet that is proposed for a source and a target, before anybody corrects it."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, edits, read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.making_room import growth_with_room
from mosscrate.core.sheet.planning.propose import (
    gives_room,
    kind_under,
    offered,
    propose,
    propose_arrangement,
    propose_growth,
)
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.sights import planned
from mosscrate.core.slots import Source
from mosscrate.core.volumes import Kind
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.core.sheet.test_converting import DRIVES, rdb_bare
from tests.core.sheet.test_steps import SIZE, card, put_in
from tests.sheets import bases


def plan(bench, source, target=b"", size: int = 0):
    """The names of the proposed steps for a card with these bytes and a target of `size`."""
    put_card(bench, "old", len(source), source)
    put_card(bench, "new", size or 2 * len(source), target)
    ends = [bench.shelf.find(name) for name in ("old", "new")]
    layouts = []
    for medium in ends:
        with medium.open() as blocks:
            layouts.append(survey(blocks))
    sheet = propose(ends[0], layouts[0], ends[1], layouts[1], bench.crate)
    assert forecast(sheet, *layouts).problems == ()
    assert [sheet.source.tag, sheet.target.tag] == [m.tag for m in ends]
    return sheet.steps


def test_a_card_in_a_reader_is_kept_written_grown_compared_and_let_go(bench):
    assert plan(bench, handheld().data) == (
        s.KeepCard(s.Which.SOURCE), s.WriteImage(), s.GrowPartition(2), s.Verify(), s.Eject())


@pytest.mark.parametrize(("tail", "more", "grows"), [(0, MIB // 4, None), (4 * MIB, 0, False), (4 * MIB, MIB, True)])
def test_a_clone_is_a_clone_and_growing_is_proposed_where_it_gives_something(tail, more, grows, bench):
    put_card(bench, "source", 64 * MIB, handheld(64 * MIB, tail=tail).data)
    put_card(bench, "target", 64 * MIB + more)
    ends = [bench.shelf.find(name) for name in ("Source", "Target")]
    with ends[0].open() as a, ends[1].open() as b:
        layouts = survey(a), survey(b)
    sheet = propose(ends[0], layouts[0], ends[1], layouts[1], bench.crate)
    growing = [k for k, step in enumerate(sheet.steps) if gives_room(step)]
    assert bool(growing) == (grows is not None)
    assert offered(sheet, layouts[0]) == (frozenset() if grows else frozenset(growing))


class Noting(MemoryBlocks):
    """Counts what is written."""

    written = 0

    def _write(self, offset, data):
        self.written += len(data)
        super()._write(offset, data)


@pytest.mark.parametrize(("name", "said"), [
    ("in its free room", "in use"), ("without a map", "nobody knows what of its 40 MiB is in use"),
    ("in a partition of its own", "more nobody knows")])
def test_no_more_is_written_than_was_forecast_and_unknown_is_not_nothing(name, said):
    source = MemoryBlocks(bytes(handheld().data))
    if name == "in its free room":
        window = open_partition(source, 2).blocks
        window.write(window.size - 9 * MIB, b"left over " * 800_000)
    elif name == "without a map":
        source = MemoryBlocks(b"Zx" * (20 * MIB))
    else:
        read_map(source)
        partition_window(source, read_map(source).partition(2)).write(0, b"Zx" * (10 * MIB))
    target = Noting(bytes(b"\xe5" * (64 * MIB)))
    sheet = JobSheet((s.KeepCard(), s.WriteImage(), s.Verify()))
    seen = forecast(sheet, survey(source), survey(target), source_blocks=source, target_blocks=target)
    assert seen.problems == ()
    assert said in seen.lines[0].note
    assert said in seen.lines[1].note
    assert "0 file" not in seen.lines[2].sentence
    perform(s.WriteImage(), target, source, Watch())
    zeros = 4 * MIB                                      # the head and the end, which are cleared first
    assert target.written - zeros <= seen.lines[1].writes
    assert seen.lines[0].writes >= (20 * MIB if name != "in its free room" else 0)


def test_a_source_that_fits_as_it_is_is_not_said_to_be_shrunk():
    source, target = MemoryBlocks(bytes(handheld().data)), MemoryBlocks(bytes(64 * MIB))
    made = s.WriteFitted().decide(planned(survey(target), "card", target), planned(survey(source), "source", source))
    assert "shrunk" not in made.sentence


def test_a_target_is_kept_first_where_it_holds_what_no_backup_has(bench):
    steps = plan(bench, handheld().data, handheld(seed=9).data, 40 * MIB)
    assert steps[:2] == (s.KeepCard(s.Which.TARGET), s.KeepCard(s.Which.SOURCE))
    target = bench.shelf.find("new")
    with target.open() as blocks:
        bench.crate.keep(card_of(target), blocks, Watch())
    assert plan(bench, handheld().data, handheld(seed=9).data, 40 * MIB)[0] == s.KeepCard(s.Which.SOURCE)


def test_an_image_needs_no_keeping_and_a_smaller_card_has_its_last_volume_shrunk(bench):
    put_card(bench, "old", 40 * MIB, handheld().data)
    put_card(bench, "new", 39 * MIB)
    old, new = bench.shelf.find("old"), bench.shelf.find("new")
    with old.open() as a, new.open() as b:
        sheet = propose(replace(old, source=Source.IMAGE), survey(a), new, survey(b), bench.crate)
    assert sheet.steps == (s.WriteFitted(), s.Verify(), s.Eject())


def test_the_second_copy_of_a_gpt_goes_to_the_end_where_nothing_grows(bench):
    gpt = card(MapKind.GPT)
    perform(s.AddPartition("", label="raw"), gpt, None, Watch())
    steps = plan(bench, gpt.data, size=SIZE + MIB)
    assert steps == (s.KeepCard(s.Which.SOURCE), s.WriteImage(), s.MendMap(), s.Verify(), s.Eject())


@pytest.mark.parametrize(("make", "index"), [(DRIVES["rdb"], 3), (DRIVES["ahdi"], 3), (rdb_bare, 0)])
def test_a_drive_of_another_family_is_moved_grown_and_found_equal_like_any_other(bench, make, index):
    """Its last volume is made anew on the way, and still has its name, its moment of creation and its boot code."""
    drive = make()
    place = read_map(drive).partition(index).start
    code = bytes(drive.data[place + 64:place + 500])
    drive.write(place + 64, b"starts a machine")
    steps = plan(bench, drive.data)
    way = (s.WriteImage(), s.GrowPartition(index)) if index else (s.CopyPartition(0),)
    assert steps == (s.KeepCard(s.Which.SOURCE), *way, s.Verify(), s.Eject())
    new = bench.shelf.find("new")
    sheet = JobSheet(steps, reference(bench.shelf.find("old")), reference(new))
    result = running.run(sheet, bench, Watch(), typed_tag=new.tag)
    assert "equal by digest" in result.done[-2].sentence
    with new.open() as blocks:
        layout = survey(blocks, thorough=True)
        grown = read_map(blocks).partition(index)
        assert blocks.read(grown.start + 64, 436) == b"starts a machine" + code[16:]
    assert [f.sentence for f in layout.findings if f.severity in ("problem", "warning")] == []
    assert layout.partition(index).partition.length > read_map(drive).partition(index).length


def test_changing_and_growing_a_card_in_place_begin_with_keeping_it_once(bench):
    put_card(bench, "old", 60 * MIB, handheld().data)
    medium = bench.shelf.find("old")
    with medium.open() as blocks:
        layout = survey(blocks)
        assert propose_arrangement(medium, layout, bench.crate).steps == (s.KeepCard(s.Which.TARGET), s.Eject())
        assert propose_growth(medium, layout, bench.crate).steps == (
            s.KeepCard(s.Which.TARGET), s.GrowPartition(2), s.Eject())
        bench.crate.keep(card_of(medium), blocks, Watch())
    assert propose_arrangement(medium, layout, bench.crate).steps == (s.Eject(),)


@pytest.mark.parametrize("size", [None, 12 * MIB, 10 * MIB])
def test_making_room_moves_what_lies_behind_the_last_first_and_not_further_than_needed(size):
    layout = survey(card())
    steps = growth_with_room(layout, 1, size)
    moved = [step.partition for step in steps if isinstance(step, s.MovePartition)]
    assert steps[-1] == s.GrowPartition(1, size)
    assert moved == sorted(moved, reverse=True)
    seen = forecast(JobSheet(steps), None, layout)
    assert seen.problems == ()
    grown = seen.layout.partition(1).partition
    assert size is None or grown.length == size
    assert all(a.partition.end <= b.partition.start
               for a, b in zip(seen.layout.partitions, seen.layout.partitions[1:], strict=False))


@pytest.mark.parametrize("base", ["mbr", "gpt", "rdb", "ahdi", "logical", "chain", "long"])
@given(data=st.data())
@settings(max_examples=40, deadline=None)
def test_whatever_fits_is_grown_and_what_gives_way_keeps_its_files(base, data):
    made = bases()[base] if base != "long" else long_chain()
    card = MemoryBlocks(bytes(made.data), name=base)
    for index in data.draw(st.lists(st.sampled_from([p.index for p in survey(card).with_contents]), max_size=1)):
        if len(survey(card).with_contents) > 2:
            perform(s.RemovePartition(index), card, None, Watch())              # leaves a gap
    layout = survey(card)
    index = data.draw(st.sampled_from([p.index for p in layout.with_contents]))
    look = layout.partition(index)
    size = data.draw(st.none() | st.integers(look.partition.length + MIB // 16, look.partition.length + 6 * MIB))
    unit = edits.room(layout.as_map, layout.size).unit
    behind = sum(p.partition.length for p in layout.with_contents if p.partition.start > look.partition.start)
    free = edits.room(layout.as_map, layout.size).end - look.partition.end - behind
    try:
        steps = growth_with_room(layout, index, size)
    except FitError:
        assert size - look.partition.length > free - 8 * max(unit, 512)        # records, and a cylinder here and there
        return
    before = {q: files_of(card, q.index) for q in layout.with_contents}
    for step in steps[:-1]:
        perform(step, card, None, Watch())
    room = edits.bounds(read_map(card), index, card.size)[1] - look.partition.start
    assert room >= (size or 0)
    if min(room if size is None else size // unit * unit, look.volume.largest) <= look.volume.size or (
            size or 0) > look.volume.largest:
        return                                                                 # the volume itself has its limit
    perform(steps[-1], card, None, Watch())
    after = survey(card)
    assert [files_of(card, p.index) for p in after.with_contents] == list(before.values())
    assert size is None or after.partition(index).partition.length >= size // unit * unit
    assert [f.sentence for f in after.findings if f.severity == "problem"] == []


def test_making_room_uses_gaps_and_shifts_nothing_that_is_not_in_the_way():
    card = MemoryBlocks(bytes(64 * MIB), name="Card")
    for step in (s.NewMap("mbr"), *(s.AddPartition("fat12", 4 * MIB, k * 8 * MIB) for k in range(1, 4))):
        perform(step, card, None, Watch())
    assert growth_with_room(survey(card), 1, 10 * MIB) == (s.MovePartition(2, 18 * MIB), s.GrowPartition(1, 10 * MIB))
    with pytest.raises(FitError, match="all that lies behind it gives way"):
        growth_with_room(survey(card), 1, 50 * MIB)


def test_an_extended_partition_gives_way_with_its_drives():
    card = long_chain()
    steps = growth_with_room(survey(card), 1, 4 * MIB)
    assert [step.partition for step in steps] == [7, 6, 5, 2, 1]
    for step in steps:
        perform(step, card, None, Watch())
    assert [(p.index, p.name) for p in survey(card).with_contents] == [
        (1, "P0"), (5, "D5"), (6, "D6"), (7, "D7")]
    assert survey(card).partition(1).partition.length == 4 * MIB


def long_chain():
    """A primary, and close behind it three logical drives."""
    card = MemoryBlocks(bytes(24 * MIB), name="Long")
    for step in (s.NewMap("mbr"), s.AddPartition("fat12", 3 * MIB, label="P0"),
                 *(s.AddPartition("fat12", 2 * MIB, label=f"D{k}", is_logical=True) for k in (5, 6, 7))):
        perform(step, card, None, Watch())
    for look in survey(card).with_contents:
        put_in(partition_window(card, look.partition), {"NAME.TXT": look.name.encode()})
    return card


def files_of(card, index: int):
    return {e.path: b"".join(v.read_file(e)) for v in [open_partition(card, index)] for e in v.tree().entries
            if e.kind == Kind.FILE}


def test_what_a_volume_becomes_under_another_map():
    looks = {name: survey(make()).partitions[0] for name, make in (
        *DRIVES.items(), ("pc", handheld))}
    wanted = {"rdb": {"rdb": "", "ahdi": "gemdos", "mbr": "fat", "gpt": "fat"},
              "ahdi": {"rdb": "ffs-intl", "ahdi": "", "mbr": "fat", "gpt": "fat"},
              "pc": {"rdb": "ffs-intl", "ahdi": "gemdos", "mbr": "", "gpt": ""}}
    for name, look in looks.items():
        assert {kind: kind_under(MapKind(kind), look) for kind in wanted[name]} == wanted[name]


def small_clusters(size: int):
    """A card with one FAT16 volume whose clusters are as small as they can be, filled a little."""
    card = MemoryBlocks(bytes(size), name="Small clusters")
    for step in (s.NewMap("mbr"), s.AddPartition("fat16", size - 2 * MIB, label="GAMES", block=512)):
        perform(step, card, None, Watch())
    put_in(partition_window(card, read_map(card).partition(1)), {"ROMS": None, "ROMS/A.BIN": b"a" * 90_000})
    return card


@pytest.mark.parametrize("way", ["a larger card", "in place"])
def test_a_volume_whose_clusters_are_too_small_is_made_anew_in_larger_ones_and_both_ways_are_told(bench, way):
    made = small_clusters(30 * MIB)
    if way == "in place":
        put_card(bench, "new", 200 * MIB, made.data)
        card = bench.shelf.find("new")
        with card.open() as blocks:
            sheet = propose_growth(card, survey(blocks), bench.crate)
    else:
        steps = plan(bench, made.data, size=200 * MIB)
        sheet = JobSheet(steps, reference(bench.shelf.find("old")), reference(bench.shelf.find("new")))
    assert s.RebuildPartition(1, fills=True) in sheet.steps
    target = bench.shelf.find("new")
    result = running.run(sheet, bench, Watch(), typed_tag=target.tag)
    told = next(done.sentence for done in result.done if "made anew" in done.sentence)
    assert "Clusters of 4 KiB: with those of 512 B it would end at 32.3 MiB." in told
    with target.open() as blocks:
        layout = survey(blocks, thorough=True)
        assert files_of(blocks, 1) == {"ROMS/A.BIN": b"a" * 90_000}
    assert (layout.partition(1).name, layout.partition(1).volume.block) == ("GAMES", 4096)
    assert layout.partition(1).partition.end > 199 * MIB
    assert [f.sentence for f in layout.findings if f.severity != "good"] == []


def test_growing_in_place_says_where_the_clusters_end_and_what_could_be_had():
    card = MemoryBlocks(bytes(small_clusters(30 * MIB).data) + bytes(170 * MIB), name="Card")
    with pytest.raises(FitError, match=r"ends at 32\.3 MiB in place.*Made anew with its files it can have 100 MiB"):
        perform(s.GrowPartition(1, 100 * MIB), card, None, Watch())
    perform(s.RebuildPartition(1, size=100 * MIB), card, None, Watch())
    assert survey(card).partition(1).partition.length == 100 * MIB
    with pytest.raises(FitError, match="at most"):
        perform(s.RebuildPartition(1, size=300 * MIB), card, None, Watch())
