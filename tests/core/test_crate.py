"""The crate: what is kept, what its record says, what damage to it is noticed, what changed between two backups."""

from __future__ import annotations

import errno
import json
import os
from pathlib import Path

import pytest
from blake3 import blake3

from mosscrate.core.blocks import MemoryBlocks, Window, open_blocks
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.crate import Backup, CardRecord, Crate
from mosscrate.core.crate.compare import compare
from mosscrate.core.errors import CrateError, MediumError, Stopped
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import card_of, standard_bench
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import Traits, edit
from mosscrate.core.watch import Progress, Watch
from tests.cards import MIB, WHEN, handheld, put_card
from tests.core.maps.test_rdb import drive

CARD = CardRecord("Worn card", "serial-1", "WORN", 40 * MIB)


def keep(crate: Crate, blocks, card: CardRecord = CARD, **about):
    """As an image, as the first crates held them and as `keep --to` makes them."""
    path = about.pop("path", None) or crate.suggest(card)
    return crate.keep_as_image(card, blocks, Watch(), path, layout={"partitions": 2}, **about)


def test_a_backup_is_sparse_dated_and_recorded_with_what_was_read(bench):
    card = handheld()
    backup = keep(bench.crate, card)
    record = json.loads(backup.path.with_suffix(".json").read_text())
    assert backup.path.relative_to(bench.crate.root).parts == ("Worn card WORN", "2026-11-20 08.01 Worn card.img")
    assert (record["length"], record["blake3"]) == (card.size, blake3(bytes(card.data)).hexdigest())
    assert (record["verified"], record["unreadable"], record["layout"]) == (True, [], {"partitions": 2})
    assert os.stat(backup.path).st_blocks * 512 <= record["written"] + MIB < card.size // 4
    with backup.open() as image:
        assert image.read(0, image.size) == bytes(card.data)
    assert [p.name for p in backup.path.parent.iterdir() if p.suffix not in (".img", ".json")] == []


def test_names_never_collide_and_cannot_leave_the_crate(bench):
    blocks = MemoryBlocks(bytes(MIB))
    odd = CardRecord("../..\\Été: 64/GB?", "k", "ABCD", MIB)
    now = bench.crate.now()
    bench.crate.now = lambda: now                                      # the clock stands still
    paths = [keep(bench.crate, blocks, odd).path for _ in range(3)]
    assert len(set(paths)) == 3
    assert all(bench.crate.root in p.parents for p in paths)
    assert paths[0].parent.name == "Été 64GB ABCD"
    with pytest.raises(MediumError, match="there already"):
        keep(bench.crate, blocks, path=paths[0])
    assert [len(lane.backups) for lane in bench.crate.lanes()] == [3]


def test_sectors_that_cannot_be_read_are_zeros_and_named(bench):
    card = handheld()
    bad = FaultyBlocks(card, Faults(bad=(Bad(8 * MIB, 1024), Bad(20 * MIB + 512, 512))))
    backup = keep(bench.crate, bad)
    assert backup.record.unreadable == [(8 * MIB, 1024), (20 * MIB + 512, 512)]
    assert not backup.record.is_complete
    wanted = bytearray(card.data)
    wanted[8 * MIB:8 * MIB + 1024], wanted[20 * MIB + 512:20 * MIB + 1024] = bytes(1024), bytes(512)
    with backup.open() as image:
        assert image.read(0, image.size) == bytes(wanted)
    bench.crate.check(backup, Watch())


