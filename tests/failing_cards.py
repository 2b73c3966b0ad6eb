"""A card of 1 GiB that is failing: firmware, games and saves on it, bad clusters all over, seconds for each failure."""

from __future__ import annotations

import random
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mosscrate.core.blocks import Blocks, Window, create_image, open_blocks, reopen_image
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks, Slow, Speed
from mosscrate.core.contents import survey
from mosscrate.core.crate import CardRecord
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.rescue.areas import WORTH, Areas, Class, areas_of
from mosscrate.core.rescue.fetching import Fetcher
from mosscrate.core.rescue.rescuing import Reached, Wishes, go_on
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.rescue.state import RescueState
from mosscrate.core.volumes import Making, edit, format_for
from mosscrate.core.watch import Watch

MIB = 1 << 20
SIZE = 1 << 30
WISHES, UNWATCHED = Wishes(), Watch()


def lay_out(path: Path, size: int = SIZE, seed: int = 1) -> None:
    """More than half full: 2,000 games, 700 saves, half of them among the games; each begins with bytes of its own."""
    rnd = random.Random(seed)
    games = int(2000 * size / SIZE)
    with create_image(path, size) as card:
        map_ = edits.new_map(MapKind.MBR, size, 512)
        map_, _ = edits.added(map_, size, start=MIB, length=size - MIB, kind="fat32")
        write_map(card, map_)
        volume = Window(card, MIB, size - MIB)
        format_for("fat32").make(volume, Making("fat32", "GAMES", block=8 << 10 if size == SIZE else 512))
        editor = edit(volume)
        for system in ("gb", "md", "sms", "saves"):
            editor.add_folder(system)
        for number in range(games):
            length = rnd.choice((32, 64, 256, 512, 512)) << 10
            editor.add_file(f"{rnd.choice(('gb', 'md', 'sms'))}/game {number}.bin", rnd.randbytes(4096), size=length)
            if number % 6 == 0:
                editor.add_file(f"saves/game {number}.srm", rnd.randbytes(rnd.choice((8, 32, 64)) << 10))
            if number % 40 == 0:
                editor.add_file(f"saves/game {number}.cfg", rnd.randbytes(900))
        for number in range(0, games, 6):
            editor.add_file(f"saves/game {number + 1}.srm", rnd.randbytes(rnd.choice((8, 32, 64)) << 10))
        editor.commit()


def solid(share: float, seed: int, size: int = SIZE) -> tuple[Bad, ...]:
    """A share of a card bad, in solid stretches of 64 KiB to 8 MiB; the head and the tables are spared."""
    rnd, found, left = random.Random(seed), [], int(size * share)
    while left > 0:
        length = min(left, int(2 ** rnd.uniform(16, 23)) // 4096 * 4096) or 4096
        found.append(Bad(rnd.randrange(6 * MIB, size - 8 * MIB) // 4096 * 4096, length, seconds=rnd.uniform(1, 30)))
        left -= length
    return tuple(found)


def failing(room: Blocks, bad: tuple[Bad, ...], seed: int = 1, **more: Any) -> FaultyBlocks:
    """A card with six slow areas at an ordinary speed."""
    rnd = random.Random(seed)
    slow = tuple(Slow(rnd.randrange(room.size), 8 * MIB, 8.0) for _ in range(6))
    return FaultyBlocks(room, Faults(bad=bad, slow=slow, speed=Speed(18e6, 8e6), seed=seed, **more))


@dataclass
class Trial:
    """A rescue of a failing card, measured by what is really there."""

    card: FaultyBlocks
    folder: Path
    truth: Areas
    state: RescueState

    @classmethod
    def of(cls, card: FaultyBlocks, folder: Path) -> Trial:
        """Of a card, into a folder."""
        truth = areas_of(card.inner, survey(card.inner), Runs())
        state = RescueState(CardRecord("Pipkin", "k", "TAGX", card.size), "2026-11-26T09:00:00+00:00", "x", 512)
        create_image(folder / "target", card.size).close()
        return cls(card, folder, truth, state)

    def sit(self, wishes: Wishes = WISHES, watch: Watch = UNWATCHED) -> Reached:
        """Go on, from what is in the file if that was written."""
        path = self.folder / "state.json"
        if path.exists():
            self.state = RescueState.load(path)
        with reopen_image(self.folder / "target") as target:
            fetcher = Fetcher(self.card, target, self.state, DepthLog(self.card.size))
            return go_on(fetcher, wishes, watch, lambda: self.state.save(path))

    @property
    def bad(self) -> Runs:
        """What cannot be read at all."""
        return Runs((b.start, b.start + b.length) for b in self.card.faults.bad if not b.comes_back)

    def share(self, *classes: Class) -> float:
        """Of the readable bytes of some classes, by how much they are worth."""
        lost, had, all_ = self.truth.shares(self.bad), self.truth.shares(self.state.have), self.truth.shares(Runs())
        mine = [c for c in classes or tuple(all_) if c in all_]
        return float(sum(WORTH[c] * had[c][0] for c in mine) / sum(WORTH[c] * (all_[c][1] - lost[c][0]) for c in mine))

    @property
    def readable_used(self) -> float:
        """Share of the bytes in use that can be read."""
        lost, had, all_ = self.truth.shares(self.bad), self.truth.shares(self.state.have), self.truth.shares(Runs())
        mine = [c for c in all_ if c != Class.FREE]
        return sum(had[c][0] for c in mine) / sum(all_[c][1] - lost[c][0] for c in mine)

    @property
    def ideal_reads(self) -> int:
        """Commands of one who knows every bad place beforehand."""
        bad, piece = self.bad, {Class.FILE: MIB}
        return sum(-(-(end - start) // piece.get(which, MIB // 4))
                   for first, last, which in self.truth.stretches(with_free=False)
                   for start, end in bad.missing(first, last))

    def is_true(self) -> bool:
        """Whether everything that is had is what the card holds."""
        with open_blocks(self.folder / "target") as target:
            return all(target.read(s + at, min(MIB, e - s - at)) == self.card.inner.read(s + at, min(MIB, e - s - at))
                       for s, e in self.state.have for at in range(0, e - s, MIB))

