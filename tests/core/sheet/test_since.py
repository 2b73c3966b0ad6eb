"""A card that a device wrote to after a job: nothing of it is lost by undo, and it is told by its files."""

from __future__ import annotations

import os
import time

import pytest

from mosscrate.core.blocks import Window
from mosscrate.core.blocks.file import open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import ChangedSince, CrateError, GuardRefusal, JobError, MediumError, MossError
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.journal import states
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.stack import Stack
from mosscrate.core.sheet.running.journal.structures import parse_slot
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Which
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card


def ran(bench, medium, *steps, source=None):
    sheet = JobSheet(steps, reference(source) if source else None, reference(medium))
    return running.run(sheet, bench, Watch(), typed_tag=medium.tag).job


def undone(bench, medium, job, **how):
    return recovering.undo(job, bench, Watch(), typed_tag=medium.tag, **how)


def write_in_place(medium, path, data, index=2):
    """What a device does that saves into the same clusters and does not set the clock."""
    with open_blocks(medium.path, writable=True) as blocks:
        volume = open_partition(blocks, index)
        entry = next(e for e in volume.tree().entries if e.path == path)
        start = survey(blocks).partition(index).partition.start + volume.extents_of(entry)[0].start
        blocks.write(start, data)


def largest_save(medium, index=2):
    """Of which the first sector is none that a fingerprint looks at."""
    with medium.open() as blocks:
        entries = open_partition(blocks, index).tree().entries
    return max((e for e in entries if e.path.endswith(".sav")), key=lambda e: e.size).path


def add(medium, path, data, index=2):
    with open_blocks(medium.path, writable=True) as blocks:
        partition = survey(blocks).partition(index).partition
        editor = edit(Window(blocks, partition.start, partition.length))
        editor.add_file(path, data)
        editor.commit()


def files(medium_or_blocks, index=2):
    with medium_or_blocks.open() as blocks:
        partition = survey(blocks).partition(index).partition
        return contents(Window(blocks, partition.start, partition.length))


@pytest.fixture
def card(bench):
    put_card(bench, "card", 80 * MIB, handheld(40 * MIB).data)
    return bench.shelf.find("card")


@pytest.mark.parametrize("others", [(), (s.MakeFolder(2, "later"),)], ids=["alone", "another job was undone since"])
@pytest.mark.parametrize("how", ["in its place", "new"])
def test_a_moved_volume_that_a_device_wrote_to_is_not_moved_back_before_that_is_kept(bench, card, others, how):
    before = card.path.read_bytes()
    job = ran(bench, card, s.MovePartition(2, None), s.LabelPartition(2, "MOVED"))
    for step in others:
        undone(bench, card, ran(bench, card, step))
    saved = largest_save(card)
    if how == "new":
        add(card, saved := "device.sav", b"progress" * 500)
    else:
        write_in_place(card, saved, b"progress")
    now, written = card.path.read_bytes(), files(card)[saved]
    with pytest.raises(ChangedSince) as told:
        undone(bench, card, job)
    assert told.value.names == (saved,)
    assert card.path.read_bytes() == now
    assert undone(bench, card, job, keep_first=True).endswith("All that was on it until now is in a backup of its own.")
    assert survey_of(card.path.read_bytes()) == survey_of(before)
    assert files(next(iter(bench.crate.backups_of(card.key))))[saved] == written


def survey_of(data):
    from mosscrate.core.blocks import MemoryBlocks
    blocks = MemoryBlocks(data)
    return [(look.partition, contents(Window(blocks, look.partition.start, look.partition.length)))
            for look in survey(blocks).partitions]


def test_a_card_that_was_written_over_and_played_with_is_not_put_back_before_that_is_kept(bench, card):
    put_card(bench, "old", 40 * MIB, handheld(40 * MIB, seed=7).data)
    before = card.path.read_bytes()
    job = ran(bench, card, s.KeepCard(Which.TARGET), s.WriteImage(verify=True), source=bench.shelf.find("old"))
    card = bench.shelf.find("card")
    saved = largest_save(card)
    write_in_place(card, saved, b"progress")
    now = card.path.read_bytes()
    with pytest.raises(ChangedSince, match=r"1 file was written since"):
        undone(bench, card, job)
    assert card.path.read_bytes() == now
    undone(bench, card, job, keep_first=True)
    assert survey_of(card.path.read_bytes()) == survey_of(before)


def test_files_whose_room_was_taken_since_are_named_and_nothing_is_undone(bench, card):
    name = next(p for p, (digest, _) in files(card).items() if p.endswith(".gb") and digest)
    with open_blocks(card.path) as blocks:
        free = survey(blocks).partition(2).volume
    add(card, "filler.bin", bytes(free.size - free.used - 300_000))
    job = ran(bench, card, s.RemoveFiles(2, (name, "filler.bin")))
    add(card, "device.bin", b"x" * (free.size - free.used - 200_000))
    now = card.path.read_bytes()
    with pytest.raises(GuardRefusal, match="cannot be brought back"):
        undone(bench, card, job, keep_first=True)
    assert card.path.read_bytes() == now


@pytest.mark.parametrize("how", ["cut", "newest slot", "head"])
def test_a_damaged_journal_of_a_job_that_is_done_does_not_stop_later_changes(bench, card, how):
    job = ran(bench, card, s.MakeFolder(2, "one"))
    path = bench.state / "jobs" / job.id / "journal"
    data = bytearray(path.read_bytes())
    if how == "cut":
        del data[-9000:]
    elif how == "head":
        data[:4096] = bytes(4096)
    else:
        number = max((parse_slot(bytes(data[at:at + 512])) for at in (4096, 8192)), key=lambda slot: slot.number).number
        for at in (4096, len(data) - 8192) if number % 2 == 0 else (8192, len(data) - 4096):
            data[at:at + 512] = bytes(512)
    path.write_bytes(data)
    later = ran(bench, card, s.MakeFolder(2, "two"))
    undone(bench, card, later)
    if how != "newest slot":                               # one slot less tells the same
        with pytest.raises(JobError, match="neither undone nor finished any more"):
            undone(bench, card, job)
        recovering.close(job, bench)
        assert Log(bench.state).load(job.id).status == "closed"


