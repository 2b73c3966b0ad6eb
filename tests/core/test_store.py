"""The crate's store: every used byte comes back, equal files are kept once, and what is listed is there."""

from __future__ import annotations

import errno
import itertools
import os
import random
import shutil
import subprocess
import sys
import time
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest
from blake3 import blake3

from mosscrate.core.blocks import MemoryBlocks, Window, open_blocks
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Backup, CardRecord, Crate, storing
from mosscrate.core.crate.library import files_in
from mosscrate.core.errors import CrateError, Damaged, MediumError, MossError
from mosscrate.core.images.kept import packs_of, read_manifest
from mosscrate.core.images.kept.manifest import root_of
from mosscrate.core.images.kept.packs import as_names
from mosscrate.core.maps import MapKind, edits, read_map, write_map
from mosscrate.core.volumes import Making, edit, format_for, open_volume
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, lay_out
from tests.volumes import KINDS, ROOM, Model


def card_with(kind: str, seed: int, *, block: int | None = None, acts: int = 120) -> MemoryBlocks:
    """A card with one volume on which many things were made and removed; free room holds old bytes."""
    rnd = random.Random(seed)
    size = ROOM[kind] + 4 * MIB
    blocks = MemoryBlocks(rnd.randbytes(size), name="Pipkin")
    blocks.write(0, bytes(MIB))
    is_rdb = kind.startswith(("ofs", "ffs"))
    map_ = edits.new_map(MapKind.RDB if is_rdb else MapKind.MBR, size, 512)
    map_, partition = edits.added(map_, size, start=None, length=None, kind=kind)
    write_map(blocks, map_)
    volume = Window(blocks, partition.start, partition.length)
    default = 512 if kind.startswith(("fat", "ofs", "ffs")) else 1024
    format_for(kind).make(volume, Making(kind, "GAMES", block or default, made=1_600_000_000))
    model = Model(kind)
    editor = edit(volume)
    for _ in range(acts):
        model.step(editor, rnd)
    editor.commit()
    return blocks


def record(blocks, key: str = "key") -> CardRecord:
    return CardRecord("Pipkin", key, "ABCD", blocks.size)


def files_of(blocks, index: int = 1) -> dict[str, bytes]:
    volume = open_partition(blocks, index)
    return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}


@pytest.mark.parametrize("kind", KINDS)
def test_every_used_byte_comes_back_and_free_room_is_zeros(kind, tmp_path):
    crate, blocks = Crate(tmp_path), card_with(kind, 3)
    backup = crate.keep(record(blocks), blocks, Watch())
    look = survey(blocks).partitions[0]
    with backup.open() as kept:
        assert files_of(kept) == files_of(blocks)
        assert kept.read(0, look.partition.start) == blocks.read(0, look.partition.start)
        volume = open_volume(Window(blocks, look.partition.start, look.partition.length))
        used = np.zeros(blocks.size, bool)
        for extent in volume.used_extents():
            used[look.partition.start + extent.start:look.partition.start + extent.end] = True
        free = ~used
        free[:look.partition.start], free[look.partition.start + volume.size:] = False, False
        back = np.frombuffer(kept.read(0, kept.size), np.uint8)
        assert not back[free].any(), "what is free is zeros"
        differing = np.flatnonzero(back != np.frombuffer(blocks.data, np.uint8))
        slack = differing[used[differing]]
        assert not back[slack].any(), "only slack is not kept, and it is zeros"
        assert {d for d in slack.tolist()} <= slack_of(volume, look.partition.start)
    crate.check(backup, Watch())


@pytest.mark.parametrize(("kind", "block"), [("fat12", 16384), ("fat16", 2048), ("fat32", 1024), ("exfat", 8192),
                                             ("gemdos", 2048), ("ext2", 4096), ("ext4", 4096)])
def test_what_stands_behind_the_end_of_a_file_is_not_kept(kind, block, tmp_path):
    blocks = filled(kind, {f"GAME{n}.BIN": bytes([n + 1]) * size for n, size in enumerate((1, 511, 5000, 20_000))},
                    block=block, order=1)
    look = survey(blocks).partitions[0]
    volume = open_partition(blocks, 0)
    ends = {}
    for entry in volume.tree().entries:
        if entry.kind == "file":
            last = volume.extents_of(entry)[-1]
            ends[entry.path] = look.partition.start + last.end, -last.length % volume.block
    assert len(ends) == 4
    for at, rest in ends.values():
        blocks.write(at, b"\xa5" * rest)
    with Crate(tmp_path).keep(record(blocks), blocks, Watch()).open() as kept:
        assert files_of(kept, 0) == files_of(blocks, 0)
        for at, rest in ends.values():
            assert rest
            assert not any(kept.read(at, rest))


