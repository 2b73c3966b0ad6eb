"""The guard: what it refuses, what would be lost, and that it is the only door for writing."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import pytest

import mosscrate
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import CrateError, GuardRefusal, JobError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.images.kept import packs_of, read_manifest
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.running import guard, recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.knowing import known
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import CopyPartition, EmptyCard, KeepCard, Which, WriteImage
from mosscrate.core.watch import Watch
from tests.cards import MIB, fill, handheld, put_card


@pytest.fixture
def two(bench):
    put_card(bench, "old", 40 * MIB, handheld(40 * MIB).data)
    put_card(bench, "new", 50 * MIB, handheld(50 * MIB, seed=4).data)
    return bench.shelf.find("old"), bench.shelf.find("new")


def refusal(medium, planned, source, tag) -> str:
    before = medium.open().read(0, medium.size)
    with pytest.raises(GuardRefusal) as caught:
        guard.admit(medium, planned, source, tag)
    assert medium.open().read(0, medium.size) == before
    assert caught.value.exit_code == 3
    return str(caught.value)


def test_only_the_typed_tag_opens_the_door(two):
    old, new = two
    assert new.tag in refusal(new, reference(new), reference(old), "")
    assert "is not it" in refusal(new, reference(new), reference(old), old.tag)
    with guard.admit(new, reference(new), reference(old), new.tag.lower()).blocks as blocks:
        assert blocks.writable


def test_what_must_not_be_written_cannot_be_confirmed(two, bench, tmp_path):
    old, new = two
    planned = reference(new)
    assert "write-protected" in refusal(replace(new, is_write_protected=True), planned, None, new.tag)
    assert "mounted at /media/x" in refusal(replace(new, in_use="mounted at /media/x"), planned, None, new.tag)
    assert "source itself" in refusal(new, planned, planned, new.tag)
    copy = replace(new, serial="another")
    assert "not the card that was planned" in refusal(copy, planned, None, copy.tag)
    backup = bench.crate.keep(card_of(old), old.open(), Watch())
    kept = bench.shelf.medium_at(backup.path)
    assert "kept backup" in refusal(kept, reference(kept), None, kept.tag)
    from mosscrate.core.blocks import Window, open_blocks
    with open_blocks(new.path, writable=True) as blocks:
        fill(Window(blocks, 6 * MIB, 44 * MIB), {"new.sav": b"progress"})
    assert "changed since" in refusal(new, planned, reference(old), new.tag)


def test_a_refused_run_leaves_card_crate_and_log_alone(two, bench):
    old, new = two
    sheet = JobSheet((WriteImage(),), reference(old), reference(new))
    with pytest.raises(GuardRefusal):
        running.run(sheet, bench, Watch(), typed_tag="XXXX")
    assert recovering.unfinished(bench) == []
    assert not (bench.state / "jobs").exists()


def test_losses_are_counted_against_the_backups(two, bench):
    old, _ = two
    layout = survey(old.open())
    words = what_would_be_lost(old, layout, bench.crate)[0].sentence
    assert re.fullmatch(r"\d+ saves? and \d+ other files? on this card are in no backup(, the newest .*)?\.", words)
    bench.crate.keep(card_of(old), old.open(), Watch())
    assert "are in the backup of" in what_would_be_lost(old, layout, bench.crate)[0].sentence
    from mosscrate.core.blocks import Window, open_blocks
    with open_blocks(old.path, writable=True) as blocks:
        fill(Window(blocks, 6 * MIB, 34 * MIB), {"new.sav": b"progress"})
    words = what_would_be_lost(old, survey(old.open()), bench.crate)[0].sentence
    assert re.fullmatch(r"1 save on this card is in no backup, from \d+ \w+ 20\d\d\.", words)


def test_a_card_that_counts_as_kept_is_compared_with_its_backup_before_it_is_written_over(two, bench):
    old, new = two
    bench.crate.keep(card_of(new), new.open(), Watch())
    assert "are in the backup of" in what_would_be_lost(new, survey(new.open()), bench.crate)[0].sentence
    sheet = JobSheet((WriteImage(verify=True),), reference(old), reference(new))
    games = open_partition(new.open(), 2)
    save = next(e for e in games.tree().entries if e.size > 2000)
    at = 6 * MIB + games.extents_of(save)[0].start
    del games                                              # it takes part as a reader
    with new.path.open("r+b") as file:                     # with the same name, size and time
        file.seek(at)
        file.write(b"new progress")
    sheet = JobSheet(sheet.steps, sheet.source, reference(new))
    before = new.path.read_bytes()
    with pytest.raises(GuardRefusal, match=f"counts as kept, .*{re.escape(save.path)}.*Keep it anew first"):
        running.run(sheet, bench, Watch(), typed_tag=new.tag)
    assert new.path.read_bytes() == before
    bench.crate.keep(card_of(new), new.open(), Watch())
    running.run(sheet, bench, Watch(), typed_tag=new.tag)
    assert new.path.read_bytes()[:MIB] == old.path.read_bytes()[:MIB]


def test_a_source_that_changed_since_the_plan_is_not_written(two, bench):
    from mosscrate.core.blocks import Window, open_blocks
    old, new = two
    sheet = JobSheet((WriteImage(verify=True),), reference(old), reference(new))
    with open_blocks(old.path, writable=True) as blocks:
        fill(Window(blocks, 6 * MIB, 34 * MIB), {"new.sav": b"progress"})
    before = new.path.read_bytes()
    with pytest.raises(GuardRefusal, match="Old was changed or exchanged since the sheet was planned"):
        running.run(sheet, bench, Watch(), typed_tag=new.tag)
    assert new.path.read_bytes() == before
    assert recovering.unfinished(bench) == []


@pytest.mark.parametrize("way", ["write", "bring", "undo"])
def test_a_damaged_backup_is_neither_written_nor_put_back_as_if_it_were_whole(two, bench, way):
    old, new = two
    kept = bench.crate.keep(card_of(old), old.open(), Watch())
    if way == "undo":
        steps = (KeepCard(Which.TARGET), WriteImage(verify=True))
        job = running.run(JobSheet(steps, reference(old), reference(new)), bench, Watch(), typed_tag=new.tag).job
        kept = bench.crate.backups_of(new.key)[-1]
    backup = reference(bench.shelf.medium_at(kept.path))
    rot(kept)
    with pytest.raises((CrateError, JobError, MediumError), match=r"not what was kept|is damaged"):
        if way == "undo":
            recovering.undo(job, bench, Watch(), typed_tag=new.tag)
        else:
            steps = (WriteImage(verify=True),) if way == "write" else (EmptyCard(), CopyPartition(2))
            running.run(JobSheet(steps, backup, reference(new)), bench, Watch(), typed_tag=new.tag)
    assert survey(new.open()).map_kind == "mbr"                  # compared before anything was written
    assert recovering.unfinished(bench) == []


def test_contents_that_are_not_known_here_are_not_called_nothing(bench):
    put_card(bench, "arcade", 8 * MIB, b"\x17\x2a" * MIB)
    put_card(bench, "amber", 8 * MIB, b"RDSK")
    put_card(bench, "blank", 8 * MIB)
    put_card(bench, "erased", 80 * MIB, bytes(2 * MIB) + handheld(40 * MIB).data[2 * MIB:])
    said = [what_would_be_lost(m, survey(m.open()), bench.crate)[0] for m in bench.shelf.media()
            if m.source == "simulated"]
    by_name = dict(zip([m.name for m in bench.shelf.media()], said, strict=False))
    assert by_name["Arcade"].severity == by_name["Amber"].severity == by_name["Erased"].severity == "warning"
    assert by_name["Blank"].sentence.startswith("The card looks blank")
    put_card(bench, "failing", 8 * MIB, unreadable=[(4 * MIB, 512)])
    assert survey(bench.shelf.find("failing").open()).is_blank
    erased = survey(bench.shelf.find("erased").open())
    assert "its beginning erased, and what lay behind is still there" in erased.findings[0].sentence


def test_no_other_module_opens_a_medium_for_writing():
    root = Path(mosscrate.__file__).parent
    callers = {str(p.relative_to(root)) for p in root.rglob("*.py")
               if re.search(r"open_for_guard\(|open_blocks\([^)]*writable=True", p.read_text())}
    assert callers == {"core/sheet/running/guard.py", "core/slots/medium.py", "demo/cards.py"}


# the crate

def rot(backup) -> None:
    """One byte of its last file changes in its pack."""
    manifest = read_manifest(backup.path.read_bytes())
    packs = packs_of(backup.path.resolve().parents[2])
    packs.refresh()
    found = packs.find(manifest.names[-1].tobytes())
    with found.pack.open("r+b") as file:
        file.seek(found.offset + 64 + found.stored // 2)
        was = file.read(1)
        file.seek(-1, 1)
        file.write(bytes([was[0] ^ 1]))


def test_a_backup_is_verified_recorded_and_noticed_when_it_changes(two, bench):
    old, _ = two
    backup = bench.crate.keep(card_of(old), old.open(), Watch())
    assert (backup.record.verified, backup.record.is_complete) == (True, True)
    bench.crate.check(backup, Watch())
    rot(backup)
    with pytest.raises(CrateError, match="not what was kept"):
        bench.crate.check(backup, Watch())


def test_a_full_disk_is_told_before_the_first_byte(two, bench, monkeypatch):
    old, _ = two
    monkeypatch.setattr("shutil.disk_usage", lambda _: type("Usage", (), {"free": 64 * MIB + 4096})())
    with pytest.raises(CrateError, match="no room"):
        bench.crate.keep(card_of(old), old.open(), Watch())
    assert list(bench.crate.root.rglob("*")) == []


def test_a_volume_that_is_mounted_is_told_to_be_at_work(bench):
    put_card(bench, "one", 60 * MIB, handheld(60 * MIB).data, name="Pipkin")
    card = bench.shelf.find("Pipkin")
    with card.open() as blocks:
        layout = survey(blocks)
        first, *rest = layout.partitions
        at_work = replace(layout, partitions=(replace(first, volume=replace(first.volume, is_clean=False)), *rest))
        mounted = replace(card, in_use="mounted at /x")
        for medium, seen, told in ((card, layout, 0), (card, at_work, 0), (mounted, layout, 0), (mounted, at_work, 1)):
            found, _ = known(medium, blocks, seen, bench)
            assert sum("It is mounted at /x: a volume that is at work" in f.sentence for f in found.findings) == told


def test_what_seems_to_contradict_itself_while_it_is_mounted_is_not_to_be_made_afresh(bench):
    put_card(bench, "one", 60 * MIB, handheld(60 * MIB).data, name="Pipkin")
    card = replace(bench.shelf.find("Pipkin"), in_use="mounted at /x")
    with card.open() as blocks:
        layout = survey(blocks)
    first, *rest = layout.partitions
    broken = replace(first, volume=replace(first.volume, unsound="“a” and “b” share room. It has to be made afresh."))
    finding = Finding(Severity.PROBLEM, "“a” and “b” share room", partition=first.index)
    seen = replace(layout, partitions=(broken, *rest), findings=(finding,))
    with card.open() as blocks:
        found, _ = known(card, blocks, seen, bench)
        assert "Unmount it and look again" in found.findings[0].remedy
        assert found.findings[-1].severity == Severity.NOTE
        assert found.partitions[0].volume.unsound == "It is mounted at /x. Unmount it first."
        found, _ = known(replace(card, in_use=""), blocks, seen, bench)
        assert found.partitions == seen.partitions
        assert found.findings == (finding,)
