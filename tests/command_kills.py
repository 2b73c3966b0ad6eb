"""Commands killed at any of their writes, as processes of their own; then undo and finish, killed as well.

    python -m tests.command_kills SEED COUNT FOLDER [KIND ...]

At last one of them comes to its end: the card is as before, or as after the command that nobody killed.
"""

from __future__ import annotations

import os
import random
import shutil
import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from mosscrate.cli.app import root
from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.volumes.fat.structures import FatType
from tests import oracle
from tests.cards import MIB, lay_out
from tests.core.sheet.test_steps import shape, trees
from tests.processes import bench_in, forked, writes_of

GAMES = {"roms": None, "roms/a.gb": b"game" * 5000, "roms/a.sav": b"save" * 500}
OLD = {"zImage": b"old kernel" * 900, "panel.dtb": b"tree" * 300, "my.cfg": b"volume = 3"}
NEW = {"zImage": b"new kernel" * 1200, "panel.dtb": b"tree" * 310, "more.dtb": b"x" * 99}
KINDS: dict[str, tuple[str, ...]] = {
    "grow": ("sheet", "grow", "CARD", "-p", "1", "--size", "7MiB", "--make-room"),
    "prepare": ("prepare", "CARD", "NEW/roms/b.gb", "--layout", "firmware"),
    "refresh": ("refresh", "RELEASE", "CARD"),
    "lay-over": ("lay-over", "CARD", "NEW", "-p", "2", "--run"),
    "bring": ("sheet", "bring", "RELEASE", "CARD", "-p", "1"),
    "bring under": ("sheet", "bring", "RELEASE", "CARD", "-p", "1", "--under", "gpt"),
    "fill": ("fill", "CARD", "NEW", "-p", "2", "--run"),
    "move": ("sheet", "run", "SHEET"),
}


def card_of(firmware: dict[str, bytes], games: dict[str, bytes | None], size: int) -> bytes:
    blocks = MemoryBlocks(bytes(size))
    lay_out(blocks, [(MIB, 5 * MIB, FatType.FAT16, "PEAT", firmware),
                     (6 * MIB, 6 * MIB, FatType.FAT16, "GAMES", games)])
    return bytes(blocks.data)


@dataclass(frozen=True)
class Place:
    """A folder with a card, what is brought onto it, and a bench of its own."""

    folder: Path

    @classmethod
    def made(cls, folder: Path, kind: str) -> Place:
        (folder / "new/roms").mkdir(parents=True)
        (folder / "new/roms/b.gb").write_bytes(b"other" * 9000)
        (folder / "new/roms/a.gb").write_bytes(b"newer" * 3000)
        (folder / "release.img").write_bytes(card_of(NEW, {"readme.txt": b"new"}, 13 * MIB))
        (folder / "card.img").write_bytes(card_of(OLD, GAMES, 20 * MIB))
        place = cls(folder)
        if "SHEET" in KINDS[kind]:
            _must(forked(lambda: place.said("sheet", "plan", "RELEASE", "CARD", "--out", str(folder / "move.json"))))
        return place

    @property
    def card(self) -> MemoryBlocks:
        return MemoryBlocks((self.folder / "card.img").read_bytes())

    @property
    def tag(self) -> str:
        return bench_in(self.folder).shelf.medium_at(self.folder / "card.img").tag

    def said(self, *words: str) -> str:
        """What became of a command in this process: its exit status, and what it printed where that is not 0."""
        names = {"CARD": "card.img", "RELEASE": "release.img", "NEW": "new", "NEW/roms/b.gb": "new/roms/b.gb",
                 "SHEET": "move.json"}
        args = ["--crate", str(self.folder / "crate"), "--state", str(self.folder / "state")]
        args += [str(self.folder / names[word]) if word in names else word for word in words]
        out = self.folder / "out.txt"
        with out.open("w") as file:
            for number in (1, 2):
                os.dup2(file.fileno(), number)
            try:
                root.main(args, standalone_mode=True)
            except SystemExit as ended:
                sys.stdout.flush()
                sys.stderr.flush()
                return "0" if not ended.code else f"{ended.code}: {out.read_text()}"
        return "0"


@cache
def reference(kind: str, folder: Path) -> tuple[int, Any]:
    """Of a command that nobody kills: its writes, and what it leaves."""
    place = Place.made(folder / f"whole-{kind.replace(' ', '-')}", kind)
    tag = place.tag
    count = int(forked(lambda: writes_of(lambda: _must(place.said(*KINDS[kind], "--tag", tag)))) or 0)
    return count, _state(place.card)


def _must(said: str | None) -> None:
    if said != "0":
        raise AssertionError(said)


def _state(card: MemoryBlocks) -> Any:
    return trees(card), shape(survey(card))


def killed(kind: str, folder: Path, rng: random.Random) -> bool:
    """Kill it, perhaps undo and finish too, and bring it to an end. Returns whether the card was in the middle."""
    count, after = reference(kind, folder.parent)
    place = Place.made(folder, kind)
    before, tag = _state(place.card), place.tag
    raw = bytes(place.card.data)

    def act(*words: str) -> Callable[[], str]:
        return lambda: place.said(*words, "--tag", tag)
    forked(act(*KINDS[kind]), kill_at=rng.randint(1 if rng.random() < 0.3 else count // 2, count))
    was_between = bool(recovering.unfinished(bench_in(folder)))
    for _ in range(rng.randrange(3)):
        job = next(iter(Log(folder / "state").jobs()), None)
        if job is not None and job.is_unfinished:
            what = rng.choice(("undo", "finish"))
            said = forked(act("sheet", what, job.id), kill_at=rng.randint(1, count // 2 + 1))
            if said and "CRASH" in said:
                raise AssertionError(f"{kind}: {what} said {said}")
    job = next(iter(Log(folder / "state").jobs()), None)
    last, said = "", "0"
    if job is not None and job.has_changed and job.status != "taken back":
        last = rng.choice(("undo", "finish")) if job.is_unfinished else "undo"
        said = forked(act("sheet", last, job.id)) or "killed"
    is_done = last == "finish" or (not last and job is not None and job.status == "done")
    left = [j.id for j in recovering.unfinished(bench_in(folder))]
    if said != "0" or left or _state(place.card) != (after if is_done else before):
        raise AssertionError(f"{kind}: after {last or 'nothing'} ({said}; {job and job.status}) the card is not as it "
                             f"says; unfinished {left}")
    if not is_done and (bad := oracle.differing(raw, place.card.data)):
        raise AssertionError(f"{kind}: after {last or 'nothing'} sectors {bad[:5]} are others")
    return was_between


def main() -> None:
    seed, count, folder, kinds = int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3]), sys.argv[4:] or list(KINDS)
    rng, between = random.Random(seed), 0
    for number in range(count):
        place = folder / f"{number}"
        between += killed(kinds[number % len(kinds)], place, rng)
        shutil.rmtree(place)
    print(f"{count} commands, {between} of them killed in the middle of a change")
    if not between:
        raise AssertionError("no kill met a card in the middle of a change")


if __name__ == "__main__":
    main()
