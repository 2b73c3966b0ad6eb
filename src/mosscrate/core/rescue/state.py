"""What a rescue goes on from, days later too: a small file beside the bytes that it has. See docs/formats/rescue.md."""

from __future__ import annotations

from collections import deque
from pathlib import Path

import msgspec
from msgspec.structs import replace

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import CrateError
from mosscrate.core.images.kept.manifest import CardRecord
from mosscrate.core.rescue.pieces import Gap, Inside
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.sizes import MIB

FORMAT = 1
LATEST = 50                       # failing times that the mean is of
LONG = 10.0                       # seconds after which one failure counts as three
WEIGHT = 3                        # of a failure beside a success in its MiB
BESIDE = 2.0                      # of a failure in the MiB before or behind; less by each further one
REACH = 8                         # MiB that a failure is felt in: bad stretches are often as long
OVERALL = 8.0                     # of the whole card beside what was met in a MiB
USUAL_RATE, USUAL_FAILURE = 20e6, 2.0          # bytes a second, seconds; until it is known better


class Learned(msgspec.Struct):
    """How this card answers: its failing times, the share of first touches that were good, its rate."""

    failing: list[float] = []
    first_touches: int = 0
    first_good: int = 0
    inside: int = 0
    inside_good: int = 0
    bytes: int = 0
    seconds: float = 0.0

    @property
    def rate(self) -> float:
        """Bytes a second of what was good."""
        return (self.bytes + USUAL_RATE / 100) / (self.seconds + 0.01)

    @property
    def failure(self) -> float:
        """Seconds that a failing command takes."""
        latest = self.failing
        return (sum(latest) + USUAL_FAILURE) / (len(latest) + 1)

    @property
    def chance(self) -> float:
        """Of a first touch to be good."""
        return (self.first_good + 9) / (self.first_touches + 10)

    @property
    def inside_chance(self) -> float:
        """Of a unit between bad ones to be good."""
        return (self.inside_good + 1) / (self.inside + 4)


class Spent(msgspec.Struct):
    """So far: seconds of the card's clock, commands, failures, and how often it was gone on with."""

    seconds: float = 0.0
    reads: int = 0
    failures: int = 0
    sittings: int = 0


class Heat(msgspec.Struct, frozen=True):
    """What was met in one MiB."""

    mib: int
    good: int
    failed: int


class RescueFile(msgspec.Struct, frozen=True):
    """The file as it stands; runs are [start, length] in bytes, bad ones have the number of tries behind."""

    card: CardRecord
    begun: str
    target: str
    unit: int
    have: list[tuple[int, int]]
    bad: list[tuple[int, int, int]]
    todo: list[Gap | Inside]
    heat: list[Heat]
    learned: Learned
    spent: Spent
    classes: str = ""
    format: int = FORMAT


