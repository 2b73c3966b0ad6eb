"""What is known of a card on Proof, in which ways it can be proved by writing, and the verdict in a few words."""

from __future__ import annotations

from dataclasses import dataclass

from mosscrate.core.blocks.base import SECTOR
from mosscrate.core.contents import Layout
from mosscrate.core.contents.layout import unknown_layout
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import Soundness, named
from mosscrate.core.proof.size import Verdict
from mosscrate.core.proof.writing import Wear
from mosscrate.core.rescue import Standing
from mosscrate.core.sizes import binary
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel


def layout_to_draw(model: BenchModel, medium: Medium | None) -> Layout | None:
    """As last seen; where not even the map can be read all of it is one piece."""
    layout = model.layout_of(medium)
    if medium is None or layout is not None or medium.key not in model.seen:
        return layout
    return unknown_layout(medium.size, SECTOR, "its map cannot be read")


@dataclass(frozen=True)
class Way:
    """A way in which a card is proved by writing; `button` starts it."""

    name: str
    button: str
    about: str


SIZE = Way("Its size, quickly", "Prove its size",
           "A few marks are written, then more; what stood there is kept aside and put back.")
WRITE = Way("All of it, stretch by stretch", "Write it through",
            "Does it take what is written? Each stretch is written, read, and given its contents again.")
WHOLE = Way("Every block at once", "Prove every block",
            "Nothing can hide from it. All that stands on the card is kept aside on this computer and put back.")
LOSING = Way("Every block, contents lost", "Prove and lose all",
             "Nothing can hide from it, and everything that stands on the card is lost.")
PULL = Way("Its size, with the card pulled", "Leave marks",
           "Only this shows a cache that forgets. Marks stay on it while you take it out and put it in again.")
LOOK = "Look at the marks"
WAYS = (SIZE, PULL, WRITE, WHOLE, LOSING)


@dataclass
class Known:
    """What was found of one card since the window was opened."""

    log: DepthLog | None = None
    is_written: bool = False             # whether the log is of writing
    sound: Soundness | None = None
    verdict: Verdict | None = None
    wear: Wear | None = None
    standing: Standing | None = None
    kept: str = ""                       # what the backup of its rescue lacks
    wants_rescue: bool = False
    is_asked: bool = False               # how far an earlier rescue came

    @property
    def is_good(self) -> bool:
        """Whether nothing was found that speaks against the card."""
        return not (self.verdict is not None and self.verdict.is_false) and all(
            each is None or each.is_sound for each in (self.sound, self.wear))

    def told(self, name: str) -> list[str]:
        """What was found, as whole sentences; while it is rescued, how far that is."""
        if self.standing is not None:
            return [self.kept or holes(self.standing)]
        return [each.sentence(name) for each in (self.verdict, self.wear, self.sound) if each]


def title(medium: Medium, known: Known) -> str:
    """The verdict in as few words as it can be said."""
    if known.standing is not None:
        return "What could be read of it is kept" if known.kept else _rescued(known.standing)
    if known.verdict is not None and known.verdict.is_false:
        real = known.verdict.real
        return f"Holds {binary(real)} of the {binary(medium.size)} that it claims. Keep nothing on it." if real else \
            "It is smaller than it says. Keep nothing on it."
    if known.sound is not None and not known.sound.is_sound:
        return "Not all of it can be read. Keep it now."
    if known.wear is not None and not known.wear.is_sound:
        return "Not all of it takes what is written. Keep it now."
    if known.verdict is not None and known.sound is not None:
        return f"{medium.name} is as large as it says, and every byte can be read"
    if known.wear is not None:
        return f"All of {medium.name} takes and holds what is written"
    if known.verdict is not None:
        return f"{medium.name} is as large as it says"
    if known.sound is not None:
        return f"Every byte of {medium.name} can be read"
    return f"Can {medium.name} be trusted?"


def _rescued(standing: Standing) -> str:
    """How far a rescue is, in as few words as it can be said."""
    if standing.is_whole:
        return "Everything in use on it was read"
    if standing.missing_saves:
        return f"{binary(standing.missing_saves)} of its saves are not rescued"
    return f"No save is missing; {binary(standing.missing)} of the rest is not rescued"


def holes(standing: Standing) -> str:
    """Which files have holes so far."""
    if not standing.hits:
        return "No file lies on a bad place, as far as is known."
    return f"Files with holes so far: {named(standing.hits)}."