def test_a_run_killed_between_its_whole_write_and_its_growth_is_told_and_can_be_finished(bench, card, monkeypatch):
    put_card(bench, "image", 40 * MIB, handheld(40 * MIB, seed=7).data)
    before, make = card.path.read_bytes(), os.posix_fallocate

    def killed(fd, at, size):
        if os.readlink(f"/proc/self/fd/{fd}").endswith("journal.part"):
            raise Killed
        make(fd, at, size)
    with monkeypatch.context() as patched:
        patched.setattr(os, "posix_fallocate", killed)
        with pytest.raises(Killed):
            ran(bench, card, s.KeepCard(Which.TARGET), s.WriteImage(), s.GrowPartition(2, None),
                source=bench.shelf.find("image"))
    (job,) = recovering.unfinished(bench)
    with card.open() as blocks:
        assert recovering.interruption(blocks, bench).job.id == job.id
    with pytest.raises(GuardRefusal, match="in the middle of an earlier job"):
        ran(bench, card, s.MakeFolder(2, "two"))
    recovering.finish(job, bench, Watch(), typed_tag=card.tag)
    assert open_partition_size(card) > 50 * MIB
    undone(bench, card, job)
    assert survey_of(card.path.read_bytes()) == survey_of(before)


class Killed(BaseException):
    """The process is gone here."""


def open_partition_size(medium):
    with medium.open() as blocks:
        return survey(blocks).partition(2).volume.size


def test_a_backup_is_proven_before_a_card_is_put_back_from_it(bench, card):
    put_card(bench, "old", 40 * MIB, handheld(40 * MIB, seed=7).data)
    job = ran(bench, card, s.KeepCard(Which.TARGET), s.WriteImage(), source=bench.shelf.find("old"))
    pack = max((bench.crate.root / "packs").rglob("*.pack"), key=lambda path: path.stat().st_size)
    pack.chmod(0o600)
    data = bytearray(pack.read_bytes())
    data[len(data) // 2] ^= 1
    pack.write_bytes(data)
    now = card.path.read_bytes()
    with pytest.raises(CrateError, match="nothing was written"):
        undone(bench, card, job)
    assert card.path.read_bytes() == now


def test_a_card_that_was_exchanged_and_an_image_that_was_replaced_are_called_that(bench, card, tmp_path):
    image = tmp_path / "disk.img"
    image.write_bytes(bytes(handheld(40 * MIB).data))
    for medium in (bench.shelf.find("card"), bench.shelf.medium_at(image)):
        planned = reference(medium)
        if medium.path == image:
            image.rename(tmp_path / "aside.img")
            image.write_bytes(bytes(handheld(40 * MIB, seed=3).data))
            word = "was replaced: another file"
        else:
            put_card(bench, "card", 80 * MIB, handheld(40 * MIB, seed=3).data, serial="0x77")
            word = "was exchanged"
        with pytest.raises(MediumError, match=word):
            running.find_medium(bench, planned)


def test_a_folder_of_a_job_that_was_killed_before_it_had_a_record_is_swept(bench, card):
    ran(bench, card, s.MakeFolder(2, "one"))
    for name, age in (("old", 7200), ("young", 5)):
        (bench.state / "jobs" / name).mkdir()
        os.utime(bench.state / "jobs" / name, (time.time() - age,) * 2)
    ran(bench, card, s.MakeFolder(2, "two"))
    assert {"old", "young"} & {path.name for path in (bench.state / "jobs").iterdir()} == {"young"}


BROKEN = {
    "what stands in free room is claimed": (
        states, "_misfits_in_free", lambda *_: (),        # and nothing is noted of the files there either
        lambda bench, card, patched: (
            patched.setattr(Log, "written_since", lambda *_: ()),
            test_a_moved_volume_that_a_device_wrote_to_is_not_moved_back_before_that_is_kept(
                bench, card, (), "in its place"))),
    "contents are compared": (
        recovering, "must_be_as_left", lambda *_: None,
        lambda bench, card, _: test_a_card_that_was_written_over_and_played_with_is_not_put_back_before_that_is_kept(
            bench, card)),
    "room that was taken": (
        recovering, "must_be_had_back", lambda *_: None,
        lambda bench, card, _: test_files_whose_room_was_taken_since_are_named_and_nothing_is_undone(bench, card)),
    "backups are proven": (
        recovering, "check_chunks", lambda *_: None,
        lambda bench, card, _: test_a_backup_is_proven_before_a_card_is_put_back_from_it(bench, card)),
    "record after slot": (
        Stack, "said", lambda self, job: getattr(Journal.slot_of(self.folder, job), "standing", None),
        lambda bench, card, _: test_a_damaged_journal_of_a_job_that_is_done_does_not_stop_later_changes(
            bench, card, "newest slot")),
}


@pytest.mark.parametrize("rule", BROKEN)
def test_code_that_breaks_one_of_these_rules_is_found_out(bench, card, monkeypatch, rule):
    owner, name, broken, scenario = BROKEN[rule]
    with monkeypatch.context() as patched:
        patched.setattr(owner, name, broken)
        with pytest.raises((AssertionError, pytest.fail.Exception, MossError)):
            scenario(bench, card, monkeypatch)
