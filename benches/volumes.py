"""ext4 and exFAT grown, large and small files copied, a tree of 50,000 files listed."""

from __future__ import annotations

import os
import statistics
import subprocess
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benches.figure import Figure, paired, seconds, settled
from benches.growing import Counting
from benches.journalled import journalled
from mosscrate.core.blocks import FileBlocks, Window, create_image, open_blocks
from mosscrate.core.contents.transfer import copy_tree, plan_passage
from mosscrate.core.volumes import Making, edit, exfat, ext, facts_for, format_for, open_volume
from mosscrate.core.watch import Watch

GIB, MIB = 1 << 30, 1 << 20
BLOCK = 4 * MIB


def figures(folder: Path) -> Iterator[Figure]:
    yield from _ext_growth(folder)
    yield from _exfat_growth(folder)
    yield from _large_files(folder)
    yield from _small_files(folder)
    yield from _listing(folder)


def _ext_growth(folder: Path) -> Iterator[Figure]:
    with create_image(folder / "ext.img", 60 * GIB) as blocks:
        ext.make(Window(blocks, 0, 4 * GIB), Making("ext4", "GAMES", 4096))
        counting = Counting(blocks)
        with journalled(counting, folder / "state") as journal:
            counting.written_bytes = 0
            took = settled(lambda: ext.grow(journal, 60 * GIB, Watch()), journal)
        share = 100 * counting.written_bytes / (60 * GIB)
        yield Figure("grow ext4 4 → 60 GiB", took, 3, "s", f"{counting.written_bytes >> 10} KiB written")
        yield Figure("grow ext4 4 → 60 GiB: written / new size", share, 0.2, "%")
    (folder / "ext.img").unlink()


def _exfat_growth(folder: Path) -> Iterator[Figure]:
    with create_image(folder / "exfat.img", 64 * GIB) as blocks:
        window = Window(blocks, 0, 2 * GIB)
        exfat.make(window, Making("exfat", "GAMES", 4096))
        editor = exfat.edit(window)
        for number in range(400):
            editor.add_folder(f"folder {number}")
            for name in range(5):
                editor.add_file(f"folder {number}/a save of some size {name}.sav", b"x" * 30_000)
        editor.commit()
        volume = exfat.open_exfat(window)
        folders = sum(e.length for f in volume.tree().entries if f.kind == "folder" for e in volume.extents_of(f)) or \
            400 * 4096
        counting = Counting(blocks)
        with journalled(counting, folder / "state") as journal:
            counting.read_bytes = counting.written_bytes = 0
            took = settled(lambda: exfat.grow(journal, 64 * GIB, Watch()), journal)
            read, written = counting.read_bytes, counting.written_bytes
        new = exfat.open_exfat(blocks).geometry
        shift = (new.heap_start - volume.geometry.heap_start) * new.sector
        needed = new.fat_sectors * new.sector + new.bitmap_bytes + folders + shift
        detail = f"FAT and bitmap {(new.fat_sectors * new.sector + new.bitmap_bytes) >> 20} MiB; {took:.2f} s"
        yield Figure("grow exFAT 2 → 64 GiB: read / (tables + folders + moved)", read / needed, 2, "×",
                     detail)
        yield Figure("grow exFAT 2 → 64 GiB: written / the same", written / needed, 2, "×", detail)
    (folder / "exfat.img").unlink()


def _large_files(folder: Path) -> Iterator[Figure]:
    """2 GiB in eight files from FAT32 into ext4, against a plain loop over the same bytes on the same disk."""
    source = folder / "large.img"
    data = np.random.default_rng(1).bytes(256 * MIB)
    with create_image(source, 3 * GIB) as blocks:
        format_for("fat32").make(blocks, Making("fat32", "GAMES"))
        editor = edit(blocks)
        for number in range(8):
            editor.add_file(f"disc {number}.iso", data)
        editor.commit()
    ratio, detail = paired(lambda: _copy(source, folder), lambda: _plain(source, folder), rounds=3)
    yield Figure("copy 2 GiB of large files, FAT32 to ext4", ratio, 1.3, "×", detail)
    source.unlink()