def slack_of(volume, start: int) -> set[int]:
    found = set()
    for entry in volume.tree().entries:
        if entry.kind == "file":
            rows = volume.pieces_of(entry)
            end = int((rows["place"] + rows["length"])[-1]) if len(rows) else None
            for extent in volume.extents_of(entry) if not volume.kind.startswith("ext") else ():
                first = end if end is not None and extent.start < end <= extent.end else \
                    extent.start if end is None or extent.start >= end else extent.end
                found |= set(range(start + first, start + extent.end))
            if volume.kind.startswith("ext") and end is not None:
                found |= set(range(start + end, start + -(-end // volume.block) * volume.block))
    return found


def test_the_same_files_are_kept_once_whatever_card_they_are_on(tmp_path):
    rnd, files = random.Random(5), {}
    for number in range(60):
        files[f"game {number}.bin"] = rnd.randbytes(rnd.choice((3, 700, 40_000, 300_000, (1 << 20) + 5)))
    crate = Crate(tmp_path)
    cards = [filled(kind, files, block=block, order=order) for kind, block, order in (
        ("fat32", 512, 1), ("fat16", 4096, 2), ("exfat", 32768, 3), ("ext4", 4096, 4), ("ffs", 512, 5))]
    sizes = []
    for number, card in enumerate(cards):
        crate.keep(record(card, f"key {number}"), card, Watch())
        sizes.append(sum(p.stat().st_size for p in tmp_path.rglob("*.pack")))
    contents = sum(map(len, files.values()))
    added = [b - a for a, b in itertools.pairwise(sizes)]
    assert all(more < 0.05 * contents for more in added), added
    packs = packs_of(tmp_path)
    names = {manifest.digest_of(number) for lane in crate.lanes() for backup in lane.backups
             for manifest in [read_manifest(backup.path.read_bytes())] for number in range(len(manifest.files))}
    assert len(names) == len(files), "contents are known again"
    assert packs.has(as_names([blake3(files["game 0.bin"][:1 << 20]).digest()])).all()


def filled(kind: str, files: dict[str, bytes], *, block: int, order: int) -> MemoryBlocks:
    """A card with these files, in an order of its own, in pieces."""
    size = 40 * MIB if kind != "fat32" else 80 * MIB
    blocks = MemoryBlocks(bytes(size), name="Pipkin")
    format_for(kind).make(blocks, Making(kind, "GAMES", block, made=1_600_000_000))
    names = sorted(files)
    random.Random(order).shuffle(names)
    editor = edit(blocks)
    for number, name in enumerate(names):
        editor.add_file(f"GAP{number}.TMP", bytes(5000))
        editor.add_file(name, files[name])
    editor.commit()
    editor = edit(blocks)
    for number in range(len(names)):
        editor.remove(f"GAP{number}.TMP")
    editor.commit()
    return blocks


OPERATIONS = ((os, "pwritev"), (os, "pwrite"), (os, "fsync"), (Path, "rename"))


@pytest.mark.parametrize("share", range(4))
def test_stopped_after_any_operation_nothing_is_listed_that_cannot_be_read(tmp_path, monkeypatch, share):
    blocks = card_with("fat16", 9, acts=40)
    done = count_operations(monkeypatch, Crate(tmp_path / "whole"), blocks)
    for last in range(share, done, 4):
        crate = Crate(tmp_path / str(last))
        with monkeypatch.context() as broken:
            left = [last]
            for place, name in OPERATIONS:
                broken.setattr(place, name, failing(getattr(place, name), left))
            with pytest.raises((CrateError, OSError)):
                crate.keep(record(blocks), blocks, Watch())
        for lane in crate.lanes():
            for backup in lane.backups:
                crate.check(backup, Watch())
        backup = crate.keep(record(blocks), blocks, Watch())
        crate.check(backup, Watch())
        with backup.open() as kept:
            assert files_of(kept) == files_of(blocks)


def failing(real, left: list[int]):
    def call(*args, **more):
        left[0] -= 1
        if left[0] < 0:
            raise OSError(errno.EIO, "gone")
        return real(*args, **more)
    return call


def count_operations(monkeypatch, crate: Crate, blocks) -> int:
    done = [10_000]
    with monkeypatch.context() as counted:
        for place, name in OPERATIONS:
            counted.setattr(place, name, failing(getattr(place, name), done))
        crate.keep(record(blocks), blocks, Watch())
    return 10_000 - done[0]


@pytest.mark.parametrize("share", range(4))
def test_one_bit_flipped_anywhere_is_found_and_costs_nothing_else(tmp_path, share):
    crate, cards = Crate(tmp_path), [card_with("fat16", 11, acts=40), card_with("ext2", 12, acts=40)]
    backups = [crate.keep(record(card, f"key {n}"), card, Watch()) for n, card in enumerate(cards)]
    wanted = [files_of(card) for card in cards]
    stored = [p for p in tmp_path.rglob("*") if p.suffix in (".pack", ".kept")]
    assert crate.check_all(Watch()) == []
    rnd = random.Random(share)
    for _ in range(40):
        path = rnd.choice(stored)
        whole = path.read_bytes()
        at = rnd.randrange(len(whole))
        path.write_bytes(whole[:at] + bytes([whole[at] ^ 1 << rnd.randrange(8)]) + whole[at + 1:])
        packs_of.cache_clear()
        assert_found(crate, backups, wanted, path, at)
        path.write_bytes(whole)
    packs_of.cache_clear()


def assert_found(crate: Crate, backups, wanted, path: Path, at: int) -> None:
    """What is damaged is told; every file that is not named comes back."""
    told = " ".join(crate.check_all(Watch()))
    assert told, (path, at)
    for backup, files in zip(backups, wanted, strict=True):
        with suppress(CrateError, MediumError), backup.open() as kept:
            volume = open_partition(kept, 1)
            for entry in volume.tree().entries:
                if entry.kind == "file" and entry.path not in told:
                    with suppress(Damaged):
                        assert b"".join(volume.read_file(entry)) == files[entry.path], (path, at)


CHECKERS = {"fat": ("fsck.fat", "-n"), "exfat": ("fsck.exfat", "-n"), "ext": ("fsck.ext4", "-fn")}


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind.startswith(tuple(CHECKERS))])
def test_what_comes_back_is_clean_for_the_systems_own_checker(tmp_path, kind):
    checker = next(command for start, command in CHECKERS.items() if kind.startswith(start))
    if not shutil.which(checker[0]):
        pytest.skip(f"{checker[0]} is not there")
    card = card_with(kind, 8, acts=200)
    partition = survey(card).partitions[0].partition
    with Crate(tmp_path / "crate").keep(record(card), card, Watch()).open() as kept:
        (tmp_path / "volume.img").write_bytes(kept.read(partition.start, partition.length))
    subprocess.run([*checker, tmp_path / "volume.img"], check=True, capture_output=True)


@pytest.mark.skipif(not shutil.which("mkfs.ext4"), reason="needs the system's own formatter")
@pytest.mark.parametrize("kind", ["ext2", "ext4"])
def test_two_names_of_one_file_are_one_file_on_the_tape(tmp_path, kind):
    folder = tmp_path / "files"
    (folder / "saves").mkdir(parents=True)
    (folder / "game.bin").write_bytes(random.Random(2).randbytes(3 * MIB))
    os.link(folder / "game.bin", folder / "saves/the same.bin")
    (folder / "short").write_bytes(b"short")
    with (folder / "sparse").open("wb") as file:
        file.seek(5 * MIB)
        file.write(b"end")
    image = tmp_path / "card.img"
    features = ("-O", "inline_data") if kind == "ext4" else ()
    subprocess.run([f"mkfs.{kind}", "-q", *features, "-d", folder, image, "24M"], check=True, capture_output=True)
    crate = Crate(tmp_path / "crate")
    with open_blocks(image) as card:
        backup = crate.keep(record(card), card, Watch())
        with backup.open() as kept:
            assert files_of(kept, 0) == files_of(card, 0)
            assert len(files_of(kept, 0)) == 4
            (tmp_path / "back.img").write_bytes(kept.read(0, kept.size))
    subprocess.run(["fsck.ext4", "-fn", tmp_path / "back.img"], check=True, capture_output=True)


def test_partitions_that_lie_over_one_another_are_kept_whole(tmp_path):
    card = card_with("fat16", 6, acts=20)
    first = read_map(card)
    write_map(card, replace(first, partitions=(*first.partitions, replace(first.partitions[0], index=2))))
    backup = Crate(tmp_path).keep(record(card), card, Watch())
    with backup.open() as kept:
        assert kept.read(0, kept.size) == bytes(card.data)


def test_files_of_a_volume_that_contradicts_itself_are_listed_as_far_as_they_can_be_followed(tmp_path):
    card = MemoryBlocks(bytes(40 * MIB))
    files = {f"{n}.srm": bytes([n]) * 3000 for n in range(1, 6)}
    lay_out(card, [(MIB, 36 * MIB, FatType.FAT32, "GAMES", files)])
    volume = open_partition(card, 1)
    two, three, five = (volume.tree().find(f"{n}.srm") for n in (2, 3, 5))
    first = {name: volume.geometry.fat_offset(0) + MIB + 4 * entry.node for name, entry in
             (("two", two), ("five", five))}
    card.write(30 * MIB, b"left in free room")
    card.write(first["two"], three.node.to_bytes(4, "little"))            # goes on in the clusters of another file
    card.write(first["five"], bytes(4))                                   # ends in a free cluster
    crate = Crate(tmp_path)
    backup = crate.keep(record(card), card, Watch())
    assert {"1.srm", "4.srm"} < {file.path for file in files_in(backup)} < {"1.srm", "2.srm", "3.srm", "4.srm"}
    with backup.open() as kept:
        assert kept.read(0, kept.size) == bytes(card.data)
    crate.check(backup, Watch())
    sound = MemoryBlocks(bytes(40 * MIB))
    lay_out(sound, [(MIB, 36 * MIB, FatType.FAT32, "GAMES", files)])
    sound.write(30 * MIB, b"left in free room")
    every = crate.keep(record(sound), sound, Watch(), every_byte=True)
    assert {file.path for file in files_in(every)} == set(files)
    with every.open() as kept:
        assert kept.read(0, kept.size) == bytes(sound.data)


def test_a_name_that_ends_too_early_leaves_those_of_other_files_alone(tmp_path):
    card = MemoryBlocks(bytes(8 * MIB))
    lay_out(card, [(MIB, 6 * MIB, FatType.FAT16, "GAMES", {f"FILE{n}.SRM": bytes([n]) * 900 for n in range(9)})])
    card.write(bytes(card.data).index(b"FILE4   SRM") + 2, b"\0\0")
    kept = {file.path: file.size for file in files_in(Crate(tmp_path).keep(record(card), card, Watch()))}
    assert set(kept) == {*(f"FILE{n}.SRM" for n in range(9) if n != 4), "FI\ufffd\ufffd4.SRM"}


def test_a_card_that_goes_away_in_the_middle_is_no_backup(tmp_path):
    crate, blocks = Crate(tmp_path), card_with("fat16", 7, acts=60)
    dying = FaultyBlocks(blocks, Faults(dies_after=blocks.size // 2))
    with pytest.raises(MediumError, match="does not answer any more"):
        crate.keep(record(blocks), dying, Watch(), every_byte=True)
    assert crate.lanes() == []
    crate.check(crate.keep(record(blocks), blocks, Watch(), every_byte=True), Watch())


def test_packs_that_went_away_are_not_counted_on(tmp_path):
    crate, card = Crate(tmp_path / "crate"), card_with("fat16", 5, acts=30)
    crate.keep(record(card), card, Watch())
    packs = sorted(crate.root.rglob("*.pack"))
    packs[0].unlink()                                     # another program, another computer
    backup = crate.keep(record(card), card, Watch())
    crate.check(backup, Watch())
    os.truncate(next(crate.root.rglob("*.pack")), 300)
    backup = crate.keep(record(card), card, Watch())
    crate.check(backup, Watch())
    shutil.rmtree(crate.root)
    backup = crate.keep(record(card), card, Watch())
    crate.check(backup, Watch())
    with backup.open() as kept:
        assert files_of(kept) == files_of(card)


def test_a_pack_is_never_written_as_if_it_were_an_image(bench):
    card = card_with("fat12", 4, acts=10)
    bench.crate.keep(record(card), card, Watch())
    pack = next(bench.crate.root.rglob("*.pack"))
    backup = bench.shelf.medium_at(bench.crate.find("Pipkin").path)
    assert (backup.name, backup.source, backup.is_write_protected) == (
        f"Pipkin, {bench.crate.now():%Y-%m-%d}", "backup", True)
    medium = bench.shelf.medium_at(pack)
    assert (medium.source, medium.backup) == ("backup", f"packs/{pack.stem}")


KEEPING = """
import sys
from pathlib import Path
from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.crate import CardRecord, Crate
from mosscrate.core.watch import Watch
crate, path, key = Crate(Path(sys.argv[1])), Path(sys.argv[2]), sys.argv[3]
card = MemoryBlocks(path.read_bytes(), name="Pipkin")
print("begun", flush=True)
while True:
    crate.keep(CardRecord("Pipkin", key, "ABCD", card.size), card, Watch())
"""


def test_killed_at_random_with_two_at_work_every_listed_backup_can_be_read(tmp_path):
    rnd, cards, crate = random.Random(6), [], Crate(tmp_path / "crate")
    for number in range(2):
        cards.append(filled("fat16", {f"g{k}": random.Random(number * 100 + k % 30).randbytes(200_000)
                                      for k in range(60)}, block=4096, order=number))
        (tmp_path / f"card {number}").write_bytes(cards[-1].data)
    for _ in range(5):
        working = [subprocess.Popen([sys.executable, "-c", KEEPING, crate.root, tmp_path / f"card {n}", f"k{n}"],
                                    stdout=subprocess.PIPE) for n in range(2)]
        for each in working:
            each.stdout.readline()
        time.sleep(rnd.uniform(0.02, 0.8))
        for each in working:
            each.kill()
            each.wait()
            each.stdout.close()
        assert crate.check_all(Watch()) == []
    backup = crate.keep(record(cards[0], "k0"), cards[0], Watch())
    assert not list(crate.root.rglob("packs/*/*.part")), "what was left over is used again"
    with backup.open() as kept:
        assert files_of(kept, 0) == files_of(cards[0], 0)


def test_lists_of_chunks_with_mad_numbers_are_refused_with_a_sentence(tmp_path):
    crate, card = Crate(tmp_path), card_with("fat16", 13, acts=40)
    whole = read_manifest(crate.keep(record(card), card, Watch()).path.read_bytes())
    rnd, known = random.Random(1), crate.find("Pipkin").record
    for number in range(200):
        path = tmp_path / "backups" / "key" / f"hostile {number}.kept"
        sections = _hostile(whole, rnd)
        storing._put(path, sections)
        with suppress(MossError), Backup(known, path).open() as kept:
            for at in range(0, min(kept.size, 16 * MIB), MIB):
                kept.read(at, min(MIB, kept.size - at))
        with suppress(MossError):
            list(files_in(Backup(known, path)))
        path.unlink()
    assert isinstance(crate.check_all(Watch()), list)


def _hostile(whole, rnd: random.Random) -> dict[bytes, bytes]:
    """Sections with right digests, one of them with numbers that make no sense."""
    runs, files, lengths = whole.runs.copy(), whole.files.copy(), whole.lengths.copy()
    what = rnd.choice(("run", "file", "length", "head", "path"))
    mad = rnd.choice((0, 1, -1, 1 << 31, (1 << 63) - 1, -(1 << 63), 1 << 40))
    about = whole.about
    if what == "run":
        runs[rnd.choice(runs.dtype.names)][rnd.randrange(len(runs))] = mad
    elif what == "file":
        name = rnd.choice(("size", "modified", "tape", "length"))
        files[name][rnd.randrange(len(files))] = mad
    elif what == "length":
        lengths[rnd.randrange(len(lengths))] = mad & 0xFFFFFFFF
    elif what == "head":
        about = msgspec.structs.replace(about, card=msgspec.structs.replace(about.card, size=mad))
    paths = "".join(f"{p}\0" for p in (whole.paths[:2] if what == "path" else whole.paths)).encode()
    about = msgspec.structs.replace(about, root=root_of(whole.names, lengths, runs))
    return {b"HEAD": msgspec.msgpack.encode(about), b"NAME": whole.names.tobytes(), b"CLEN": lengths.tobytes(),
            b"RUNS": runs.tobytes(), b"FILE": files.tobytes(), b"PATH": paths}
