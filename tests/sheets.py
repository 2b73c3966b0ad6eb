"""Random sequences of steps on small cards of every kind: what a forecast says, and what a run does.

    ./moss fuzz steps [--count 50000] [--seed 1]

A forecast follows all steps before the first is run. Then they run one after the other, on a view: each has to say
the same sentence, leave the same layout, and refuse where the forecast refused.
"""

from __future__ import annotations

import random
import tempfile
from collections import Counter
from contextlib import ExitStack
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from mosscrate.core.blocks import Blocks, MemoryBlocks, Overlay
from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.contents import Layout, survey
from mosscrate.core.errors import MossError
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import decided
from mosscrate.core.sheet.running.performing import Bare, perform
from mosscrate.core.sheet.sights import Planned, planned
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared import resizing
from mosscrate.core.volumes import KINDS, edit, open_volume
from mosscrate.core.watch import Watch
from tests.cards import MIB, some_files
from tests.core.maps.test_rdb import with_code
from tests.core.sheet.test_steps import put_in
from tests.volumes import ROOM, fresh

ODD = (-511, -1, 1, 7, 511, 513, 4095, 65536, MIB, 3 * MIB)
LABELS = ("", "moss", "PEAT", "Häuser", "a/b", "NAME", "eleven char", "twelve chars", "a label that is too long")
NAMES = ("roms", "roms/gb", "EMPTY", "nowhere", "new place", "new place/sub", "README.TXT", "what? a name", "a" * 40)
WISHES = ("", "fat", "zfs", *(facts.kind for facts in KINDS))
FOLDER = Path(tempfile.gettempdir()) / "mosscrate-tests-put"


class Disagreement(AssertionError):
    """A forecast said something else than what a run did."""


@cache
def bases() -> dict[str, MemoryBlocks]:
    """Small cards of every kind, never to be changed."""
    found = {"blank": MemoryBlocks(bytes(12 * MIB), name="Blank")}
    for map_, parts in (
            ("mbr", (("fat12", 2), ("ext4", 3), ("exfat", 2))), ("gpt", (("fat16", 5), ("ext2", 2), ("ext3", 3))),
            ("rdb", (("ffs-intl", 3), ("ofs", 2), ("ffs-cache", 2))), ("ahdi", (("gemdos", 5), ("gemdos", 5)))):
        found[map_] = _arranged(map_, parts)
    found["logical"] = _arranged("mbr", (("fat12", 2),), s.AddPartition("fat12", 3 * MIB, label="D1", is_logical=True),
                                 s.AddPartition("ext2", 2 * MIB, label="D2", is_logical=True))
    found["chain"] = _arranged("ahdi", (("gemdos", 5),), s.AddPartition("gemdos", 5 * MIB, is_logical=True),
                               s.AddPartition("gemdos", 5 * MIB, is_logical=True))
    with_code(found["rdb"], b"PFS\x03", bytes(492 * 3), (20, 21, 22, 23))
    for kind in ("fat12", "exfat", "ext4", "ext2", "ffs", "ofs-long", "gemdos"):
        bare = fresh(kind, {"fat12": 2 * MIB, "gemdos": 5 * MIB}.get(kind) or max(ROOM.get(kind, 0), 3 * MIB))
        _fill(bare, len(kind))
        room = bytes(2 * MIB if kind.startswith(("fat", "ext", "exf")) else 0)
        found[kind] = MemoryBlocks(bytes(bare.data) + room, name=kind)
    swapped = MemoryBlocks(bytes(found["mbr"].size), name="Swapped")
    SwappedBlocks(swapped).write(0, bytes(found["mbr"].data))
    found["swapped"] = swapped
    return found


def _arranged(map_: str, parts: tuple[tuple[str, int], ...], *more: Step) -> MemoryBlocks:
    card = MemoryBlocks(bytes((20 if map_ == "ahdi" else 16) * MIB), name=map_)
    perform(s.NewMap(map_), card, None, Watch())
    for number, (kind, size) in enumerate(parts):
        perform(s.AddPartition(kind, size * MIB, label=f"P{number}"), card, None, Watch())
    for step in more:
        perform(step, card, None, Watch())
    for look in survey(card).with_contents:
        if look.volume:
            _fill(Bare(card, None).over().window(look.index), look.index)
    return card


