"""Keeping a card against a plain loop that reads 4 MiB blocks and writes them to the same disk."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np
from blake3 import blake3

from benches.figure import Figure, paired
from mosscrate.core.blocks import Blocks, open_blocks, reopen_image
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import CardRecord, Crate
from mosscrate.core.volumes import Making, edit, format_for, open_volume
from mosscrate.core.watch import Watch

SIZE = 1 << 30
LARGE = 4 * SIZE                  # smaller, what one keeping costs at least is half of what is measured
BLOCK = 4 << 20
RECORD = CardRecord("card", "key", "TAGG", LARGE)


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
    yield from _a_tenth_used(folder)


def _a_tenth_used(folder: Path) -> Iterator[Figure]:
    """A card with one volume; its free room holds old bytes."""
    card, crate = folder / "used.img", Crate(folder / "used")
    _make(card, dense=1.0, size=LARGE)
    used = _fill(card)
    ratio, detail = paired(lambda: _keep(card, folder, verify=True), lambda: _plain(card, folder))
    yield Figure("keep of a card that is a tenth used, read back", ratio, 0.2, "×", detail)
    with open_blocks(card) as blocks:
        crate.keep(RECORD, blocks, Watch())
    first = crate.room()
    yield Figure("room it takes, of what is in use", first / used, 1.02, "×", f"{first >> 20} MiB")
    yield from _reading(card, crate)
    _change(card)
    ratio, detail = paired(lambda: _again(card, crate), lambda: _read_used(card))
    yield Figure("kept again with 1 % changed, against reading and hashing what is in use", ratio, 1.15, "×", detail)
    rounds = len(crate.backups_of(RECORD.key)) - 1
    lists = sum(b.path.stat().st_size for b in crate.backups_of(RECORD.key)) // (rounds + 1)
    yield Figure("room that the change takes", (crate.room() - first - lists * (rounds - 1)) / used, 0.02, "×")
    card.unlink()


def _reading(card: Path, crate: Crate) -> Iterator[Figure]:
    def tree(blocks: Blocks) -> None:
        with blocks:
            open_partition(blocks, 0).tree()

    def in_order(blocks: Blocks) -> None:
        with blocks:
            volume = open_partition(blocks, 0)
            for entry in volume.tree().entries:
                for _ in volume.read_file(entry):
                    pass

    backup = crate.backups_of(RECORD.key)[-1]
    for name, what, goal in (("the tree of a kept card, against the card itself", tree, 2.0),
                             ("its files in order, against the card itself", in_order, 1.25)):
        def ours(what: Callable[[Blocks], None] = what) -> None:
            for pack in crate.root.rglob("*.pack"):
                _forget(pack)
            what(backup.open())

        def raw(what: Callable[[Blocks], None] = what) -> None:
            _forget(card)
            what(open_blocks(card))
        ratio, detail = paired(ours, raw)
        yield Figure(name, ratio, goal, "×", detail)


def _fill(card: Path) -> int:
    """A FAT32 volume over all of it, a tenth full of 1,600 games; returns bytes in use."""
    rnd = np.random.default_rng(2)
    with reopen_image(card) as blocks:
        format_for("fat32").make(blocks, Making("fat32", "GAMES"))
        editor = edit(blocks)
        for number in range(1600):
            editor.add_file(f"game {number}.bin", rnd.bytes(LARGE // 10 // 1600))
        editor.commit()
        volume = open_volume(blocks)
        return volume.size - volume.free


def _change(card: Path) -> None:
    """One of a hundred of its games is another now."""
    rnd = np.random.default_rng(3)
    with reopen_image(card) as blocks:
        editor = edit(blocks)
        for number in range(16):
            editor.remove(f"game {number}.bin")
        editor.commit()
        editor = edit(blocks)
        for number in range(16):
            editor.add_file(f"game {number}.bin", rnd.bytes(LARGE // 10 // 1600))
        editor.commit()


def _again(card: Path, crate: Crate) -> None:
    _forget(card)
    with open_blocks(card) as blocks:
        crate.keep(RECORD, blocks, Watch())


def _read_used(card: Path) -> None:
    _forget(card)
    hasher, buffer = blake3(), memoryview(bytearray(BLOCK))
    with open_blocks(card) as blocks:
        for extent in open_volume(blocks).used_extents():
            for at in range(extent.start, extent.end, BLOCK):
                part = buffer[:min(BLOCK, extent.end - at)]
                blocks.read_into(at, part)
                hasher.update(part)


def _make(path: Path, *, dense: float, size: int = SIZE) -> None:
    """On disk; what is not dense is written zeros, not holes."""
    random = np.random.default_rng(1)
    with path.open("wb") as file:
        for number in range(size // BLOCK):
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
        crate.keep(RECORD, blocks, Watch(), verify=verify)
    shutil.rmtree(crate.root)
