"""Which storage a thing is: no other name, loop, node or partition of it passes the guard, and nobody else's card."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from mosscrate.core.blocks import MemoryBlocks, Window, open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import CrateError, GuardRefusal, InUse, JobError, MossError
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import card_of, standard_bench
from mosscrate.core.sheet.running import guard, recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.store import DiskFolder
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import GrowPartition, WriteImage
from mosscrate.core.slots.storage import storage_of
from mosscrate.core.volumes import Making, edit, format_for
from mosscrate.core.watch import Watch
from tests.cards import MIB, fill, handheld, put_card
from tests.core.sheet.test_steps import card, trees
from tests.loops import loop, mounted, needs_root
from tests.volumes import WHEN


def refused(bench, target: Path | str, source: Path | str | None = None, *, why: str) -> None:
    """A whole write onto a thing is refused by the guard, and what is behind it stays as it is."""
    medium = bench.shelf.find(str(target))
    with open_blocks(target) as blocks:
        before = blocks.read(0, blocks.size)
    origin = reference(bench.shelf.find(str(source))) if source else None
    with pytest.raises((GuardRefusal, InUse), match=why) as caught:
        guard.admit(medium, reference(medium), origin, medium.tag)
    assert caught.value.exit_code == 3
    with open_blocks(target) as blocks:
        assert blocks.read(0, blocks.size) == before


@pytest.fixture
def image(tmp_path) -> Path:
    path = tmp_path / "card.img"
    path.write_bytes(bytes(handheld().data))
    return path


def test_hard_and_symbolic_links_are_the_file_itself(bench, image, tmp_path):
    os.link(image, tmp_path / "hard.img")
    (tmp_path / "soft.img").symlink_to(image)
    for name in ("hard.img", "soft.img"):
        assert storage_of(tmp_path / name).meets(storage_of(image))
        refused(bench, tmp_path / name, image, why="source itself")
    other = tmp_path / "copy.img"
    shutil.copy(image, other)
    assert not storage_of(other).meets(storage_of(image))
    assert guard.inspect(bench.shelf.find(str(other)), reference(bench.shelf.find(str(other))),
                         reference(bench.shelf.find(str(image))))[-2].is_good      # equal, but another card


def test_a_kept_backup_is_one_under_every_name_and_in_every_crate(bench, image, tmp_path, monkeypatch):
    medium = bench.shelf.find(str(image))
    backup = bench.crate.keep(card_of(medium), medium.open(), Watch())
    os.link(backup.path, tmp_path / "innocent.img")
    refused(bench, backup.path, why="kept backup")
    refused(bench, tmp_path / "innocent.img", why="kept backup")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    standard_bench(crate=bench.crate.root, state=bench.state, slots=bench.shelf.simulated_folder)
    elsewhere = standard_bench(crate=tmp_path / "another", state=bench.state)
    refused(elsewhere, backup.path, why="kept backup")
    refused(elsewhere, tmp_path / "innocent.img", why="kept backup")


def test_what_a_job_kept_is_found_in_whatever_crate_it_is_now(bench, image, tmp_path):
    put_card(bench, "new", 40 * MIB, handheld(seed=5).data)
    old, new = bench.shelf.find(str(image)), bench.shelf.find("New")
    before = new.path.read_bytes()
    sheet = JobSheet((s.KeepCard(s.Which.TARGET), WriteImage()), source=reference(old), target=reference(new))
    job = running.run(sheet, bench, Watch(), typed_tag=new.tag).job
    assert new.path.read_bytes() != before
    assert not any(str(tmp_path) in backup for backup in job.kept.values())
    bench.crate.root.rename(tmp_path / "older")
    with pytest.raises(CrateError, match="is in no crate"):
        recovering.undo(job, bench, Watch(), typed_tag=new.tag)
    bench.shelf.crates = (tmp_path / "older",)
    recovering.undo(job, bench, Watch(), typed_tag=new.tag)
    assert new.path.read_bytes() == before


def test_a_sheet_names_its_backup_by_id_and_finds_it_where_its_crate_went(bench, image, tmp_path):
    put_card(bench, "new", 40 * MIB)
    old, new = bench.shelf.find(str(image)), bench.shelf.find("New")
    backup = bench.crate.keep(card_of(old), old.open(), Watch())
    os.link(backup.path, tmp_path / "another name.img")
    sheet = JobSheet((WriteImage(),), source=reference(bench.shelf.medium_at(backup.path)), target=reference(new))
    assert (sheet.source.backup, sheet.source.path) == (backup.id, "")
    assert reference(bench.shelf.find(str(tmp_path / "another name.img"))).backup == backup.id
    bench.crate.root.rename(tmp_path / "older")
    bench.shelf.crates = (tmp_path / "older",)
    running.run(sheet, bench, Watch(), typed_tag=new.tag)
    assert new.path.read_bytes()[:old.size] == image.read_bytes()


@needs_root
def test_loops_second_loops_nodes_and_partitions_are_what_they_stand_on(bench, image, tmp_path):
    os.link(image, tmp_path / "hard.img")
    with loop(image) as first:
        whole = storage_of(image)
        node = tmp_path / "node"
        status = first.stat()
        os.mknod(node, 0o600 | 0o060000, status.st_rdev)
        for other in (first, node):
            assert storage_of(other).meets(whole)
        refused(bench, image, why="loop device")
        refused(bench, tmp_path / "hard.img", why="loop device")
        refused(bench, first, image, why="source itself")
        refused(bench, node, image, why="source itself")
        with loop(image) as second:
            assert storage_of(second).meets(storage_of(first))
            refused(bench, second, first, why="source itself")
            refused(bench, first, why="loop device")
        with loop(first) as nested:
            assert storage_of(nested).meets(whole)
            refused(bench, nested, image, why="source itself")
    with loop(image, "-P") as device:
        part = Path(f"{device}p1")
        if part.exists():
            assert storage_of(part).meets(storage_of(device))
            assert not storage_of(part).meets(storage_of(Path(f"{device}p2")))
            refused(bench, part, device, why="source itself")


@needs_root
def test_what_is_mounted_through_any_of_its_names_is_in_use(bench, tmp_path):
    image = tmp_path / "ext.img"
    with image.open("wb") as file:
        file.truncate(16 * MIB)
    with open_blocks(image, writable=True) as blocks:
        format_for("ext4").make(blocks, Making("ext4", "STATE", 1024, made=WHEN))
    os.link(image, tmp_path / "hard.img")
    (tmp_path / "there").mkdir()
    with loop(image) as device, mounted(device, tmp_path / "mnt"), loop(image) as second:
        for name in (image, tmp_path / "hard.img", device, second):
            refused(bench, name, why="mounted at")
        with mounted(tmp_path, tmp_path / "there", "--bind") as there:
            refused(bench, there / "hard.img", why="mounted at")


@needs_root
def test_a_backup_behind_a_loop_is_a_backup(bench, image):
    medium = bench.shelf.find(str(image))
    backup = bench.crate.keep(card_of(medium), medium.open(), Watch())
    with loop(backup.path) as device:
        refused(bench, device, why="kept backup")


def test_a_file_that_nobody_may_write_is_protected_from_root_too(bench, image):
    image.chmod(0o444)
    refused(bench, image, why="write-protected")


# --- not another card ---------------------------------------------------------------------------------------------


def cut_rebuild(bench, medium, monkeypatch) -> None:
    """A rebuild that is pulled in the middle."""
    from tests.core.sheet.test_interrupted import pull
    sheet = JobSheet((s.RebuildPartition(3, "ext4"),), None, reference(medium))
    with monkeypatch.context() as patched:
        pull(patched, 4)
        with pytest.raises(MossError):
            running.run(sheet, bench, Watch(), typed_tag=medium.tag)
    assert recovering.unfinished(bench)


@needs_root
def test_another_card_in_the_same_reader_is_neither_undone_nor_finished(bench, tmp_path, monkeypatch):
    mine, theirs = tmp_path / "mine.img", tmp_path / "theirs.img"
    before = card()
    mine.write_bytes(bytes(before.data))
    other = card()
    fill(Window(other, 2 * MIB, 9 * MIB), {"precious.sav": b"never again" * 100})
    theirs.write_bytes(bytes(other.data))
    with loop(mine) as device:
        medium = bench.shelf.find(str(device))
        cut_rebuild(bench, medium, monkeypatch)
        job = recovering.unfinished(bench)[0]
        subprocess.run(["losetup", "-d", device], check=True)
        with loop(theirs) as again:
            assert again == device
            assert bench.shelf.find(str(device)).tag != medium.tag
            for act in (recovering.undo, recovering.finish):
                for tag in (medium.tag, bench.shelf.find(str(device)).tag):
                    with pytest.raises(GuardRefusal, match=f"not as job {job.id} left it"):
                        act(job, bench, Watch(), typed_tag=tag)
            there = bench.shelf.find(str(device))                # the job of mine is no obstacle for theirs
            running.run(JobSheet((s.MakeFolder(1, "x"),), None, reference(there)), bench, Watch(), typed_tag=there.tag)
        assert theirs.read_bytes() != bytes(other.data)
        with loop(mine) as back:
            assert back == device
            recovering.undo(job, bench, Watch(), typed_tag=medium.tag)
    assert mine.read_bytes()[:MIB] == bytes(before.data)[:MIB]
    assert trees(MemoryBlocks(mine.read_bytes())) == trees(before)
    assert recovering.unfinished(bench) == []


def test_an_exchanged_image_under_the_same_path_is_neither_undone_nor_finished(bench, tmp_path, monkeypatch):
    path, aside = tmp_path / "card.img", tmp_path / "aside.img"
    before = card()
    path.write_bytes(bytes(before.data))
    medium = bench.shelf.find(str(path))
    cut_rebuild(bench, medium, monkeypatch)
    job = recovering.unfinished(bench)[0]
    path.rename(aside)
    path.write_bytes(bytes(handheld(before.size).data))
    theirs = path.read_bytes()
    for act in (recovering.undo, recovering.finish):
        with pytest.raises(GuardRefusal, match="not as job"):
            act(job, bench, Watch(), typed_tag=medium.tag)
    assert path.read_bytes() == theirs
    recovering.undo(job, bench, Watch(), typed_tag=medium.tag, card=bench.shelf.find(str(aside)))
    assert survey(MemoryBlocks(aside.read_bytes())).partitions == survey(before).partitions


def test_a_later_change_and_foreign_writes_stand_in_the_way_of_undo(bench):
    put_card(bench, "card", 72 * MIB, card().data)
    medium = bench.shelf.find("card")

    def done(step):
        return running.run(JobSheet((step,), None, reference(medium)), bench, Watch(), typed_tag=medium.tag).job

    steps = (s.MakeFolder(2, "one"), s.LabelPartition(1, "NEW"), s.MakeFolder(3, "three"))
    first, second, third = (done(step) for step in steps)
    with pytest.raises(GuardRefusal, match=f"Take back {third.id}, then {second.id} first"):
        recovering.undo(first, bench, Watch(), typed_tag=medium.tag)
    assert recovering.jobs_on(medium, bench)[0].id == third.id
    recovering.undo(third, bench, Watch(), typed_tag=medium.tag)
    assert recovering.jobs_on(medium, bench)[0].id == second.id
    with open_blocks(medium.path, writable=True) as blocks:
        window = Window(blocks, survey(blocks).partition(1).partition.start, 9 * MIB)
        editor = edit(window)
        editor.add_file("newer.sav", b"progress")
        editor.commit()
    now = medium.path.read_bytes()
    with pytest.raises(GuardRefusal, match=r"1 file was written since: newer\.sav"):
        recovering.undo(second, bench, Watch(), typed_tag=medium.tag)
    assert medium.path.read_bytes() == now
    fourth = done(s.MakeFolder(2, "four"))                       # the old jobs are no obstacle
    recovering.undo(fourth, bench, Watch(), typed_tag=medium.tag)


def test_a_whole_write_closes_what_lies_below_it(bench, monkeypatch):
    put_card(bench, "old", 40 * MIB, handheld().data)
    put_card(bench, "card", 72 * MIB, card().data)
    source, medium = bench.shelf.find("old"), bench.shelf.find("card")
    done = running.run(JobSheet((s.MakeFolder(2, "one"),), None, reference(medium)), bench, Watch(),
                       typed_tag=medium.tag).job
    cut_rebuild(bench, medium, monkeypatch)
    job = recovering.unfinished(bench)[0]
    with pytest.raises(GuardRefusal, match="in the middle of an earlier job"):
        running.run(JobSheet((s.MakeFolder(2, "two"),), None, reference(medium)), bench, Watch(), typed_tag=medium.tag)
    whole = running.run(JobSheet((WriteImage(verify=True),), reference(source), reference(medium)), bench, Watch(),
                        typed_tag=medium.tag).job
    now = medium.path.read_bytes()
    for each in (job, done):
        for act in (recovering.undo, recovering.finish):
            with pytest.raises(JobError, match=r"written over|nothing to finish"):
                act(each, bench, Watch(), typed_tag=medium.tag)
    with pytest.raises(JobError, match="not kept"):
        recovering.undo(whole, bench, Watch(), typed_tag=medium.tag)
    assert medium.path.read_bytes() == now


@needs_root
@pytest.mark.parametrize("is_cut", [True, False], ids=["in the middle", "done"])
def test_a_kernel_that_only_read_is_no_obstacle_and_one_that_wrote_is(bench, tmp_path, monkeypatch, is_cut):
    image = tmp_path / "ext.img"
    with image.open("wb") as file:
        file.truncate(40 * MIB)
    with open_blocks(image, writable=True) as blocks:
        window = Window(blocks, 0, 20 * MIB)
        format_for("ext4").make(window, Making("ext4", "STATE", 1024, made=WHEN))
        editor = edit(window)
        for number in range(40):
            editor.add_file(f"save {number}.sav", bytes((number,)) * 5000)
        editor.commit()
    medium = bench.shelf.find(str(image))
    sheet = JobSheet((GrowPartition(0),), None, reference(medium))
    if is_cut:
        from tests.core.sheet.test_interrupted import pull
        with monkeypatch.context() as patched:
            pull(patched, 2)
            with pytest.raises(MossError):
                running.run(sheet, bench, Watch(), typed_tag=medium.tag)
        job = recovering.unfinished(bench)[0]
    else:
        job = running.run(sheet, bench, Watch(), typed_tag=medium.tag).job
        with loop(image) as device, mounted(device, tmp_path / "mnt") as place:
            assert len(list(place.iterdir())) == 41
        copy = image.read_bytes()
        try:
            recovering.undo(job, bench, Watch(), typed_tag=medium.tag)
        except GuardRefusal as refusal:                       # mounting wrote into what the job had changed
            assert "is not as job" in str(refusal)   # noqa: PT017
            assert image.read_bytes() == copy
            return
        job = running.run(JobSheet((GrowPartition(0),), None, reference(medium)), bench, Watch(),
                          typed_tag=medium.tag).job
    with loop(image) as device, mounted(device, tmp_path / "mnt") as place:
        (place / "newer.sav").write_bytes(b"progress" * 1000)
    now = image.read_bytes()
    for act in (recovering.undo, recovering.finish) if is_cut else (recovering.undo,):
        with pytest.raises(GuardRefusal, match="somebody else has written" if is_cut else r"newer\.sav"):
            act(job, bench, Watch(), typed_tag=medium.tag)
        assert image.read_bytes() == now


# --- what nobody foresaw ------------------------------------------------------------------------------------------


def test_an_error_that_nobody_foresaw_is_a_sentence_and_the_job_can_be_finished(bench, monkeypatch):
    put_card(bench, "card", 72 * MIB, card().data)
    put_card(bench, "other", 72 * MIB, card().data)
    medium, before = bench.shelf.find("card"), bench.shelf.find("card").path.read_bytes()
    sheet = JobSheet((s.MakeFolder(2, "one"), s.MakeFolder(3, "two")), None, reference(medium))
    with monkeypatch.context() as patched:
        patched.setattr("mosscrate.core.sheet.steps.files.folder.ensure_folder", _fails_at(4))     # two are foreseen
        with pytest.raises(JobError, match=r"Something went wrong inside .*ZeroDivisionError.*finish the job"):
            running.run(sheet, bench, Watch(), typed_tag=medium.tag)
    job = recovering.unfinished(bench)[0]
    assert job.status == "failed"
    other = bench.shelf.find("other")
    running.run(JobSheet((s.MakeFolder(2, "x"),), None, reference(other)), bench, Watch(), typed_tag=other.tag)
    recovering.finish(job, bench, Watch(), typed_tag=medium.tag)
    assert {"one", "two"} <= {e.path for n in (2, 3) for e in open_partition(medium.open(), n).tree().entries}
    recovering.undo(job, bench, Watch(), typed_tag=medium.tag)
    assert trees(MemoryBlocks(medium.path.read_bytes())) == trees(MemoryBlocks(before))


def _fails_at(call: int):
    from mosscrate.core.contents.transfer import ensure_folder
    calls = []

    def fails(*words):
        calls.append(words)
        return ensure_folder(*words) if len(calls) != call else 1 // 0
    return fails


@pytest.mark.parametrize("way", ["cut", "removed"])
def test_an_image_that_is_cut_or_removed_while_it_is_rebuilt_is_not_called_done(bench, tmp_path, monkeypatch, way):
    from mosscrate.core.sheet.running import workshop
    path = tmp_path / "card.img"
    path.write_bytes(bytes(card().data))
    medium, real = bench.shelf.find(str(path)), workshop.Workshop.run

    def run(*words):
        done = real(*words)
        os.truncate(path, 40 * MIB) if way == "cut" else path.unlink()
        return done
    monkeypatch.setattr(workshop.Workshop, "run", run)
    with pytest.raises(MossError, match=f"was {way}"):
        running.run(JobSheet((s.RebuildPartition(3, "ext4"),), None, reference(medium)), bench, Watch(),
                    typed_tag=medium.tag)
    assert recovering.unfinished(bench)


def test_a_damaged_or_missing_journal_is_never_used_in_part(bench, monkeypatch):
    put_card(bench, "card", 72 * MIB, card().data)
    medium = bench.shelf.find("card")
    cut_rebuild(bench, medium, monkeypatch)
    job, now = recovering.unfinished(bench)[0], medium.path.read_bytes()
    path = bench.state / "jobs" / job.id / "journal"
    whole = path.read_bytes()
    end = Journal.slot_of(DiskFolder(bench.state / "jobs"), job.id).end
    flipped = [whole[:at] + bytes((whole[at] ^ 4,)) + whole[at + 1:] for at in range(12300, end, end // 9)]
    for damaged in (bytes((whole[0] ^ 1,)) + whole[1:], whole[:end - 5], whole[:4000], *flipped, None):
        path.write_bytes(damaged) if damaged is not None else path.unlink()
        for act in (recovering.undo, recovering.finish):
            with pytest.raises((JobError, GuardRefusal), match=r"damaged|missing|nothing to (finish|take back)"):
                act(job, bench, Watch(), typed_tag=medium.tag)
            assert medium.path.read_bytes() == now
    path.write_bytes(whole[:4096] + bytes(512) + whole[4608:])           # one copy of a slot: the other is enough
    recovering.undo(job, bench, Watch(), typed_tag=medium.tag)


def test_what_somebody_left_among_the_jobs_stands_in_nobodys_way(bench):
    put_card(bench, "card", 72 * MIB, card().data)
    medium = bench.shelf.find("card")
    for name, record in (("2025-01-01T00.00.00", b"{"), ("2025-01-02T00.00.00", b""), ("odd", None)):
        folder = bench.state / "jobs" / name
        (folder / "journal").mkdir(parents=True)                         # cannot be opened as a file
        if record is not None:
            (folder / "job.json").write_bytes(record)
    (bench.state / "jobs" / "2025-01-03T00.00.00").mkdir()
    (bench.state / "jobs" / "2025-01-03T00.00.00" / "journal").write_bytes(b"MOSSJRN1" + bytes(5000))
    job = running.run(JobSheet((s.MakeFolder(2, "x"),), None, reference(medium)), bench, Watch(),
                      typed_tag=medium.tag).job
    assert [j.id for j in Log(bench.state).jobs()] == [job.id]
    assert recovering.interruption(medium.open(), bench) is None
    recovering.undo(job, bench, Watch(), typed_tag=medium.tag)


def test_a_job_of_thousands_of_files_has_a_small_record_and_is_taken_back(bench, tmp_path):
    folder = tmp_path / "many"
    folder.mkdir()
    paths = tuple(str(folder / f"a file with a longer name {n}.sav") for n in range(1500))
    for path in paths:
        Path(path).write_bytes(b"1")
    put_card(bench, "card", 72 * MIB, card().data)
    medium, before = bench.shelf.find("card"), bench.shelf.find("card").path.read_bytes()
    running.run(JobSheet((s.PutFiles(3, paths, "new"),), None, reference(medium)), bench, Watch(), typed_tag=medium.tag)
    log = Log(bench.state)
    job = next(log.jobs())
    assert (job.step_count, job.sheet.steps, log.load(job.id).sheet.steps[0].paths) == (1, (), paths)
    assert (bench.state / "jobs" / job.id / "job.json").stat().st_size < 4096
    assert len(open_partition(medium.open(), 3).tree().find("new").path) == 3
    recovering.undo(job, bench, Watch(), typed_tag=medium.tag)
    assert trees(MemoryBlocks(medium.path.read_bytes())) == trees(MemoryBlocks(before))
