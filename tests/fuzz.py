"""Damaged cards by the thousand: a reading or one of our errors, never a hang, a crash or much memory.

    ./moss fuzz [--count 50000] [--seed 1] [--only rdb]
    ./moss fuzz histories [--count 50000] [--seed 1]      # of cards and their jobs: tests/histories.py
    ./moss fuzz steps [--count 50000] [--seed 1]          # forecasts and runs: tests/sheets.py
    ./moss fuzz stacks [--count 3000] [--seed 1]          # jobs that lie on one another: tests/stacks.py
    ./moss fuzz fill [--count 20000] [--seed 1]           # games and what is theirs: tests/fill/households.py
    ./moss fuzz packs [--count 50000] [--only xz]         # containers, streams, archives: tests/packs_fuzz.py
    ./moss fuzz proof [--count 2000] [--seed 1]           # cards that lie about their size: tests/proof_fuzz.py

Each case damages one structure of one small card (MBR, boot sector, FSInfo, FAT, folder): single
bytes, extreme values in fields, stretches copied over one another, links led to another block of the
same chains with the checksum made right again. Then everything that reads is run.
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

import numpy as np

from mosscrate.core import volumes
from mosscrate.core.blocks import Extent, MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.maps import read_map
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import AddPartition, FillWithDrives, NewMap, Step
from mosscrate.core.volumes import Kind, edit, open_volume
from mosscrate.core.volumes.fat import open_fat
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.volumes.ffs import structures as ffs
from mosscrate.core.volumes.ffs.claiming import chain_of
from mosscrate.core.watch import Watch
from mosscrate.demo.cards import apple_map
from mosscrate.demo.contents import MadeFile
from mosscrate.demo.hfs import TREE, make_hfs
from tests import histories, packs_fuzz, proof_fuzz, sheets, stacks
from tests.cards import MIB, lay_out, make_volume, some_files
from tests.core.maps.test_rdb import with_code
from tests.fill import households
from tests.volumes import WHEN, fresh, worked_on

SECONDS = 10                      # a case that takes longer counts as a hang
MOST_PIECES = 64                  # a sparse file may honestly be long
MEMORY = 300 * MIB                # more than this above the start counts as too much
EXTREMES = (0, 1, 2, 0x7F, 0x80, 0xFF, 0x7FFF, 0x8000, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFF7, 0xFFFFFFFF)


@dataclass(frozen=True)
class Links:
    """Blocks that lead to one another.

    Attributes:
        blocks: byte at which each stands.
        fields: bytes from the start of a block at which a link stands, big-endian.
        values: what a link may say.
        checksum: byte of the long that makes the longs of a block sum to zero; None where there is none.
    """

    blocks: tuple[int, ...]
    fields: tuple[int, ...]
    values: tuple[int, ...]
    checksum: int | None
    length: int = 512


@dataclass(frozen=True)
class Subject:
    """A sound card and the stretches of it that are worth damaging."""

    name: str
    blocks: MemoryBlocks
    places: tuple[Extent, ...]
    links: Links | None = None


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
    for kind in ("exfat", "ext2", "ext3", "ext4"):
        blocks, _ = worked_on(kind, 3, operations=100, size=4 * MIB)
        found.append(Subject(kind, blocks, tuple(_metadata(blocks))))
    for kind in ("ofs", "ffs-intl", "ffs-cache", "ffs-long"):
        found.append(_home(kind))
    blocks = fresh("gemdos", 5 * MIB)
    editor = edit(blocks)
    editor.add_folder("AUTO")
    for number in range(40):
        editor.add_file(f"{'AUTO/' if number % 2 else ''}FILE{number}.PRG", bytes(number * 50))
    editor.commit()
    found.append(Subject("gemdos", blocks, tuple(_places(blocks))))
    found += [_rdb(), _ahdi(), *_hfs(),
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
    if subject.links and rnd.random() < 0.3:
        undo += _relink(subject.blocks, subject.links, rnd)
    for _ in range(rnd.choice((1, 1, 2, 3, 8)) if not undo else 0):
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


def run(count: int, seed: int, only: str = "") -> Counter[str]:
    """How many cases ended in which way. Raises what must not happen, with the case's number."""
    rnd, ended = random.Random(seed), Counter[str]()
    every = [s for s in subjects() if only in ("", s.name)]
    if not every:
        sys.exit(f"There is no card called “{only}”; these are damaged: {', '.join(s.name for s in subjects())}.")
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
    kinds = ("cards", "histories", "steps", "stacks", "fill", "packs", "proof")
    parser.add_argument("what", nargs="?", choices=kinds, default="cards")
    parser.add_argument("--count", type=int, default=50_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="", help="one kind of card, such as ffs-intl, rdb or hfs")
    options = parser.parse_args()
    begun = time.monotonic()
    if options.what == "histories":
        for seed in range(options.seed, options.seed + options.count):
            histories.chance(seed)
        print(f"{histories.exhaustive(2, 3)} states of every history of three acts with up to two crashes")
        print(f"{options.count} histories in {time.monotonic() - begun:.0f} s: no wrong byte, no wrong word")
        return 0
    searches = {"steps": (sheets.chance, "sequences: every forecast and its run agree"),
                "stacks": (stacks.chance, "stacks of jobs: every byte that was in use came back"),
                "fill": (households.chance, "cards that were filled: every household is whole")}
    if options.what in searches:
        chance, word = searches[options.what]
        total = sum((chance(seed) for seed in range(options.seed, options.seed + options.count)), Counter[str]())
        for name, number in sorted(total.items()):
            print(f"{number:7}  {name}")
        print(f"{options.count} {word}, in {time.monotonic() - begun:.0f} s")
        return 0
    if options.what == "proof":
        return proof_fuzz.main(options.seed, options.count)
    kind = packs_fuzz.run if options.what == "packs" else run
    ended = kind(options.count, options.seed, options.only)
    for name, number in ended.most_common():
        print(f"{number:7}  {name}")
    print(f"{options.count} damaged {options.what} in {time.monotonic() - begun:.0f} s: no crash, no hang")
    return 0