class RescueState:
    """What is had, bad and begun, and what was learnt of the card."""

    def __init__(self, card: CardRecord, begun: str, target: str, unit: int) -> None:
        self.card, self.begun, self.target, self.unit = card, begun, target, unit
        self.have = Runs()
        self.bad: list[Runs] = []                       # by how often they were tried, once first
        self.gaps: dict[int, Gap | Inside] = {}        # what is begun, by where it starts
        self._begun = Runs()                            # where these lie
        self.heat: dict[int, list[int]] = {}            # MiB: good, failed
        self.learned, self.spent = Learned(), Spent()
        self.classes = ""
        self._latest: deque[float] = deque(maxlen=LATEST)

    def chance(self, start: int, end: int) -> float:
        """Of a command to be good, by what was met in the whole and nearby."""
        first, last = start // MIB, -(-end // MIB)
        good = failed = 0.0
        for mib in range(first - REACH, last + REACH):
            met = self.heat.get(mib)
            if met is None:
                continue
            away = max(first - mib, mib - last + 1, 0)
            good += met[0] if not away else 0
            failed += met[1] * (BESIDE / away if away else WEIGHT)
        return (self.learned.chance * OVERALL + good) / (OVERALL + good + failed)

    def met(self, start: int, length: int, seconds: float, *, is_good: bool, is_first: bool) -> None:
        """A command has ended."""
        heat = self.heat.setdefault(start // MIB, [0, 0])
        self.spent.seconds += seconds
        self.spent.reads += 1
        self.learned.first_touches += is_first
        if is_good:
            heat[0] += 1
            self.learned.first_good += is_first
            self.learned.bytes += length
            self.learned.seconds += seconds
            return
        heat[1] += 3 if seconds > LONG else 1
        self.spent.failures += 1
        self._latest.append(seconds)
        self.learned.failing = list(self._latest)

    def add_bad(self, start: int, end: int, tries: int = 1) -> None:
        """A unit that has failed by itself so many times."""
        while len(self.bad) < tries:
            self.bad.append(Runs())
        for runs in self.bad[:tries]:
            runs.remove(start, end)
        self.bad[tries - 1].add(start, end)

    def add_have(self, start: int, end: int) -> None:
        """Bytes that are in the target."""
        self.have.add(start, end)
        for runs in self.bad:
            runs.remove(start, end)

    def put_gap(self, piece: Gap | Inside) -> Gap | Inside:
        """Something is begun; a gap without a good side is looked into from its middle instead."""
        if isinstance(piece, Gap):
            piece = self._from_a_good_side(piece)
        self.gaps[piece.start] = piece
        self._begun.add(piece.start, piece.end)
        return piece

    def take_gap(self, piece: Gap | Inside) -> None:
        """It is gone on with."""
        del self.gaps[piece.start]
        self._begun.remove(piece.start, piece.end)

    def settle(self, start: int, end: int) -> None:
        """Bytes are had from elsewhere: nothing that is begun there is gone on with."""
        self.add_have(start, end)
        for gap in [gap for gap in self.gaps.values() if gap.start < end and gap.end > start]:
            self.take_gap(gap)
            for first, last in list(self.have.missing(gap.start, gap.end)):
                self.put_gap(Inside(first, last, gap.hits, gap.tries))

    def touched(self, start: int = 0, end: int | None = None) -> Runs:
        """What is had, bad or begun in a stretch."""
        end = self.card.size if end is None else end
        return Runs(run for runs in (self.have, *self.bad, self._begun) for run in runs.within(start, end))

    def _from_a_good_side(self, piece: Gap) -> Gap | Inside:
        """It is gone on with from those of its sides that are not lost themselves."""
        left = piece.is_left_good and not self._is_lost(piece.start - 1)
        right = piece.is_right_good and not self._is_lost(piece.end)
        if not (left or right):
            return Inside(piece.start, piece.end, piece.hits, piece.tries)
        return replace(piece, is_left_good=left, is_right_good=right)

    def _is_lost(self, at: int) -> bool:
        return at in self._begun or any(at in runs for runs in self.bad)

    def save(self, path: Path) -> None:
        """Write the file, whole or not at all; the target is synced before. Raises OSError."""
        whole = RescueFile(
            self.card, self.begun, self.target, self.unit, [(s, e - s) for s, e in self.have],
            [(s, e - s, tries) for tries, runs in enumerate(self.bad, 1) for s, e in runs],
            list(self.gaps.values()), [Heat(mib, *met) for mib, met in sorted(self.heat.items()) if met[1]],
            self.learned, self.spent, self.classes)
        write_whole(path, msgspec.json.encode(whole))

    @classmethod
    def load(cls, path: Path) -> RescueState:
        """Read the file. Raises CrateError."""
        try:
            whole = msgspec.json.decode(path.read_bytes(), type=RescueFile)
        except (OSError, ValueError) as error:
            raise CrateError(f"The rescue {path} cannot be continued: {error}. What it has read is untouched in "
                             "the file beside it.") from error
        if whole.format != FORMAT:
            raise CrateError(f"The rescue {path} is of format {whole.format}; this program knows {FORMAT}.")
        wrong = _wrong_in(whole)
        if wrong:
            raise CrateError(f"The rescue {path} cannot be continued: {wrong}. What it has read is untouched in "
                             "the file beside it.")
        state = cls(whole.card, whole.begun, whole.target, whole.unit)
        for start, length in whole.have:
            state.have.add(start, start + length)
        for start, length, tries in whole.bad:
            state.add_bad(start, start + length, tries)
        for gap in whole.todo:
            state.gaps[gap.start] = gap
            state._begun.add(gap.start, gap.end)
        state.heat = {met.mib: [met.good, met.failed] for met in whole.heat}
        state.learned, state.spent, state.classes = whole.learned, whole.spent, whole.classes
        state._latest.extend(whole.learned.failing)
        return state


def _wrong_in(whole: RescueFile) -> str:
    """The first field that makes no sense, and what was expected; files come from wherever people copy them."""
    size = whole.card.size
    runs = [*whole.have, *((s, n) for s, n, _ in whole.bad), *((g.start, g.end - g.start) for g in whole.todo)]
    if size <= 0 or not 1 <= whole.unit <= MIB:
        return f"“unit” is {whole.unit}, expected bytes of a sector"
    if any(s < 0 or n <= 0 or s + n > size or s % whole.unit for s, n in runs):
        return "a run in it leaves the card, or does not begin with a sector"
    if any(not 1 <= tries <= 255 for _, _, tries in whole.bad):
        return "a number of tries in it is not from 1 to 255"
    if whole.target != Path(whole.target).name or whole.target in ("", ".", ".."):
        return f"“target” is {whole.target!r}, expected the name of a file beside it"
    return ""


