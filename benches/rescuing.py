"""How quickly a failing card gives what it holds: medians over four cards of 1 GiB, 5 % bad, by their own clocks."""

from __future__ import annotations

import statistics
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from benches.figure import Figure
from mosscrate.core.blocks import open_blocks
from mosscrate.core.errors import MediumError
from mosscrate.core.rescue import Class, Wishes
from mosscrate.core.watch import Progress, Watch
from tests.failing_cards import Trial, failing, lay_out, solid

SEEDS = (1, 2, 3, 4)
NEVER = 72 * 60.0


def figures(folder: Path) -> Iterator[Figure]:
    image = folder / "card.img"
    lay_out(image)
    runs = [_Run(image, folder / str(seed), seed) for seed in SEEDS]
    for name, share, goal in (("saves", 0.95, 2), ("saves", 0.99, 20), ("worth", 0.9, 15)):
        minutes = [run.when.get((name, share), NEVER) for run in runs]
        yield Figure(f"rescue, 5 % bad: {share:.0%} of the {name}", statistics.median(minutes), goal, "min",
                     " ".join(f"{each:.1f}" for each in minutes))
    ratios = [run.reads / run.ideal for run in runs]
    yield Figure("rescue, 5 % bad: commands for 99.9 % of what is readable and in use, against one who knows all bad "
                 "places", statistics.median(ratios), 1.3, "×", " ".join(f"{each:.2f}" for each in ratios))
    lost = [_dies(image, folder / f"dies {seed}", seed) for seed in SEEDS]
    yield Figure("rescue, 5 % bad, dead after half an hour: worth that is lost", statistics.median(lost), 0.15, "",
                 " ".join(f"{each:.3f}" for each in lost))


class _Run:
    """One rescue to its end; `when` a share of something was had first, in minutes."""

    def __init__(self, image: Path, folder: Path, seed: int) -> None:
        folder.mkdir()
        self.when: dict[tuple[str, float], float] = {}
        self.reads = 0
        with open_blocks(image) as room:
            self.trial = Trial.of(failing(room, solid(0.05, seed), seed), folder)
            self.ideal = self.trial.ideal_reads
            self.trial.sit(watch=Watch(self._note))
        self.reads = self.reads or self.trial.state.spent.reads * 10      # never: far beyond every goal

    def _note(self, _progress: Progress) -> None:
        trial, spent = self.trial, self.trial.state.spent
        for name, classes, shares in (("saves", (Class.SAVE,), (0.95, 0.99)), ("worth", (), (0.9,))):
            had = trial.share(*classes)
            for share in shares:
                if had >= share:
                    self.when.setdefault((name, share), spent.seconds / 60)
        if not self.reads and spent.reads % 10 == 0 and trial.readable_used >= 0.999:
            self.reads = spent.reads


def _dies(image: Path, folder: Path, seed: int) -> float:
    folder.mkdir()
    with open_blocks(image) as room:
        trial = Trial.of(failing(room, solid(0.05, seed), seed, dies_at=1800.0), folder)
        with suppress(MediumError):
            trial.sit(Wishes())
        return 1 - trial.share()
