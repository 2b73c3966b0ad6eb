"""Damaged cards by the thousand: a reading or one of our errors, never a hang, a crash or much memory.

    ./moss fuzz [--count 50000] [--seed 1]

Each case damages one structure of one small card (MBR, boot sector, FSInfo, FAT, folder): single
bytes, extreme values in fields, stretches copied over one another. Then everything that reads is run.
"""

from __future__ import annotations

import argparse
import contextlib
import random
import resource
import signal
import sys
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from types import FrameType

from mosscrate.core.blocks import Extent, MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import read_map
from mosscrate.core.sheet.performing import perform
from mosscrate.core.sheet.steps import AddPartition, FillWithDrives, NewMap, Step
from mosscrate.core.volumes import Kind, edit, open_volume
from mosscrate.core.volumes.fat import open_fat
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, lay_out, make_volume, some_files
from tests.volumes import worked_on

SECONDS = 10                      # a case that takes longer counts as a hang
MOST_PIECES = 64                  # a sparse file may honestly be long
MEMORY = 300 * MIB                # more than this above the start counts as too much
EXTREMES = (0, 1, 2, 0x7F, 0x80, 0xFF, 0x7FFF, 0x8000, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFF7, 0xFFFFFFFF)


@dataclass(frozen=True)
class Subject:
    """A sound card and the stretches of it that are worth damaging."""

    name: str
    blocks: MemoryBlocks
    places: tuple[Extent, ...]


class Hang(Exception):
    """A case did not end."""


def subjects() -> list[Subject]:
    """One bare volume of each kind, and cards with an MBR, logical drives and a GPT."""
    sizes = {FatType.FAT12: MIB, FatType.FAT16: 5 * MIB, FatType.FAT32: 34 * MIB}
    found = []
    for type, size in sizes.items():
        blocks = MemoryBlocks(bytes(size))
        make_volume(blocks, type, cluster=512, files=some_files(int(type), 30, 3000))
        found.append(Subject(type.name, blocks, tuple(_places(blocks))))
    for kind in ("exfat", "ext2", "ext3", "ext4", "ofs", "ffs-intl"):
        blocks, _ = worked_on(kind, 3, operations=100, size=4 * MIB if kind[0] == "e" else MIB)
        found.append(Subject(kind, blocks, tuple(_metadata(blocks))))
    drive = _arranged("rdb", AddPartition("ffs", 2 * MIB), AddPartition("ofs"))
    records = [p.record for p in read_map(drive).partitions]
    found += [Subject("rdb", drive, (Extent(0, 256), *(Extent(r, 256) for r in records))),
              Subject("gpt", _arranged("gpt", AddPartition("ext4", 3 * MIB), AddPartition("exfat")),
                      (Extent(0, 512), Extent(512, 92), Extent(1024, 512), Extent(8 * MIB - 512, 92))),
              Subject("drives", _arranged("mbr", FillWithDrives(10 * MIB, 31 * MIB, "fat12")),
                      (Extent(440, 72), Extent(32256, 512), Extent(446, 64)))]
    card = MemoryBlocks(bytes(16 * MIB))
    lay_out(card, [(MIB, 2 * MIB, FatType.FAT12, "PEAT", some_files(1, 10)),
                   (3 * MIB, 8 * MIB, FatType.FAT16, "GAMES", some_files(2, 10))])
    return [*found, Subject("card", card, (Extent(0, 512), Extent(440, 72), Extent(MIB, 512)))]


def damage(subject: Subject, rnd: random.Random) -> list[tuple[int, bytes]]:
    """Damage the card; returns what has to be put back."""
    undo = []
    for _ in range(rnd.choice((1, 1, 2, 3, 8))):
        place = rnd.choice(subject.places)
        at = place.start + rnd.randrange(place.length)
        kind = rnd.random()
        if kind < 0.4:
            data = bytes([rnd.randrange(256)])
        elif kind < 0.75:
            data = rnd.choice(EXTREMES).to_bytes(4, "little")[:rnd.choice((1, 2, 4))]
        else:
            source = rnd.choice(subject.places)
            data = bytes(subject.blocks.data[source.start:source.start + rnd.choice((4, 32, 512))])
        data = data[:subject.blocks.size - at]
        undo.append((at, bytes(subject.blocks.data[at:at + len(data)])))
        subject.blocks.write(at, data)
    return undo


