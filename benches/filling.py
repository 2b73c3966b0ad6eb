"""Fill: what is read to know files, planning beside a full card, moving between schemes, and copying small files."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from benches.figure import Figure, seconds
from benches.growing import Counting
from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents.naming import folders_above
from mosscrate.core.fill.bringing import Brought, Role, bring_from_volume, print_of
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.origins import LocalFile, ReadAt
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import Act
from mosscrate.core.fill.plans import shipped
from mosscrate.core.fill.regrouping import regroup
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.sheet.steps.files.regroup import in_turn
from mosscrate.core.volumes import Entry, Kind, Making, Traits, edit, facts_of, format_for, open_volume
from mosscrate.core.watch import Watch
from tests.fill.samples import SAMPLES

MIB = 1 << 20
MANY, THERE, MOVED, SMALL, LOOKED_AT = 50_000, 30_000, 5_000, 8_000, 2_000
SYSTEMS = ("gb", "gbc", "gba", "nes", "md", "sms", "gg", "ngp", "lynx", "a78")
FRONT = 512


def figures(folder: Path) -> Iterator[Figure]:
    yield from _identified()
    yield from _planned()
    yield from _moved()
    yield from _copied()


def _identified() -> Iterator[Figure]:
    """What a card of games is asked for, in pieces and bytes for each file."""
    blocks, rnd = MemoryBlocks(bytearray(900 * MIB)), random.Random(1)
    format_for("fat32").make(blocks, Making("fat32", "GAMES"))
    editor = edit(blocks)
    for code in SYSTEMS:
        editor.add_folder(code)
    for number in range(LOOKED_AT):
        code = SYSTEMS[number % len(SYSTEMS)]
        ending, make = SAMPLES[code]
        editor.add_file(f"{code}/Hill Run {number}.{ending}", make(rnd), Traits(1_700_000_000))
    editor.commit()
    volume = open_volume(blocks)
    asked = list[tuple[int, int]]()
    plain, entries = volume.read_at, volume.tree().entries

    class Counted:
        """The volume, with what it is asked for."""

        def read_at(self, entry: Entry, at: int, count: int) -> bytes:
            asked.append((entry.node, count))
            return plain(entry, at, count)

        def __getattr__(self, name: str) -> object:
            return getattr(volume, name)

    took = seconds(lambda: bring_from_volume("Pipkin", Counted(), 1, Watch()))      # type: ignore[arg-type]
    files = sum(entry.kind == Kind.FILE for entry in entries)
    nodes = [node for node, _ in asked]
    detail = f"{files} files, {files / took:.0f}/s, in order: {nodes == sorted(nodes)}"
    yield Figure("files known by their headers: reads for each", len(asked) / files, 2, "", detail)
    yield Figure("the same: bytes asked for each", sum(count for _, count in asked) / files, 1024, "B")


def _planned() -> Iterator[Figure]:
    """50,000 files onto a card with 30,000, of which half are there in part under the same, in part other names."""
    rnd, plan, facts = random.Random(2), shipped()["long-names-saves-apart"], facts_of("fat32")
    assert facts is not None
    fronts = {number: rnd.randbytes(FRONT) for number in range(MANY)}
    brought = [Brought(PurePosixPath(f"library/{code}/Game {number}.{SAMPLES[code][0]}"),
                       _Front(Path("made up"), front=fronts[number]), code, 32768 << number % 5, 1_700_000_000,
                       Role.GAME, code, "its header", 3, print=print_of(32768 << number % 5, fronts[number]))
               for number in range(MANY) for code in [SYSTEMS[number % len(SYSTEMS)]]]
    there = [Entry(f"{plan.folder_of(brought[k].system)}/{brought[k].path.name if k % 2 else f'Other {k}'}", Kind.FILE,
                   brought[k].size, 1_700_000_000, k) for k in range(THERE)]
    card = OnTheCard(lambda entry, _at, count: fronts[entry.node][:count], lambda _entry: iter(()), 0)
    home = Home(there, facts, 32768, 1 << 40)
    found = []
    took = seconds(lambda: found.append(sort(brought, plan, home, card, gallery=Gallery(Path("made up")))))
    acts = {act: sum(each.act == act for each in found[0].placed) for act in Act}
    yield Figure("50,000 files planned onto a card of 30,000", took, 3, "s",
                 ", ".join(f"{number} {act}" for act, number in acts.items() if number))


@dataclass(frozen=True)
class _Front(LocalFile):
    """A file of which only the front is there."""

    front: bytes = b""

    @contextmanager
    def opened(self) -> Iterator[ReadAt]:
        yield lambda at, count: self.front[at:at + count]


def _moved() -> Iterator[Figure]:
    """5,000 games with saves from one naming scheme to another, on the card itself."""
    now, then = shipped()["short-codes-saves-beside"], shipped()["long-names-saves-apart"]
    for kind in ("fat32", "exfat"):
        blocks = MemoryBlocks(bytearray(400 * MIB))
        format_for(kind).make(blocks, Making(kind, "GAMES", 4096))
        editor = edit(blocks)
        for code in SYSTEMS:
            editor.add_folder(now.folder_of(code))
        for number in range(MOVED):
            code = SYSTEMS[number % len(SYSTEMS)]
            editor.add_file(f"{now.folder_of(code)}/A game of some length {number}.{SAMPLES[code][0]}", b"x")
        editor.commit()
        facts, counting = facts_of(kind), Counting(blocks)
        assert facts is not None

        def move(counting: Counting = counting, facts: object = facts) -> None:
            volume = open_volume(counting)
            wanted = regroup(volume.tree().entries, now, then, facts,                          # type: ignore[arg-type]
                             OnTheCard(volume.read_at, volume.read_file)).moves
            assert len(wanted) == MOVED
            own = edit(counting)
            for folder in sorted(folders_above(wanted.values())):
                own.add_folder(folder)
            for path, place in in_turn(wanted):
                own.rename(path, place)
            own.commit()

        took = seconds(move)
        yield Figure(f"5,000 files moved between schemes, {kind}", took, 2, "s")
        yield Figure("the same: bytes written for each", counting.written_bytes / MOVED, 400, "B")


def _copied() -> Iterator[Figure]:
    """Small files, 512 bytes to 8 KiB, into two folders."""
    rnd = random.Random(4)
    data = [rnd.randbytes(rnd.randrange(512, 8192)) for _ in range(64)]
    for kind in ("fat32", "exfat"):
        blocks = MemoryBlocks(bytearray(2300 * MIB))
        format_for(kind).make(blocks, Making(kind, "GAMES", 32768))

        def copy(blocks: MemoryBlocks = blocks) -> None:
            editor = edit(blocks)
            for name in ("folder 0", "folder 1"):
                editor.add_folder(name)
            for number in range(SMALL):
                editor.add_file(f"folder {number % 2}/A game of some length {number}.gb", data[number % len(data)],
                                Traits(1_700_000_000))
            editor.commit()

        took = seconds(copy)
        yield Figure(f"4,000 small files copied onto {kind}", took * 4_000 / SMALL, 1, "s",
                     f"{SMALL / took:.0f} a second")
