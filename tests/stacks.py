"""Stacks of real jobs on small cards of every kind, filled to the brim, some written to by somebody else in between.

    ./moss fuzz stacks [--count 3000] [--seed 1]

Jobs free room and use it again, one after the other or within one sheet. Taken back in order, each has to leave every
byte as it was that an oracle of its own counts as used. Where somebody else wrote since, undo refuses before its first
byte, or what was written is still there.
"""

from __future__ import annotations

import random
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from mosscrate.core.blocks import Extent, MemoryBlocks
from mosscrate.core.blocks.file import open_blocks
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents import survey
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.crate import Crate
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Job, Log
from mosscrate.core.sheet.running.journal.stack import Stack
from mosscrate.core.sheet.running.journal.writing import JournalledBlocks
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Step
from mosscrate.core.slots import Shelf
from mosscrate.core.volumes import Kind, edit, open_volume
from mosscrate.core.volumes.base import Traits
from mosscrate.core.watch import Watch
from tests import oracle, sheets

FAMILIES = ("mbr", "gpt", "rdb", "ahdi", "logical", "chain", "fat12", "exfat", "ext4", "ext2", "ffs", "ofs-long",
            "gemdos", "swapped")
WHEN = 1_700_000_000


class Broken(AssertionError):
    """A byte that is not as it was said to be."""


def brim_full(name: str, seed: int) -> bytearray:
    """A card whose volumes hold files of noise until almost nothing more fits."""
    card, rnd = MemoryBlocks(bytes(sheets.bases()[name].data)), random.Random(seed)
    layout = survey(card)
    for look in layout.partitions:
        if look.volume is None or look.volume.used is None or not look.volume.kind or rnd.random() < 0.1:
            continue
        window = partition_window(straight(card), look.partition)
        number = 0
        for size in (rnd.randrange(200_000, 900_000), 40_000, 3000):
            with suppress(FitError):
                while number < 60:
                    editor = edit(window)
                    editor.add_file(f"BULK{number}.BIN", rnd.randbytes(size), Traits(WHEN))
                    editor.commit()
                    number += 1
    return card.data


def freeing_or_using(layout, rnd: random.Random, folder: Path) -> Step:
    """A step that gives room free, or one that wants room."""
    indexes = [p.index for p in layout.partitions if p.volume and p.volume.used is not None] or [0]
    index = rnd.choice(indexes)
    big = folder / f"big{rnd.randrange(3)}.bin"
    if not big.exists():
        big.write_bytes(rnd.randbytes(rnd.choice((90_000, 400_000, 1_100_000))))
    return rnd.choice((
        lambda: s.RemoveFiles(index, tuple(f"BULK{n}.BIN" for n in rnd.sample(range(8), rnd.randint(1, 4)))),
        lambda: s.RemoveFiles(index, (f"BULK{rnd.randrange(4)}.BIN",)),
        lambda: s.PutFiles(index, (str(big),), "", rnd.choice(tuple(s.Existing))),
        lambda: s.PutFiles(index, (str(big),), "", s.Existing.REPLACE, rnd.choice(("BULK1.BIN", "NEW.BIN"))),
        lambda: s.FormatPartition(index, rnd.choice(("fat12", "ext2", "ext4", "exfat", "ffs-intl", "gemdos"))),
        lambda: s.RemovePartition(index), lambda: s.MovePartition(index, None), lambda: s.GrowPartition(index, None),
        lambda: s.AddPartition(rnd.choice(("fat12", "ext4", "exfat", "ffs-intl", "gemdos")), None),
        lambda: s.RebuildPartition(index), lambda: s.NewMap(rnd.choice(("mbr", "gpt", "rdb")))))()


def _is_blind(step: Step) -> bool:
    """Whether it leaves what the oracle cannot read: an AHDI or Apple map without partitions, a swapped one."""
    return isinstance(step, s.SwapBytes) or (isinstance(step, s.NewMap) and step.kind in ("ahdi", "apple"))


