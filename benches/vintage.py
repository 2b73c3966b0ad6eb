"""OFS and FFS listed and filled, an image swapped: against plain loops over the same bytes on the same disk."""

from __future__ import annotations

import os
import statistics
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benches.figure import Figure, paired, seconds
from benches.journalled import journalled
from benches.volumes import BLOCK, GIB, MIB, forget_cached
from mosscrate.core.blocks import create_image, open_blocks
from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import AddPartition, NewMap, PutFiles, SwapBytes
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.volumes import Making, edit, format_for, open_volume
from mosscrate.core.watch import Watch

COPIED = 500 * 10**6


def figures(folder: Path) -> Iterator[Figure]:
    yield _listing(folder)
    yield _copying(folder)
    yield from _swapping(folder)


def _listing(folder: Path) -> Figure:
    path = folder / "list.img"
    with create_image(path, 4 * GIB) as blocks:
        format_for("ffs-intl").make(blocks, Making("ffs-intl", "Music"))
        editor = edit(blocks)
        for number in range(200):
            editor.add_folder(f"folder {number}")
            for name in range(100):
                editor.add_file(f"folder {number}/a module number {name}", b"x" * 2000)
        editor.commit()

    def read() -> None:
        forget_cached(path)
        with open_blocks(path) as blocks:
            assert len(open_volume(blocks).tree().entries) == 20_200

    rounds = [seconds(read) for _ in range(5)]
    path.unlink()
    return Figure("list 20,000 files of a 4 GiB FFS", statistics.median(rounds), 2, "s", "caches emptied, median of 5")


def _copying(folder: Path) -> Figure:
    """Five files of 100 MB from this computer onto a 4 GiB FFS volume."""
    files = folder / "files"
    files.mkdir()
    for number in range(5):
        (files / f"take {number}").write_bytes(np.random.default_rng(number).bytes(COPIED // 5))
    image, plain = folder / "ffs.img", folder / "plain.img"

    def forget() -> None:
        for path in files.iterdir():
            forget_cached(path)

    def ours() -> None:
        forget()
        with create_image(image, 4 * GIB) as blocks:
            format_for("ffs-intl").make(blocks, Making("ffs-intl", "Music"))
            perform(PutFiles(0, (str(files),)), blocks, None, Watch())
            blocks.flush()
        image.unlink()

    def loop() -> None:
        forget()
        buffer = bytearray(BLOCK)
        with plain.open("wb", buffering=0) as target:
            for path in sorted(files.iterdir()):
                with path.open("rb", buffering=0) as source:
                    while count := source.readinto(buffer):
                        target.write(memoryview(buffer)[:count])
            os.fsync(target.fileno())
        plain.unlink()

    ratio, detail = paired(ours, loop, rounds=5)
    return Figure("copy 500 MB onto a 4 GiB FFS", ratio, 2, "×", detail)


def _swapping(folder: Path) -> Iterator[Figure]:
    """A drive image of 1 GiB, full of data, written with its bytes swapped."""
    path, image, plain = folder / "drive.img", folder / "swapped.img", folder / "loop.img"
    with create_image(path, GIB) as blocks:
        for step in (NewMap("rdb"), AddPartition("ffs")):
            perform(step, blocks, None, Watch())
        noise = np.random.default_rng(1).bytes(16 * MIB)
        for at in range(32 * MIB, GIB, 16 * MIB):
            blocks.write(at, noise)

    def ours() -> None:
        forget_cached(path)
        with open_blocks(path) as source, create_image(image, GIB) as target:
            write_image(SwappedBlocks(source), target, Watch(), verify=False)
        image.unlink()

    def loop() -> None:
        forget_cached(path)
        buffer = bytearray(BLOCK)
        with path.open("rb", buffering=0) as source, plain.open("wb", buffering=0) as target:
            while count := source.readinto(buffer):
                target.write(memoryview(buffer)[:count])
            os.fsync(target.fileno())
        plain.unlink()

    def in_place() -> None:
        forget_cached(path)
        with open_blocks(path, writable=True) as blocks, journalled(blocks, folder / "state") as journal:
            perform(SwapBytes(), journal, None, Watch())

    for name, work in (("write a 1 GiB image with its bytes swapped", ours),
                       ("swap a 1 GiB image where it is, with a journal", in_place)):
        ratio, detail = paired(work, loop, rounds=5)
        yield Figure(name, ratio, 1.3, "×", detail)
    path.unlink()