@pytest.mark.parametrize("way", ["in chunks", "as an image"])
def test_a_card_that_is_written_to_meanwhile_is_no_backup(way, bench, tmp_path):
    put_card(bench, "one", 60 * MIB, handheld(60 * MIB).data, name="Pipkin")
    image, card, crate = bench.shelf.simulated_folder / "one.img", bench.shelf.find("Pipkin"), bench.crate

    def kept(watch: Watch) -> Backup:
        with card.open() as blocks:
            return crate.keep(card_of(card), blocks, watch) if way == "in chunks" else crate.keep_as_image(
                card_of(card), blocks, watch, tmp_path / "out" / "x.img", layout={})

    def written(_progress: Progress) -> None:
        with image.open("r+b") as file:
            file.seek(50 * MIB)
            file.write(os.urandom(8))

    with pytest.raises(CrateError, match="written to while it was kept"):
        kept(Watch(written))
    assert not [*crate.lanes(), *(tmp_path / "out").glob("*")]
    kept(Watch())


def test_stopping_leaves_nothing_behind(bench):
    told = []

    def report(progress):
        told.append(progress)

    watch = Watch(report, lambda: bool(told))
    with pytest.raises(Stopped):
        bench.crate.keep(CARD, handheld(), watch)
    assert [p for p in bench.crate.root.rglob("*") if p.is_file()] == []


def test_what_is_kept_is_known_again_when_it_is_damaged_cut_or_gone(bench):
    kept = [keep(bench.crate, handheld(seed=k)) for k in range(3)]
    with open_blocks(kept[0].path, writable=True) as image:
        image.write(30 * MIB, b"rot")
    with pytest.raises(CrateError, match="its checksum differs"):
        bench.crate.check(kept[0], Watch())
    os.truncate(kept[1].path, 30 * MIB)
    with pytest.raises(CrateError, match="changed or cut"):
        bench.crate.check(kept[1], Watch())
    kept[2].path.unlink()
    with pytest.raises(CrateError, match="its image is gone"):
        kept[2].open()
    kept[0].path.with_suffix(".json").write_text('{"card": 3}')
    assert [b.path for b in bench.crate.backups_of(CARD.key)] == [kept[1].path, kept[2].path]


def test_lanes_are_by_card_and_the_one_kept_last_is_first(bench):
    other = CardRecord("Spare", "serial-2", "SPAR", MIB)
    small = MemoryBlocks(bytes(MIB))
    first, second, third = keep(bench.crate, small), keep(bench.crate, small, other), keep(bench.crate, small)
    assert [[b.path for b in lane.backups] for lane in bench.crate.lanes()] == [
        [first.path, third.path], [second.path]]
    assert bench.crate.backups_of("nobody") == ()


def test_two_backups_are_compared_by_partition_and_by_file(bench):
    card = handheld()
    part = read_map(card).partition(2)
    games = Window(card, part.start, part.length)
    editor = edit(games)
    for name in ("roms/one.sav", "roms/two.sav", "roms/three.gb"):
        editor.add_file(name, b"x" * 900, Traits(WHEN))
    editor.commit()
    before = keep(bench.crate, card)
    editor = edit(games)
    editor.remove("roms/one.sav")
    editor.remove("roms/two.sav")
    editor.add_file("roms/two.sav", b"y" * 800, Traits(WHEN + 60))
    editor.add_file("roms/four.sav", b"z", Traits(WHEN + 60))
    editor.add_file("readme.txt", b"z", Traits(WHEN + 60))
    editor.commit()
    after = keep(bench.crate, card)
    firmware, changed = compare(before, after)
    assert (firmware.name, firmware.is_changed, firmware.sentence) == ("PEAT", False, "nothing changed")
    assert changed.sentence == "1 save new, 1 file new, 1 save changed, 1 save gone"
    assert [e.path for e in changed.gone_saves] == ["roms/one.sav"]
    assert changed.examples.startswith("roms/one.sav, roms/two.sav, ")
    assert changed.examples.endswith(" and 1 more")
    assert [c.sentence for c in compare(after, after)] == ["nothing changed"] * 2