def _plan_changes(blocks: MemoryBlocks) -> None:
    """Planning reads a volume too, and so does opening it for changes; both may refuse."""
    for look in survey(blocks).partitions:
        volume = open_partition(blocks, look.index)
        volumes.largest(volume), volumes.smallest(volume)
        with contextlib.suppress(FitError):
            edit(partition_window(blocks, look.partition))


def _arranged(kind: str, *steps: Step) -> MemoryBlocks:
    card = MemoryBlocks(bytes(8 * MIB if kind in ("gpt", "rdb") else 32 * MIB))
    for step in (NewMap(kind), *steps):
        perform(step, card, None, Watch())
    return card


def _relink(blocks: MemoryBlocks, links: Links, rnd: random.Random) -> list[tuple[int, bytes]]:
    """Lead some links elsewhere; returns what has to be put back."""
    undo = []
    for _ in range(rnd.choice((1, 1, 2))):
        base = rnd.choice(links.blocks)
        old = bytes(blocks.data[base:base + links.length])
        new = bytearray(old)
        at = rnd.choice(links.fields)
        new[at:at + 4] = rnd.choice(links.values).to_bytes(4, "big")
        if links.checksum is not None:
            new[links.checksum:links.checksum + 4] = bytes(4)
            total = sum(np.frombuffer(new, ">u4").tolist())
            new[links.checksum:links.checksum + 4] = (-total & 0xFFFFFFFF).to_bytes(4, "big")
        undo.append((base, old))
        blocks.write(base, bytes(new))
    return undo


def _home(kind: str) -> Subject:
    """An OFS or FFS volume whose headers, extensions, caches and bitmap lead to one another."""
    blocks, _ = worked_on(kind, 3, operations=100, size=MIB)
    editor = edit(blocks)
    editor.add_file("long", bytes(512 * 200))
    editor.commit()
    volume = open_volume(blocks)
    numbers = [volume.root, *(e.node for e in volume.tree().entries)]
    for entry in volume.tree().entries:
        if entry.kind == Kind.FILE:
            numbers += volume.data_blocks(entry.node)[1]
    if volume.is_cached:
        folders = [volume.longs(k) for k in numbers if volume.longs(k)[ffs.SEC_TYPE] in (ffs.ST_ROOT, ffs.ST_FOLDER)]
        numbers += [n for folder in folders for n in chain_of(volume, folder)]
    fields = (24, 28, 60, *(512 + 4 * at for at in (ffs.HASH_CHAIN, ffs.PARENT, ffs.EXTENSION, ffs.REAL_ENTRY,
                                                     ffs.BM_EXT, ffs.BM_PAGES, -18)), 16)
    return Subject(kind, blocks, tuple(_metadata(blocks)),
                   Links(tuple(n * 512 for n in numbers), fields, (*numbers, 0, 1, 2047, 2048), 20))


def _rdb() -> Subject:
    """Two partitions and embedded code."""
    drive = _arranged("rdb", AddPartition("ffs", 2 * MIB), AddPartition("ofs"))
    with_code(drive, b"PFS\x03", bytes(492 * 3), (200, 60, 61, 62))
    numbers = (0, *(p.record // 512 for p in read_map(drive).partitions), 200, 60, 61, 62)
    places = tuple(Extent(n * 512, 256) for n in numbers)
    links = Links(tuple(n * 512 for n in numbers), (16, 28, 32, 72), (*numbers, 63), 8, 256)
    return Subject("rdb", drive, places, links)


def _ahdi() -> Subject:
    """Partitions in the root sector and in a chain."""
    drive = _arranged("ahdi", AddPartition("gemdos", 5 * MIB),
                      *(AddPartition("gemdos", 5 * MIB, is_logical=True),) * 3)
    sectors = (0, *(p.record // 512 for p in read_map(drive).partitions if p.record >= 512))
    links = Links(tuple(n * 512 for n in sectors), tuple(0x1C6 + 12 * k + 4 for k in range(4)),
                  (*sectors, *(n - sectors[1] & 0xFFFFFFFF for n in sectors), 2**32 - 1), None)
    return Subject("ahdi", drive, tuple(Extent(n * 512 + 0x156, 168) for n in sectors), links)


def _hfs() -> list[Subject]:
    """The volume bare, and behind an Apple map."""
    files = [MadeFile("Notes", None, WHEN), *(MadeFile(f"Notes/note {k}", bytes(k * 40), WHEN) for k in range(40))]
    bare = MemoryBlocks(bytes(2 * MIB))
    make_hfs(bare, "Tapes", files, WHEN)
    mdb = open_volume(bare).mdb
    catalog = int(mdb["first_block"]) * 512 + TREE * 512
    nodes = tuple(range(1, 20))
    links = Links(tuple(catalog + 512 * n for n in (0, *nodes)), (0, 4, 16, 24, 28), nodes, None)
    places = (Extent(1024, 162), Extent(catalog, 512), *(Extent(catalog + 512 * n, 512) for n in nodes))
    drive = MemoryBlocks(apple_map("Tapes", bare.size) + bytes(bare.data))
    return [Subject("hfs", bare, places, links), Subject("apple", drive, (Extent(0, 16), *(
        Extent(512 * k, 100) for k in (1, 2))), Links((512, 1024), (4, 8, 12), (0, 1, 2, 96, 2**32 - 1), None))]


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
