"""Packed files and containers: straight onto a card, read at random, saved, looked at."""

from __future__ import annotations

import gzip
import lzma
import os
import random
import statistics
import zipfile
import zlib
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np
from backports import zstd

from benches.archives import write_7z
from benches.figure import Figure, paired, seconds
from mosscrate.core.blocks import Blocks, MemoryBlocks, create_image, open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.images.drive_file import Facts
from mosscrate.core.images.making import kind_of
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import AddPartition, NewMap
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.slots.shelf import Shelf
from mosscrate.core.watch import Watch

MIB = 1 << 20
BLOCK = 4 * MIB
SIZE = 512 * MIB
LARGE = 4 << 30
READS = 6000
ROUNDS = 5


def figures(folder: Path) -> Iterator[Figure]:
    disk = folder / "disk.img"
    _make(disk)
    yield from _straight_to_the_card(folder, disk)
    yield from _at_random(folder, disk)
    yield from _saved(folder, disk)
    disk.unlink()
    yield from _mostly_empty(folder)
    yield from _looked_at(folder)


def _make(path: Path) -> None:
    """A third noise, a third text, a third zeros."""
    noise = np.random.default_rng(1)
    with path.open("wb") as file:
        for number in range(SIZE // BLOCK):
            text = b"%08d of a game that nobody remembers\n" % number * (BLOCK // 44)
            file.write((noise.bytes(BLOCK), text.ljust(BLOCK, b"."), bytes(BLOCK))[number % 3])
        os.fsync(file.fileno())


def _straight_to_the_card(folder: Path, disk: Path) -> Iterator[Figure]:
    data = disk.read_bytes()
    packers: dict[str, Callable[[Path], object]] = {
        "xz": lambda path: path.write_bytes(lzma.compress(data, preset=0)),
        "gz": lambda path: path.write_bytes(gzip.compress(data, 1)),
        "zst": lambda path: path.write_bytes(zstd.compress(data, 1)),
        "7z": lambda path: write_7z(path, {"disk.img": data}), "zip": lambda path: _zipped(path, data)}
    for suffix, pack in packers.items():
        path = folder / f"disk.img.{suffix}"
        pack(path)
        ratios, told = [], []
        for _ in range(ROUNDS):
            unpacking = seconds(partial(_unpacked, path))
            writing, ours = (_seconds_onto(folder, each) for each in (disk, path))
            ratios.append(ours / max(unpacking, writing))
            told.append((unpacking, writing, ours))
        medians = [statistics.median(t[k] for t in told) for k in range(3)]
        yield Figure(f"{suffix} straight onto a card, against the slower half", statistics.median(ratios), 1.2, "×",
                     "unpacking {:.2f} s, writing {:.2f} s, ours {:.2f} s".format(*medians))
        path.unlink()


def _zipped(path: Path, data: bytes) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr("disk.img", data)


def _unpacked(path: Path) -> None:
    """By the same libraries, and nothing else."""
    with disk_in(open_image(path)) as disk:
        stream = disk.streams[-1]  # type: ignore[attr-defined]
        unpacking, buffer = stream.packed.begin(0), memoryview(bytearray(BLOCK))
        while unpacking.readinto(buffer):
            pass


def _seconds_onto(folder: Path, path: Path) -> float:
    """What the disk still has to do from before, and taking the card away again, are not part of it."""
    os.sync()
    took = seconds(partial(_onto, folder, path))
    (folder / "card.img").unlink()
    return took


def _onto(folder: Path, path: Path) -> None:
    with disk_in(open_image(path)) as source, create_image(folder / "card.img", SIZE) as card:
        if source.size < SIZE:
            source.suppose(SIZE)  # type: ignore[attr-defined]
        write_image(source, card, Watch(), verify=False)


def _at_random(folder: Path, disk: Path) -> Iterator[Figure]:
    rnd = random.Random(1)
    places = [rnd.randrange(SIZE // 4096) * 4096 for _ in range(READS)]
    for key, name in (("qcow2", "a qcow2 file"), ("drive", "a drive file")):
        path = folder / f"random.{key}"
        with open_blocks(disk) as source:
            kind_of(key).make(source, path, Facts(), Watch())
        ratio, detail = paired(partial(_read, path, places), partial(_read, disk, places))
        yield Figure(f"random reads of 4 KiB from {name}, against raw, both from the disk", ratio, 2.0, "×", detail)
        path.unlink()


def _read(path: Path, places: list[int]) -> None:
    with disk_in(open_image(path)) as disk:
        disk.drop_cache()
        for at in places:
            disk.read(at, 4096)


def _saved(folder: Path, disk: Path) -> Iterator[Figure]:
    for key, pack in (("qcow2-packed", _deflated), ("drive", partial(zstd.compress, level=3))):
        piece = 64 << 10
        ratio, detail = paired(partial(_save, key, disk, folder), partial(_plainly, disk, folder, pack, piece), ROUNDS)
        yield Figure(f"saving as {key}, against a plain loop that packs", ratio, 1.3, "×", detail)


def _deflated(data: bytes) -> bytes:
    packer = zlib.compressobj(1, zlib.DEFLATED, -12)
    return packer.compress(data) + packer.flush()


def _save(key: str, disk: Path, folder: Path) -> None:
    with open_blocks(disk) as source:
        kind_of(key).make(source, folder / "saved", Facts(), Watch())
    (folder / "saved").unlink()


def _plainly(disk: Path, folder: Path, pack: Callable[[bytes], bytes], piece: int) -> None:
    with disk.open("rb") as source, (folder / "plain").open("wb") as target:
        while data := source.read(piece):
            if any(data[:1]) or data.count(0) < len(data):
                target.write(pack(data))
        os.fsync(target.fileno())
    (folder / "plain").unlink()


def _mostly_empty(folder: Path) -> Iterator[Figure]:
    image, noise = folder / "empty.img", np.random.default_rng(2)
    with create_image(image, LARGE) as file:
        for at in range(0, LARGE, 40 * MIB):
            file.write(at, noise.bytes(BLOCK))
        file.flush()

    def ours() -> None:
        with open_blocks(image) as source, create_image(folder / "card.img", LARGE) as card:
            write_image(source, card, Watch(), verify=True)
        (folder / "card.img").unlink()

    def plain() -> None:
        buffer = memoryview(bytearray(BLOCK))
        with image.open("rb", buffering=0) as source, (folder / "plain.img").open("w+b", buffering=0) as target:
            while count := source.readinto(buffer):
                target.write(buffer[:count])
            os.fsync(target.fileno())
            target.seek(0)
            while target.readinto(buffer):
                pass
        (folder / "plain.img").unlink()

    ratio, detail = paired(ours, plain, ROUNDS)
    yield Figure("a 4 GiB image in use by a tenth, written and read back", ratio, 0.35, "×", detail)
    image.unlink()


def _looked_at(folder: Path) -> Iterator[Figure]:
    """The map of a large archive: noise behind a card, so that it is as large as what it holds."""
    path, card = folder / "large.img.gz", MemoryBlocks(bytes(40 * MIB))
    for step in (NewMap("mbr"), AddPartition("fat32", label="GAMES")):
        perform(step, card, None, Watch())
    noise = np.random.default_rng(3).bytes(64 * MIB)
    with gzip.open(path, "wb", compresslevel=0) as file:
        file.write(card.data)
        for _ in range(40):
            file.write(noise)
    read = 0

    def look() -> None:
        nonlocal read
        medium = Shelf().find(str(path))
        with medium.open_to_look() as disk:
            assert survey(disk).map_kind == "mbr"
            read = _count(disk)

    took = seconds(look)
    yield Figure(f"map of an archive of {path.stat().st_size / 1e9:.1f} GB", took, 2.0, "s")
    yield Figure("bytes of it that were read", read / MIB, 64, "MiB")
    path.unlink()


def _count(disk: Blocks) -> int:
    return disk.meter.count  # type: ignore[attr-defined,no-any-return]