class History:
    """One card, its jobs, and what it held before each."""

    def __init__(self, seed: int, folder: Path) -> None:
        self.rnd, self.folder, self.seed = random.Random(seed), folder, seed
        self.family = self.rnd.choice(FAMILIES)
        self.path = folder / "card.img"
        self.path.write_bytes(brim_full(self.family, seed))
        self.bench = Bench(Shelf(backups=folder / "crate"), Crate(folder / "crate"), folder / "state")
        self.past: list[tuple[Job, bytes]] = []
        self.ended: Counter[str] = Counter()

    @property
    def where(self) -> str:
        return f"seed {self.seed} on {self.family}: {[j.sheet.steps for j, _ in self.past]}"

    def run(self) -> None:
        """A job of one to three steps, chosen so that most of them can be done."""
        medium = self.bench.shelf.medium_at(self.path)
        before = self.path.read_bytes()
        steps, card = [], sheets.planned(survey(MemoryBlocks(before)), "card", MemoryBlocks(before))
        for _ in range(self.rnd.choice((1, 1, 2, 3, 4))):
            for _ in range(12):
                make = freeing_or_using(card.layout, self.rnd, self.folder) if self.rnd.random() < 0.75 else \
                    sheets.some_step(card.layout, self.rnd)
                if make.needs_source or make.writes_all or _is_blind(make):
                    continue
                with suppress(MossError):
                    made = sheets.decided(make, None, card)
                    card = card.after(made, None)
                    steps.append(make)
                    break
        if not steps:
            return
        try:
            running.run(JobSheet(tuple(steps), None, reference(medium)), self.bench, Watch(), typed_tag=medium.tag)
        except MossError as error:
            self.ended["stopped"] += 1
            jobs = recovering.unfinished(self.bench)
            if not jobs and self.path.read_bytes() != before:
                raise Broken(f"{self.where}, then {steps}: refused ({error}) after it had written") from error
            for job in jobs:
                self._undo(job, before)
            return
        self.ended["done"] += 1
        job = next(iter(Log(self.bench.state).jobs()))
        if job.has_changed and job.id not in [j.id for j, _ in self.past]:
            self.past.append((job, before))

    def undo(self) -> None:
        """The job on top."""
        job, before = self.past.pop()
        self._undo(job, before)

    def _undo(self, job: Job, before: bytes) -> None:
        medium = self.bench.shelf.medium_at(self.path)
        try:
            said = recovering.undo(job, self.bench, Watch(), typed_tag=medium.tag, card=medium)
        except MossError as error:
            raise Broken(f"{self.where}, undo of {job.sheet.steps} refused: {error}") from error
        bad = oracle.differing(before, self.path.read_bytes(), self.past[0][1] if self.past else b"")
        if bad:
            raise Broken(f"{self.where}, undo of {job.sheet.steps} said “{said}”, but sectors {bad[:5]} of {len(bad)} "
                         "are others")
        self.ended["undone"] += 1

    def foreign(self) -> None:
        """Somebody writes to the card; then the top job is asked to go."""
        written = self._write()
        if written is None:
            return
        index, path, data = written
        job, _ = self.past[-1]
        before, medium = self.path.read_bytes(), self.bench.shelf.medium_at(self.path)
        try:
            recovering.undo(job, self.bench, Watch(), typed_tag=medium.tag, card=medium)
        except MossError as error:
            if self.path.read_bytes() != before:
                raise Broken(f"{self.where}: undo was refused ({error}) after it had written") from error
            self.ended["told of another writer"] += 1
            return
        if not self._holds(data):
            raise Broken(f"{self.where}: undo of {job.sheet.steps} took “{path}” of {index} along, which somebody else "
                         "wrote")
        self.ended["the other's file stayed"] += 1

    def _write(self) -> tuple[int, str, bytes] | None:
        """A new file, or new contents of an old one in its place and with its date."""
        with open_blocks(self.path, writable=True) as blocks:
            looks = [p for p in survey(blocks).partitions if p.volume and p.volume.used is not None and p.volume.kind
                     and not p.volume.unsound]
            self.rnd.shuffle(looks)
            for look in looks:
                window = partition_window(straight(blocks), look.partition)
                data = self.rnd.randbytes(5000)
                if self.rnd.random() < 0.5:
                    with suppress(MossError):
                        editor = edit(window)
                        editor.add_file("DEVICE.SAV", data, Traits(WHEN))
                        editor.commit()
                        return look.index, "DEVICE.SAV", data
                volume = open_volume(window)
                files = [e for e in volume.tree().entries if e.kind == Kind.FILE and e.size >= 512]
                for entry in self.rnd.sample(files, min(4, len(files))):
                    pieces = volume.pieces_of(entry)
                    if not len(pieces) or pieces[0][0] or pieces[0][2] < 512:
                        continue
                    window.write(int(pieces[0][1]), data[:512])
                    volume = open_volume(window)
                    entry = next(e for e in volume.tree().entries if e.path == entry.path)
                    return look.index, entry.path, b"".join(volume.read_file(entry))
        return None

    def _holds(self, data: bytes) -> bool:
        """Whether these contents are there still; a name that the job gave goes back to what it was."""
        with open_blocks(self.path) as blocks:
            for look in survey(blocks).partitions:
                if look.volume is None or look.volume.used is None:
                    continue
                volume = open_volume(partition_window(straight(blocks), look.partition))
                for entry in volume.tree().entries:
                    if entry.size == len(data) and b"".join(volume.read_file(entry)) == data:
                        return True
        return False


def chance(seed: int) -> Counter[str]:
    """One history. Raises Broken."""
    memory = Path("/dev/shm")
    with tempfile.TemporaryDirectory(prefix="mosscrate-stack-", dir=memory if memory.is_dir() else None) as folder:
        history = History(seed, Path(folder))
        for _ in range(history.rnd.randint(1, 4)):
            history.run()
            if history.past and history.rnd.random() < 0.15:
                history.undo()
        if history.past and history.rnd.random() < 0.35:
            history.foreign()
        else:
            while history.past:
                history.undo()
        return history.ended


@contextmanager
def without(rule: str) -> Iterator[None]:
    """Break one rule of the code while this lasts."""
    owner, name, broken = _BROKEN[rule]
    kept = getattr(owner, name)
    setattr(owner, name, broken)
    try:
        yield
    finally:
        setattr(owner, name, kept)


def _of_now(self: Stack, job: str) -> Stretches:
    return Stretches.of([Extent(0, self.card.size)])


def _all_forgone(self: JournalledBlocks) -> None:
    self._may_go = Stretches.of([Extent(0, self.size)])


_BROKEN: dict[str, tuple[Any, str, Any]] = {
    "free when the stack began": (Stack, "_let_go_by", _of_now),
    "free when the job began": (JournalledBlocks, "_begin_step", _all_forgone),
}
RULES = tuple(_BROKEN)


def caught(rule: str, *, histories: int = 400) -> str:
    """What shows that a variant is broken; "" where nothing does."""
    with without(rule):
        for seed in range(histories):
            try:
                chance(seed)
            except Broken as error:
                return str(error)
    return ""