def test_what_cannot_be_opened_or_was_not_there_is_compared_by_its_bytes(bench):
    rdb = drive()
    before = keep(bench.crate, rdb)
    part = read_map(rdb).partition(2)
    rdb.write(part.start, bytes(4))                                    # its DosType: not opened any more
    perform(s.AddPartition("ffs", 4 * MIB, label="More"), rdb, None, Watch())
    new = read_map(rdb).partitions[-1]
    editor = edit(Window(rdb, new.start, new.length))
    editor.add_file("a song", b"la" * 100)
    editor.commit()
    after = keep(bench.crate, rdb)
    assert [p.name for p in survey(rdb).partitions] == ["System", "DH1", "Old", "More"]
    assert [(c.sentence, c.is_open) for c in compare(before, after)] == [
        ("nothing changed", True), ("its bytes changed", False), ("nothing changed", True), ("1 file new", True)]


@pytest.mark.parametrize(("field", "value", "why"), [
    ("image", "../../etc/passwd", "expected the name of a file"), ("image", "", "expected the name"),
    ("image", "/etc/passwd", "expected the name"), ("kept_at", "yesterday", "expected a date"),
    ("kept_at", "2026-11-20T08:00:00", "with its zone"), ("length", -1, "negative"), ("length", "big", "length"),
    ("blake3", "0", "64 hexadecimal digits"), ("format", 99, "of format 99"), ("unreadable", [[-1, 5]], "negative")])
def test_a_hostile_record_is_named_and_every_other_backup_is_listed(bench, field, value, why):
    good = keep(bench.crate, handheld())
    bad = keep(bench.crate, handheld(seed=2), CardRecord("Other", "serial-2", "OTHR", 40 * MIB))
    path = bad.path.with_suffix(".json")
    path.write_text(json.dumps(json.loads(path.read_text()) | {field: value}))
    assert [b.path for lane in bench.crate.lanes() for b in lane.backups] == [good.path]
    said = " ".join(t.sentence for t in bench.crate.troubles())
    assert why in said
    assert bad.path.name in said


def test_a_backup_whose_record_or_image_is_cut_or_gone_is_not_forgotten(bench):
    backups = [keep(bench.crate, handheld(seed=n)) for n in range(3)]
    backups[0].path.with_suffix(".json").unlink()
    backups[1].path.with_suffix(".json").write_bytes(backups[1].path.with_suffix(".json").read_bytes()[:100])
    backups[2].path.unlink()
    said = [t.sentence for t in bench.crate.troubles()]
    assert len(said) == 3
    for backup in backups:
        assert any(backup.path.name in sentence for sentence in said)


def test_a_crate_that_runs_full_leaves_no_part_of_a_backup(bench, monkeypatch):
    from mosscrate.core.crate import crate as crate_module
    real = crate_module.begun_image

    def small(path, size):
        return FaultyBlocks(real(path, size), Faults(pulled_after_writes=2))
    monkeypatch.setattr(crate_module, "begun_image", small)
    with pytest.raises(MediumError):
        keep(bench.crate, handheld())
    assert [p for p in bench.crate.root.rglob("*") if p.is_file()] == []


def test_the_list_of_crates_is_whole_in_any_script_and_never_replaced_where_it_cannot_be_read(tmp_path, monkeypatch):
    used = [tmp_path / "Kisten" / name for name in ("クマ", "Läufer", "plain")]
    for crate in used:
        bench = standard_bench(slots=tmp_path / "none", crate=crate, state=tmp_path / "state")
    assert set(used[:2]) <= set(bench.shelf.crates)
    written = (tmp_path / "state" / "crates").read_bytes()
    read = Path.read_bytes

    def unreadable(path):
        if path.name == "crates":
            raise OSError(errno.EIO, "Input/output error")
        return read(path)
    monkeypatch.setattr(Path, "read_bytes", unreadable)
    with pytest.raises(CrateError, match="must not be written over"):
        standard_bench(slots=tmp_path / "none", crate=tmp_path / "fourth", state=tmp_path / "state")
    monkeypatch.undo()
    assert (tmp_path / "state" / "crates").read_bytes() == written