def _small_files(folder: Path) -> Iterator[Figure]:
    source = folder / "small.img"
    with create_image(source, 2 * GIB) as blocks:
        format_for("fat32").make(blocks, Making("fat32", "GAMES", 4096))
        editor = edit(blocks)
        for number in range(20_000):
            if number % 200 == 0:
                editor.add_folder(f"system {number // 200}")
            editor.add_file(f"system {number // 200}/a game number {number}.gb", b"r" * (number % 5000))
        editor.commit()
    rounds = [seconds(lambda: _copy(source, folder)) for _ in range(3)]
    took = statistics.median(rounds)
    yield Figure("20,000 small files, FAT32 to ext4", took / 20_000 * 4000, 1, "×",
                 f"of the time at 4,000 files a second; {20_000 / took:.0f} files a second")
    source.unlink()


def _copy(source: Path, folder: Path) -> None:
    forget_cached(source)
    path = folder / "copy.img"
    with open_blocks(source) as a, create_image(path, 4 * GIB) as b:
        ext.make(b, Making("ext4", "GAMES", 4096))
        volume, editor = open_volume(a), edit(b)
        entries = volume.tree().entries
        copy_tree(volume.read_file, entries, editor, plan_passage(entries, facts_for("ext4")), Watch())
        editor.commit()
    path.unlink()


def _plain(source: Path, folder: Path) -> None:
    """The same bytes by a loop of 4 MiB blocks."""
    forget_cached(source)
    path, buffer, left = folder / "plain.img", bytearray(BLOCK), 2 * GIB
    with source.open("rb", buffering=0) as a, path.open("wb", buffering=0) as b:
        while left:
            count = a.readinto(buffer) or 0
            b.write(memoryview(buffer)[:count])
            left -= count
        os.fsync(b.fileno())
    path.unlink()


def _listing(folder: Path) -> Iterator[Figure]:
    """50,000 files: our own reader against a walk of the kernel's mount (needs root for the loop device)."""
    path = folder / "list.img"
    with create_image(path, 2 * GIB) as blocks:
        ext.make(blocks, Making("ext4", "GAMES", 4096))
        editor = edit(blocks)
        for number in range(50_000):
            if number % 250 == 0:
                editor.add_folder(f"system {number // 250}")
            editor.add_file(f"system {number // 250}/a game with a long name, number {number}.gb", b"rom")
        editor.commit()
    mount = folder / "mount"
    mount.mkdir()
    if os.geteuid() != 0 or subprocess.run(["mount", "-o", "loop,ro,noload", path, mount], check=False).returncode:
        took = seconds(lambda: _list(path))
        yield Figure("list 50,000 files of ext4 (no mount here)", took, 3, "s")
        return
    try:
        ratio, detail = paired(lambda: _list(path), lambda: _walk(mount, path))
    finally:
        subprocess.run(["umount", mount], check=True)
    yield Figure("list 50,000 files of ext4 / walking the kernel's mount", ratio, 3, "×", detail)
    path.unlink()


def _list(path: Path) -> None:
    with open_blocks(path) as blocks:
        assert len(open_volume(blocks).tree().entries) == 50_201


def _walk(mount: Path, path: Path) -> None:
    """Every name with size and time, the kernel's caches emptied first."""
    subprocess.run(["umount", mount], check=True)
    subprocess.run(["mount", "-o", "loop,ro,noload", path, mount], check=True)
    count = 0
    for folder, folders, files in os.walk(mount):
        for name in (*folders, *files):
            os.lstat(os.path.join(folder, name))
            count += 1
    assert count == 50_201


def forget_cached(path: Path) -> None:
    with open_blocks(path) as blocks:
        assert isinstance(blocks, FileBlocks), "an image file"
        blocks.drop_cache()