def read_everything(blocks: MemoryBlocks) -> str:
    """Survey with checks, and every file; names the way it ended."""
    layout = survey(blocks, thorough=True)
    ended = "read"
    for look in layout.partitions:
        if look.volume is None or look.volume.used is None:
            ended = "closed"
            continue
        volume = open_partition(blocks, look.index)
        for entry in volume.tree().entries:
            if entry.kind == Kind.FILE:
                try:
                    for _ in islice(volume.read_file(entry), MOST_PIECES):
                        pass
                except MossError:
                    ended = "file refused"
    return "found fault" if ended == "read" and layout.findings else ended


def run(count: int, seed: int) -> Counter[str]:
    """How many cases ended in which way. Raises what must not happen, with the case's number."""
    rnd, ended = random.Random(seed), Counter[str]()
    every = subjects()
    start = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    signal.signal(signal.SIGALRM, _on_alarm)
    for number in range(count):
        subject = every[number % len(every)]
        undo = damage(subject, rnd)
        signal.alarm(SECONDS)
        try:
            ended[read_everything(subject.blocks)] += 1
            _plan_changes(subject.blocks)
        except MossError:
            ended["refused"] += 1
        except Exception as error:
            raise AssertionError(f"case {number} of seed {seed} ({subject.name}): {error!r}") from error
        finally:
            signal.alarm(0)
            for at, data in reversed(undo):
                subject.blocks.write(at, data)
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - start) * 1024
    if more > MEMORY:
        raise AssertionError(f"{more // MIB} MiB more memory than at the start")
    ended["MiB more memory"] = more // MIB
    return ended


def main() -> int:
    """The command."""
    parser = argparse.ArgumentParser(prog="moss fuzz", description=__doc__)
    parser.add_argument("--count", type=int, default=50_000)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    begun = time.monotonic()
    ended = run(options.count, options.seed)
    for name, number in ended.most_common():
        print(f"{number:7}  {name}")
    print(f"{options.count} damaged cards in {time.monotonic() - begun:.0f} s: no crash, no hang")
    return 0


def _plan_changes(blocks: MemoryBlocks) -> None:
    """Planning reads a volume too, and so does opening it for changes; both may refuse."""
    for look in survey(blocks).partitions:
        volume = open_partition(blocks, look.index)
        volume.largest(), volume.smallest()
        with contextlib.suppress(FitError):
            edit(partition_window(blocks, look.partition))


def _arranged(kind: str, *steps: Step) -> MemoryBlocks:
    card = MemoryBlocks(bytes(32 * MIB if kind == "mbr" else 8 * MIB))
    for step in (NewMap(kind), *steps):
        perform(step, card, None, Watch())
    return card


def _metadata(blocks: MemoryBlocks) -> Iterator[Extent]:
    """The head of a volume, and all its folders twice as likely as the rest."""
    volume = open_volume(blocks)
    yield Extent(0, 2048)
    yield Extent(1024, 256)
    yield Extent(2048, 32 * 1024)
    yield Extent(0, 256 * 1024)
    if hasattr(volume, "root"):                                     # OFS and FFS have theirs in the middle
        yield Extent(volume.root * volume.block, 4 * volume.block)
    for entry in volume.tree().entries:
        if entry.kind == Kind.FOLDER:
            with contextlib.suppress(MossError):
                yield from volume.extents_of(entry)


def _places(blocks: MemoryBlocks) -> Iterator[Extent]:
    volume = open_fat(blocks)
    g = volume.geometry
    yield Extent(0, 90)                                             # the BPB, twice as likely as the rest
    yield Extent(0, 512)
    if volume.boot.is_fat32:
        yield Extent(512, 512)
    for copy in range(g.fat_count):
        yield Extent(g.fat_offset(copy), min(2048, g.fat_sectors * g.sector))
    if g.root_entries:
        yield Extent(g.root_start * g.sector, 1024)
    for entry in volume.tree().entries:
        if entry.kind == Kind.FOLDER:
            yield from volume.extents_of(entry)


def _on_alarm(number: int, frame: FrameType | None) -> None:
    raise Hang(f"longer than {SECONDS} s")



if __name__ == "__main__":
    sys.exit(main())
