"""The crate in use: room given back, a crate of two million chunks, a backup put back at the speed of a card."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benches.figure import Figure, paired
from benches.growing import Counting
from mosscrate.core.blocks import Blocks, MemoryBlocks, create_image
from mosscrate.core.blocks.base import Buffer
from mosscrate.core.crate import CardRecord, Crate
from mosscrate.core.crate.forgetting import forget, give_back
from mosscrate.core.crate.packing import PackWriter
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.volumes import Making, edit, format_for, open_volume
from mosscrate.core.watch import Watch

MIB = 1 << 20
SIZE, FILES, FILE = 512 * MIB, 320, MIB
BACKUPS, CHANGED = 6, 40                 # backups of one card, and files that are others in each
CHUNKS = 2_000_000
SPEED = 90e6                             # bytes a second that a card takes
RECORD = CardRecord("card", "key", "TAGG", SIZE)


def figures(folder: Path) -> Iterator[Figure]:
    crate, card = Crate(folder / "crate"), _card()
    rnd = np.random.default_rng(1)
    for _ in range(BACKUPS):
        crate.keep(RECORD, card, Watch())
        _change(card, rnd)
    yield from _put_back(folder, crate)
    yield from _forgotten(crate)
    yield from _many_chunks(folder / "many")


def _card() -> MemoryBlocks:
    """A FAT32 volume with files that nobody can pack."""
    card, rnd = MemoryBlocks(bytearray(SIZE)), np.random.default_rng(2)
    format_for("fat32").make(card, Making("fat32", "GAMES"))
    editor = edit(card)
    for number in range(FILES):
        editor.add_file(f"game {number}.bin", rnd.bytes(FILE))
    editor.commit()
    return card


def _change(card: MemoryBlocks, rnd: np.random.Generator) -> None:
    numbers = rnd.choice(FILES, CHANGED, replace=False).tolist()
    editor = edit(card)
    for number in numbers:
        editor.remove(f"game {number}.bin")
    editor.commit()
    editor = edit(card)
    for number in numbers:
        editor.add_file(f"game {number}.bin", rnd.bytes(FILE))
    editor.commit()


def _forgotten(crate: Crate) -> Iterator[Figure]:
    """All but the first and the last backup go."""
    backups = crate.backups_of(RECORD.key)
    for backup in backups[1:-1]:
        forget(backup)
    before = _read_so_far()
    given = give_back(crate.root, Watch())
    read = _read_so_far() - before - given.copied                         # what is written is read back besides
    yield Figure("room given back: read from packs, against what comes free", read / max(1, given.freed), 2, "×",
                 f"{given.freed >> 20} MiB free, {given.copied >> 20} MiB copied")
    first, last = (open_volume(backup.open()) for backup in crate.backups_of(RECORD.key))
    there = {entry.path: b"".join(first.read_file(entry)) for entry in first.tree().entries}
    others = sum(entry.size for entry in last.tree().entries
                 if there.get(entry.path) != b"".join(last.read_file(entry)))
    needed = first.size - first.free + others
    yield Figure("the same: room of the crate that nobody needs", max(0.0, 1 - needed / crate.room()), 0.1, "")


def _read_so_far() -> int:
    """Bytes that this process has read, from wherever (proc(5), io)."""
    lines = Path("/proc/self/io").read_text("ascii").splitlines()
    return int(next(line for line in lines if line.startswith("rchar")).split()[1])


def _many_chunks(crate: Path) -> Iterator[Figure]:
    names = np.random.default_rng(3).integers(0, 256, (CHUNKS, 32), np.uint8)
    writer = PackWriter(crate, verify=False)
    for name in names:
        writer.add(name.tobytes(), 0, b"x", 1)
    writer.finish()
    np.save(crate / "names.npy", names[::7])
    told = subprocess.run([sys.executable, "-c", _LOOK_UP, str(crate)], check=True, capture_output=True, text=True,
                          env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)})
    more, seconds, found = told.stdout.split()
    yield Figure("memory with two million chunks", float(more), 300, "MB", f"looked up {found} in {seconds} s")


_LOOK_UP = """
import sys, time
from pathlib import Path
import numpy as np
from mosscrate.core.images.kept import packs_of
crate = Path(sys.argv[1])
names = np.load(crate / "names.npy")
begun = time.perf_counter()
packs = packs_of(crate)
packs.refresh()
found = int(packs.has(names).sum())
assert found == len(names)
most = next(line for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(int(most.split()[1]) / 1000, round(time.perf_counter() - begun, 2), found)
"""


class _Card(Counting):
    """Takes as long for what is written as a card does."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self._ready = 0.0

    def _write(self, offset: int, data: Buffer) -> None:
        super()._write(offset, data)
        now = time.perf_counter()
        self._ready = max(now, self._ready) + len(data) / SPEED
        time.sleep(max(0.0, self._ready - now))


def _put_back(folder: Path, crate: Crate) -> Iterator[Figure]:
    backup = crate.backups_of(RECORD.key)[-1]
    with backup.open() as kept:
        used = [(e.start, e.length) for e in kept.extents() if not e.is_hole]

    def ours() -> None:
        with create_image(folder / "back.img", SIZE) as image, backup.open() as source:
            source.drop_cache()
            write_image(source, _Card(image), Watch(), verify=False)
        (folder / "back.img").unlink()

    def plain() -> None:
        data = bytes(4 * MIB)
        with create_image(folder / "plain.img", SIZE) as image:
            card = _Card(image)
            for start, length in used:
                for at in range(start, start + length, len(data)):
                    card.write(at, data[:min(len(data), start + length - at)])
            card.flush()
        (folder / "plain.img").unlink()

    ratio, detail = paired(ours, plain, 3)
    yield Figure("a backup put back at 90 MB a second, against writing the same bytes", ratio, 1.2, "×", detail)