def _fill(window: Blocks, seed: int) -> None:
    volume = open_volume(window)
    files = {p: d for p, d in some_files(seed, 8, 3000).items() if not any(volume.why_not(n) for n in p.split("/"))}
    put_in(window, {p: d for p, d in files.items() if "/" not in p or p.rpartition("/")[0] in files})
    if not volume.why_not("README.TXT"):
        editor = edit(window)
        editor.add_file("README.TXT", b"read me")
        editor.commit()


def some_step(layout: Layout, rnd: random.Random) -> Step:
    """A step that somebody may ask for; some cannot be done."""
    indexes = [p.index for p in layout.partitions] or [0]
    index = rnd.choice(indexes) if rnd.random() < 0.95 else 9
    look = next((p for p in layout.partitions if p.index == index), None)
    length = look.partition.length if look else MIB
    size = rnd.choice((None, length + rnd.choice(ODD), length // 2 + rnd.choice(ODD), rnd.randrange(4 * MIB)))
    start = rnd.choice((None, rnd.randrange(layout.size) // 512 * 512, rnd.randrange(16) * MIB))
    kind = rnd.choice(WISHES if rnd.random() < 0.3 else ("fat", "fat12", "ext4", "exfat", "ffs-intl", "gemdos"))
    block = rnd.choice((None, None, None, 512, 1024, 4096, 65536, 7, 0))
    name, label = rnd.choice(NAMES), rnd.choice(LABELS)
    existing = rnd.choice(tuple(s.Existing))
    came = rnd.choice((1, 2, 3, 0, index))
    make = rnd.choice((
        lambda: s.AddPartition(kind, size, start, label, rnd.random() < 0.3, block,
                               rnd.choice((None, 512, 32256, MIB))),
        lambda: s.RemovePartition(index), lambda: s.GrowPartition(index, size), lambda: s.ShrinkPartition(index, size),
        lambda: s.MovePartition(index, start), lambda: s.LabelPartition(index, label),
        lambda: s.FlagPartition(index, rnd.choice(("active", "hidden", "required", "no automount")),
                                rnd.random() < 0.7),
        lambda: s.TypePartition(index, rnd.choice(("0x0c", "0x83", "Linux", "BGM", "0x444f5303", "oops"))),
        lambda: s.TunePartition(index, rnd.choice(("", "DH7", "x/y")), rnd.choice((None, 5, 200))),
        lambda: s.FormatPartition(index, kind, label, block), lambda: s.RebuildPartition(
            index, rnd.choice(("", kind)), block, rnd.choice((None, None, size)), rnd.random() < 0.2),
        lambda: s.CopyPartition(came, rnd.choice(("", "", kind)), rnd.choice((None, None, size))),
        lambda: s.CopyFiles(came, index, rnd.choice(("", name)), rnd.choice(("", name)), existing,
                            rnd.random() < 0.3),
        lambda: s.FillWithDrives(9 * MIB + 511, rnd.choice((11, 40)) * MIB, rnd.choice(("fat12", "fat16")), label),
        lambda: s.NewMap(rnd.choice(("mbr", "gpt", "rdb", "ahdi", "apple")), *rnd.choice(
            ((), (), (16, 63), (4, 17), (300, 63), (8, 0)))), lambda: s.EmptyCard(),
        lambda: s.SwapBytes(), lambda: s.MendMap(), lambda: s.ReplayJournal(index), lambda: s.RebuildBitmap(index),
        lambda: s.BringCode(rnd.choice(("", "0x50465303"))), lambda: s.RemoveCode("0x50465303"),
        lambda: s.PutFiles(index, (str(_put(rnd.choice(("tree", "tree/one.gb", "large")))),), name, existing,
                           rnd.choice(("", "", "x.y")), rnd.random() < 0.3),
        lambda: s.RemoveFiles(index, (name,)), lambda: s.RenameFile(index, name, rnd.choice(NAMES)),
        lambda: s.RegroupFiles(index, (name, rnd.choice(NAMES)), (rnd.choice(NAMES), rnd.choice(NAMES))),
        lambda: s.MakeFolder(index, name), lambda: s.SetTraits(index, name, "a word"),
        lambda: s.WriteImage(swap=rnd.random() < 0.2), lambda: s.WriteFitted()))
    return make()


def _put(what: str) -> Path:
    """Something on this computer."""
    if not (FOLDER / "large").exists():
        (FOLDER / "tree" / "sub").mkdir(parents=True, exist_ok=True)
        for at, size in (("tree/one.gb", 3000), ("tree/TWO.GB", 70_000), ("tree/sub/a: b.sav", 5),
                         ("large", 2_000_000)):
            (FOLDER / at).write_bytes(bytes(size))
    return FOLDER / what


def shape(layout: Layout) -> list[tuple]:
    """What a forecast promises."""
    return [(layout.map_kind, layout.container, layout.size), *(
        (p.index, p.partition.start, p.partition.length, p.partition.type, p.partition.flags, p.partition.label,
         p.volume.kind if p.volume else "", p.volume.variant if p.volume else "", p.volume.label if p.volume else "",
         p.volume.block if p.volume else 0) for p in layout.partitions)]


@dataclass
class Foreseen:
    """One step as it was told before anything was done; `sentence` is "" where it was refused, with the reason."""

    step: Step
    sentence: str
    reason: str
    layout: Layout
    is_sure: bool


def foreseen(steps: list[Step], card: Planned, source: Planned | None) -> list[Foreseen]:
    """All steps, followed through the layouts."""
    found = []
    for step in steps:
        index = getattr(step, "partition", None)
        is_sure = index is None or index in card.bytes
        try:
            made = decided(step, source, card)
        except MossError as error:
            found.append(Foreseen(step, "", str(error), card.layout, is_sure))
            continue
        card = card.after(made, source)
        found.append(Foreseen(step.settled(made), made.sentence, "", card.layout, is_sure))
    return found


def chance(seed: int, longest: int = 4) -> Counter[str]:
    """One sequence. Raises Disagreement."""
    rnd, ended = random.Random(seed), Counter[str]()
    resizing.TRIED_UP_TO = rnd.choice((0, 64 * MIB))       # as it is for large volumes, and for small ones
    names = sorted(bases())
    base, came = bases()[rnd.choice(names)], bases()[rnd.choice(names)] if rnd.random() < 0.5 else None
    with ExitStack() as opened:
        source = planned(survey(came), "the source", came) if came else None
        layout = survey(base)
        card = planned(layout, base.name, base)
        steps, seen = [], []
        for _ in range(rnd.randint(1, longest)):
            steps.append(some_step(layout, rnd))
            seen = foreseen(steps, card, source)
            layout = seen[-1].layout
        view = opened.enter_context(Overlay(base))
        view.name = base.name
        for number, told in enumerate(seen):
            where = f"seed {seed}, step {number + 1} of {steps} on {base.name} from {came.name if came else None}"
            ended[_one(told, view, came, where)] += 1
    return ended


def _one(told: Foreseen, view: Blocks, came: Blocks | None, where: str) -> str:
    shop = Bare(view, came)
    name = f"{type(told.step).__name__} "
    try:
        if told.step.needs_source and shop.source is None:
            raise MossError("no source")
        now = told.step.decide(shop.target, shop.source)
    except MossError as error:
        if told.sentence:
            raise Disagreement(f"{where}: told “{told.sentence}”, refused with “{error}”") from error
        return name + "refused"
    if not told.sentence:
        if told.is_sure:
            raise Disagreement(f"{where}: refused with “{told.reason}”, would do “{now.sentence}”")
        return name + "refused to be safe"
    if now.sentence != told.sentence:
        raise Disagreement(f"{where}: told “{told.sentence}”, does “{now.sentence}”")
    perform(told.step, view, came, Watch())
    after = survey(view)
    if shape(after) != shape(told.layout):
        raise Disagreement(f"{where}: “{told.sentence}” left\n  {shape(after)}\nand not\n  {shape(told.layout)}")
    bad = [p.name for p in after.partitions if p.volume and (p.volume.unsound or p.volume.used is None)]
    if bad:
        raise Disagreement(f"{where}: “{told.sentence}” left {bad} unsound")
    return name + "done"
