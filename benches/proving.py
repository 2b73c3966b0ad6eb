"""What a proof costs: commands and bytes on a large card, a full reading against a plain loop, the log as a picture."""

from __future__ import annotations

import os
import statistics
import tracemalloc
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np

from benches.figure import Figure, paired, seconds
from mosscrate.core.blocks import create_image, open_blocks
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import COMMAND, read_all
from mosscrate.core.proof.size import Journal, prove_size
from mosscrate.core.proof.size.proving import room_for
from mosscrate.core.watch import Watch

MIB, GIB = 1 << 20, 1 << 30
LARGE = 512 * 10**9
READ = 1 << 30


class Counting(View):
    """Counts single commands until the first long one, and bytes from there on."""

    single = bytes_read = bytes_written = 0
    is_running = False

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self._count(len(buffer))
        self.bytes_read += len(buffer) * self.is_running
        super()._read_into(offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        self._count(len(data))
        self.bytes_written += len(data) * self.is_running
        super()._write(offset, data)

    def _count(self, length: int) -> None:
        self.is_running = self.is_running or length > 4096
        self.single += not self.is_running


def figures(folder: Path) -> Iterator[Figure]:
    yield from _size(folder)
    yield _reading(folder)
    yield from _picture()


def _size(folder: Path) -> Iterator[Figure]:
    with create_image(folder / "large.img", LARGE) as image:
        card = Counting(image)
        journal = Journal.begin(folder, "key", "Card", "ABCD", LARGE, room_for(LARGE))
        took = seconds(partial(prove_size, card, journal, Watch()))
        journal.end()
    (folder / "large.img").unlink()
    yield Figure("knock and comb of an honest card of 512 GB, commands", card.single, 4000, "", f"in all {took:.0f} s")
    yield Figure("read by its run", card.bytes_read / GIB, 1.3, "GiB")
    yield Figure("written by its run", card.bytes_written / GIB, 0.8, "GiB")


def _reading(folder: Path) -> Figure:
    path, noise = folder / "read.img", np.random.default_rng(1)
    with create_image(path, READ) as image:
        for at in range(0, READ, 64 * MIB):
            image.write(at, noise.bytes(64 * MIB))
        image.flush()

    def ours() -> None:
        with open_blocks(path) as card:
            read_all(card, None, Watch())

    def plain() -> None:
        buffer = memoryview(bytearray(COMMAND))
        with path.open("rb", buffering=0) as card:
            os.posix_fadvise(card.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            while card.readinto(buffer):
                pass

    ratio, detail = paired(ours, plain)
    path.unlink()
    return Figure("every byte read, against a plain loop", ratio, 1.1, "×", detail)


def _picture() -> Iterator[Figure]:
    log, rnd = DepthLog(10**12), np.random.default_rng(2)
    for at in range(0, 10**12, log.piece):
        log.add(at, MIB, 0.05)
    for at in np.sort(rnd.choice(10**12 // 4096, 4000, replace=False)):
        log.add_bad(int(at) * 4096, 4096)
    edges = np.linspace(0, 10**12, 501).astype(np.int64)
    took = statistics.median(seconds(partial(log.rows, edges)) for _ in range(9))
    yield Figure("the log of 1 TB as 500 rows", took * 1000, 5, "ms")
    tracemalloc.start()
    log.rows(edges)
    DepthLog(10**12)
    yield Figure("memory for that, and for another log", tracemalloc.get_traced_memory()[1] / MIB, 2, "MiB")
    tracemalloc.stop()
