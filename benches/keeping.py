"""Keeping a card against a plain loop that reads 4 MiB blocks and writes them to the same disk."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np

from benches.figure import Figure, paired
from mosscrate.core.blocks import open_blocks
from mosscrate.core.crate import CardRecord, Crate
from mosscrate.core.watch import Watch

SIZE = 1 << 30
BLOCK = 4 << 20


def figures(folder: Path) -> Iterator[Figure]:
    card = folder / "card.img"
    _make(card, dense=1.0)
    for verify, goal, name in ((True, 1.6, "keep of a dense card, hashed and read back"),
                               (False, 1.15, "keep of a dense card, hashed")):
        ratio, detail = paired(partial(_keep, card, folder, verify=verify), lambda: _plain(card, folder))
        yield Figure(name, ratio, goal, "×", detail)
    _make(card, dense=0.1)
    ratio, detail = paired(lambda: _keep(card, folder, verify=True), lambda: _plain(card, folder))
    yield Figure("keep of a card that is 90 % zeros, read back", ratio, 0.45, "×", detail)
    card.unlink()


def _make(path: Path, *, dense: float) -> None:
    """1 GiB on disk; what is not dense is written zeros, not holes."""
    random = np.random.default_rng(1)
    with path.open("wb") as file:
        for number in range(SIZE // BLOCK):
            is_data = number % 10 < dense * 10
            file.write(random.bytes(BLOCK) if is_data else bytes(BLOCK))
        file.flush()
        os.fsync(file.fileno())


def _forget(path: Path) -> None:
    """Let the next reads come from the disk."""
    with path.open("rb") as file:
        os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


def _plain(card: Path, folder: Path) -> None:
    _forget(card)
    copy, buffer = folder / "plain.img", bytearray(BLOCK)
    with card.open("rb", buffering=0) as source, copy.open("wb", buffering=0) as target:
        while count := source.readinto(buffer):
            target.write(memoryview(buffer)[:count])
        os.fsync(target.fileno())
    copy.unlink()


def _keep(card: Path, folder: Path, *, verify: bool) -> None:
    _forget(card)
    crate = Crate(folder / "crate")
    with open_blocks(card) as blocks:
        crate.keep(CardRecord("card", "key", "TAGG", SIZE), blocks, Watch(), verify=verify)
    shutil.rmtree(crate.root)
