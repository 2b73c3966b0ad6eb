"""A card that is pulled at any write is finished or taken back; a journal cut anywhere still serves."""

from __future__ import annotations

from contextlib import suppress

import msgspec
import pytest

from mosscrate.core.blocks import FileBlocks, MemoryBlocks, Window
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.errors import FitError, JobError, MediumError, Stopped
from mosscrate.core.sheet.planning.propose import propose
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import GrowPartition, KeepCard, Which, WriteImage
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.slots import medium as medium_module
from mosscrate.core.volumes import fat, open_volume
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, lay_out, put_card, some_files
from tests.journals import cut_short, taken_back

SIZE = 3 * MIB


def small_card(type: FatType) -> MemoryBlocks:
    """A card whose last partition grows by moving clusters, in as few writes as possible."""
    length = {FatType.FAT12: MIB, FatType.FAT16: 8 * MIB, FatType.FAT32: 34 * MIB}[type]
    blocks = MemoryBlocks(bytes(length + 3 * MIB if type == FatType.FAT12 else length * 3))
    lay_out(blocks, [(MIB // 2, length, type, "GAMES", some_files(8, 30))])
    return blocks


@pytest.mark.parametrize("type", list(FatType))
def test_a_card_pulled_after_any_write_of_a_grow_comes_back_whole(type, tmp_path):
    before = bytes(small_card(type).data)
    plain = MemoryBlocks(before)
    perform(GrowPartition(1), plain, None, Watch())
    files = contents(MemoryBlocks(before[MIB // 2:]))
    assert contents(MemoryBlocks(bytes(plain.data)[MIB // 2:])) == files
    count = FaultyBlocks(MemoryBlocks(before), Faults())
    cut_short(GrowPartition(1), count, None, tmp_path / "whole")
    assert bytes(count.inner.data) == bytes(plain.data) != before
    assert count.writes > 4
    for cut in range(1, count.writes + 1):
        card = MemoryBlocks(before)
        cut_short(GrowPartition(1), FaultyBlocks(card, Faults(pulled_after_writes=cut)), None, tmp_path / f"{cut}")
        taken_back(card, tmp_path / f"{cut}")
        assert bytes(card.data) == before, f"cut after write {cut}"


def moving_bench(bench, monkeypatch, pulled: int | None = None):
    """An old and a new card on a bench, and the proposed sheet; the new one may be pulled."""
    old = handheld(40 * MIB)
    put_card(bench, "old", 40 * MIB, old.data)
    put_card(bench, "new", 100 * MIB)
    a, b = bench.shelf.find("old"), bench.shelf.find("new")
    sheet = propose(a, survey(a.open()), b, survey(b.open()), bench.crate)
    if pulled is not None:
        pull(monkeypatch, pulled)
    return a, b, sheet


def pull(monkeypatch, after: int) -> None:
    original = medium_module.Medium.open_for_guard
    monkeypatch.setattr(medium_module.Medium, "open_for_guard",
                        lambda self: FaultyBlocks(original(self), Faults(pulled_after_writes=after)))


@pytest.mark.parametrize("pulled", [1, 2, 5, 9, 14, 20, 30])
@pytest.mark.parametrize("way", ["finish", "undo"])
def test_a_move_pulled_in_the_middle_is_finished_or_taken_back(bench, monkeypatch, pulled, way):
    a, b, sheet = moving_bench(bench, monkeypatch)
    with monkeypatch.context() as patched:
        pull(patched, pulled)
        try:
            running.run(sheet, bench, Watch(), typed_tag=b.tag)
        except MediumError:
            pass
        else:
            pytest.skip("the run needs fewer writes than that")
    jobs = recovering.unfinished(bench)
    assert [j.sheet.target.name for j in jobs] == ["New"]
    if way == "finish":
        result = recovering.finish(jobs[0], bench, Watch(), typed_tag=b.tag)
        assert "equal by digest" in result.done[-2].sentence
        layout = survey(b.open(), thorough=True)
        assert (layout.tail, layout.findings) == (0, ())
    else:
        recovering.undo(jobs[0], bench, Watch(), typed_tag=b.tag)
        assert not any(b.open().read(0, b.size))
    assert recovering.unfinished(bench) == []
    assert bytes(a.open().read(0, a.size)) == bytes(handheld(40 * MIB).data)


def test_growing_in_place_is_taken_back_byte_for_byte_after_it_was_done(bench):
    card = handheld(60 * MIB, tail=15 * MIB)
    put_card(bench, "card", 60 * MIB, card.data)
    medium = bench.shelf.find("card")
    sheet = JobSheet((GrowPartition(2),), None, reference(medium))
    result = running.run(sheet, bench, Watch(), typed_tag=medium.tag)
    assert survey(medium.open()).tail == 0
    said = recovering.undo(result.job, bench, Watch(), typed_tag=medium.tag)
    assert said.endswith("byte for byte where it was changed.")
    assert medium.open().read(0, medium.size) == bytes(card.data)
    with pytest.raises(JobError, match="taken back already"):
        recovering.undo(Log(bench.state).load(result.job.id), bench, Watch(), typed_tag=medium.tag)


def test_a_stop_in_the_middle_of_writing_offers_to_finish(bench, monkeypatch):
    _, b, sheet = moving_bench(bench, monkeypatch)
    seen = []
    watch = Watch(seen.append, lambda: any(p.step == 1 for p in seen))
    with pytest.raises(Stopped, match="in the middle of a change"):
        running.run(sheet, bench, watch, typed_tag=b.tag)
    recovering.finish(recovering.unfinished(bench)[0], bench, Watch(), typed_tag=b.tag)
    assert survey(b.open()).tail == 0


def test_a_half_written_card_shows_no_map():
    source, target = handheld(40 * MIB), handheld(60 * MIB, seed=2)
    pulled = FaultyBlocks(target, Faults(pulled_after_writes=6))
    with pytest.raises(MediumError):
        write_image(source, pulled, Watch(), verify=False)
    assert survey(target).map_kind == "none"


def test_a_smaller_card_takes_an_image_only_when_unused_zeros_are_cut():
    source = MemoryBlocks(bytes(handheld(40 * MIB).data) + bytes(4 * MIB))
    write_image(source, MemoryBlocks(bytes(41 * MIB)), Watch(), verify=True)
    for size, damage in ((39 * MIB, "too few"), (41 * MIB, "not empty")):
        target = MemoryBlocks(b"\x11" * size)
        source.write(42 * MIB, b"something")
        with pytest.raises(FitError, match=damage):
            perform(WriteImage(), target, source, Watch())
        assert set(target.data) == {0x11}


def test_saved_sheets_are_read_back_equal(bench, monkeypatch, tmp_path):
    from mosscrate.core.sheet.sheet import load_sheet, save_sheet
    *_, sheet = moving_bench(bench, monkeypatch)
    save_sheet(sheet, tmp_path / "move.json")
    assert load_sheet(tmp_path / "move.json") == sheet
    (tmp_path / "move.json").write_bytes(msgspec.json.encode({"steps": [{"type": "explode"}]}))
    with pytest.raises(JobError, match="explode"):
        load_sheet(tmp_path / "move.json")


class Killed(BaseException):
    """The process ended here."""


def killed_at(monkeypatch, moment: int) -> None:
    """The process ends at one of the moments at which a job writes: to its record, or to the card."""
    count = 0

    def at_moment(real):
        def call(*words, **named):
            nonlocal count
            count += 1
            if count == moment:
                raise Killed
            return real(*words, **named)
        return call

    monkeypatch.setattr("mosscrate.core.sheet.running.telling._note", lambda *words: None)
    monkeypatch.setattr(Log, "save", at_moment(Log.save))
    for name in ("_write", "zero", "flush"):
        monkeypatch.setattr(FileBlocks, name, at_moment(getattr(FileBlocks, name)))


@pytest.mark.parametrize("has_backup", [True, False], ids=["kept before", "blank before"])
@pytest.mark.parametrize("way", ["finish", "undo"])
def test_a_whole_write_that_is_killed_anywhere_and_again_is_finished_or_taken_back(bench, monkeypatch, has_backup, way):
    put_card(bench, "old", 6 * MIB, _little(3))
    put_card(bench, "new", 9 * MIB, _little(4) if has_backup else b"")
    a, b = bench.shelf.find("old"), bench.shelf.find("new")
    before = b.path.read_bytes()
    steps = (*((KeepCard(Which.TARGET),) if has_backup else ()), WriteImage(verify=True), GrowPartition(1))
    sheet = JobSheet(steps, reference(a), reference(b))
    acts = {"finish": recovering.finish, "undo": recovering.undo}
    runs = 0
    for first in (*range(1, 30), *range(30, 200, 7)):
        with monkeypatch.context() as patched:
            killed_at(patched, first)
            try:
                running.run(sheet, bench, Watch(), typed_tag=b.tag)
                is_done = True
            except Killed:
                is_done = False
        job = next(iter(Log(bench.state).jobs()), None)
        assert (job is None) <= (not is_done)
        if not is_done and job is not None and job.is_unfinished:
            runs += 1
            with monkeypatch.context() as patched, suppress(Killed):
                killed_at(patched, first % 13 + 1)
                acts[("undo", "finish")[first % 2]](job, bench, Watch(), typed_tag=b.tag)
            job = Log(bench.state).load(job.id)
            if job.is_unfinished:
                acts[way](job, bench, Watch(), typed_tag=b.tag)
                assert Log(bench.state).load(job.id).status == {"finish": "done", "undo": "taken back"}[way]
        job = job and Log(bench.state).load(job.id)
        if job and job.status == "done":
            layout = survey(b.open(), thorough=True)
            assert (layout.tail, [f for f in layout.findings if f.severity in ("problem", "warning")]) == (0, [])
            assert contents(Window(b.open(), MIB, 8 * MIB)) == contents(Window(a.open(), MIB, 5 * MIB))
            with monkeypatch.context() as patched, suppress(Killed):
                killed_at(patched, first % 11 + 1)            # also between its record and the first byte on the card
                recovering.undo(job, bench, Watch(), typed_tag=b.tag)
            if Log(bench.state).load(job.id).status != "taken back":
                recovering.undo(job, bench, Watch(), typed_tag=b.tag)
        assert b.path.read_bytes() == before, first
        if is_done:
            break
    assert is_done
    assert runs > 10


@pytest.mark.parametrize("has_backup", [True, False], ids=["kept before", "blank before"])
def test_the_undo_of_a_whole_write_that_is_killed_anywhere_gives_back_what_was_there(bench, monkeypatch, has_backup):
    put_card(bench, "old", 6 * MIB, _little(3))
    put_card(bench, "new", 6 * MIB, _little(4) if has_backup else b"")
    a, b = bench.shelf.find("old"), bench.shelf.find("new")
    before = b.path.read_bytes()
    keep = (KeepCard(Which.TARGET),) if has_backup else ()
    sheet = JobSheet((*keep, WriteImage(verify=True)), reference(a), reference(b))
    for moment in range(1, 40):
        job = running.run(sheet, bench, Watch(), typed_tag=b.tag).job
        assert b.path.read_bytes() != before
        is_killed = True
        with monkeypatch.context() as patched, suppress(Killed):
            killed_at(patched, moment)
            recovering.undo(job, bench, Watch(), typed_tag=b.tag)
            is_killed = False
        if Log(bench.state).load(job.id).status != "taken back":
            recovering.undo(job, bench, Watch(), typed_tag=b.tag)
        assert b.path.read_bytes() == before, moment
        if not is_killed:
            break
    assert not is_killed


def _little(seed: int) -> bytes:
    """A card with one small FAT12 volume that leaves no gap behind it."""
    blocks = MemoryBlocks(bytes(6 * MIB))
    lay_out(blocks, [(MIB, 5 * MIB, FatType.FAT12, "GAMES", some_files(seed, 12, 3000))])
    return bytes(blocks.data)


def test_a_volume_that_does_not_hold_together_once_it_was_grown_is_told_and_taken_back(bench, monkeypatch):
    """Whatever is wrong in growing: two files that have one cluster stand for it."""
    put_card(bench, "one", 90 * MIB, handheld(60 * MIB).data, name="Pipkin")
    card, real = bench.shelf.find("Pipkin"), fat.grow

    def wrong(window, *arguments, **more):
        done = real(window, *arguments, **more)
        files = [entry for entry in open_volume(window).tree().entries if entry.kind == "file" and entry.size]
        at = open_volume(window).geometry.fat_offset(0) + 4 * files[0].node
        window.write(at, files[1].node.to_bytes(4, "little"))
        return done

    monkeypatch.setattr(fat, "grow", wrong)
    before = card.open().read(0, 90 * MIB)
    with pytest.raises(JobError, match="does not hold together after its size was changed"):
        running.run(JobSheet((GrowPartition(2),), None, reference(card)), bench, Watch(), typed_tag=card.tag)
    monkeypatch.undo()
    (job,) = recovering.unfinished(bench)
    recovering.undo(job, bench, Watch(), typed_tag=card.tag)
    assert card.open().read(0, 90 * MIB) == before
