"""Reading from a failing card into the file that keeps it, one command at a time, and what is learnt by it."""

from __future__ import annotations

import mmap

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.base import View
from mosscrate.core.blocks.witnesses import HOPELESS, Witnesses
from mosscrate.core.errors import CrateError, MediumError
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.rescue.pieces import LONGEST_COMMAND, SWEEP, Command, Gap, Inside, Sweep, after
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.rescue.state import RescueState
from mosscrate.core.rescue.twins import Twin, twins
from mosscrate.core.watch import Watch


class Fetcher:
    """Carries commands out: what is good goes to the target, what is not into the state.

    Args:
        card: open for reading.
        target: as large, for writing.
        state: what is had so far.
        log: to be drawn meanwhile.
    """

    def __init__(self, card: Blocks, target: Blocks, state: RescueState, log: DepthLog) -> None:
        self.card, self.target, self.state, self.log = card, target, state, log
        self._buffer = memoryview(mmap.mmap(-1, LONGEST_COMMAND))        # aligned, as direct reading wants it
        self._witnesses = Witnesses(card, (start for start, _ in state.have))

    def fetch(self, command: Command, *, is_first: bool) -> bool:
        """Whether a command was good. Raises MediumError where the card is gone, CrateError where it cannot be kept."""
        buffer = self._buffer[:command.length]
        begun = self.card.now()
        try:
            self.card.read_into(command.start, buffer)
        except MediumError as error:
            self.state.met(command.start, command.length, self.card.now() - begun, is_good=False, is_first=is_first)
            self.must_answer(error)
            return False
        seconds = self.card.now() - begun
        try:
            self.target.write(command.start, buffer)
        except MediumError as error:
            raise CrateError(f"What is rescued cannot be kept: {error} What was kept before is not touched.") from error
        self.state.add_have(command.start, command.end)
        self.state.met(command.start, command.length, seconds, is_good=True, is_first=is_first)
        self.log.add(command.start, command.length, seconds)
        self._witnesses.saw(command.start)
        return True

    def mark_bad(self, start: int, end: int, tries: int = 1) -> None:
        """A unit that has failed by itself."""
        self.state.add_bad(start, end, tries)
        self.log.add_bad(start, end - start)

    def must_answer(self, error: MediumError | None = None) -> None:
        """Raises MediumError where not even that can be read which could be before, or nothing ever could."""
        if error is None and not self._witnesses:
            return                                              # nothing was asked for yet that could have failed
        begun = self.card.now()
        is_there = self._witnesses.is_there()
        self.state.spent.seconds += self.card.now() - begun
        if not is_there and not self._witnesses:
            raise MediumError(f"{self.card.name} answers nowhere: {HOPELESS} places of it were tried.") from error
        if not is_there:
            raise MediumError(f"{self.card.name} does not answer any more: what could be read before cannot be "
                              "now.") from error


class Rescued(View):
    """What was read of a card so far; the rest is zeros.

    Attributes:
        lost: bytes that were asked for and are not had.
    """

    def __init__(self, target: Blocks, state: RescueState) -> None:
        super().__init__(target)
        self.state, self.writable, self.name = state, False, state.card.name
        self.lost = Runs()

    def close(self) -> None:
        """The target stays open; it belongs to whoever opened it."""

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        for run in self.state.have.missing(offset, offset + len(buffer)):
            self.lost.add(*run)
        self.inner.read_into(offset, buffer)


class Salvaged(Rescued):
    """A failing card for looking into its tables: what is asked for is fetched first where it is not had yet.

    In a bad place only its two ends are looked for.

    Args:
        fetcher: of the card.
        watch: is asked whether to go on.
    """

    def __init__(self, fetcher: Fetcher, watch: Watch) -> None:
        super().__init__(fetcher.target, fetcher.state)
        self.sector = fetcher.card.sector
        self.fetcher, self.watch = fetcher, watch
        self.twins: tuple[Twin, ...] = ()
        self.twins = tuple(twins(self))

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        unit = self.state.unit
        start = offset // unit * unit
        end = min(self.size, -(-(offset + len(buffer)) // unit) * unit)
        self._have(start, end)
        for twin in self.twins:
            within = max(start, twin.start), min(end, twin.start + twin.length)
            for first, last in list(self.state.have.missing(*within)):
                self._take_from(twin, first, last)
        super()._read_into(offset, buffer)

    def _have(self, start: int, end: int) -> None:
        """Fetch what nobody has touched."""
        for first, last in self.state.touched(start, end).missing(start, end):
            self._fetch(Sweep(first, last, SWEEP, jump=0))

    def _take_from(self, twin: Twin, start: int, end: int) -> None:
        """What cannot be read, from where it stands again."""
        distance, target = twin.other - twin.start, self.fetcher.target
        self._have(start + distance, end + distance)
        for first, last in list(self.state.have.within(start + distance, end + distance)):
            target.write(first - distance, target.read(first, last - first))
            self.state.settle(first - distance, last - distance)

    def _fetch(self, sweep: Sweep) -> None:
        left: list[Sweep | Gap] = [sweep]
        try:
            while left:
                self.watch.check()
                left += self._step(left.pop())
        finally:
            for piece in left:
                if isinstance(piece, Gap):
                    self.state.put_gap(piece)

    def _step(self, piece: Sweep | Gap) -> list[Sweep | Gap]:
        """One command, and what is left of its piece besides what has to wait."""
        state, is_sweep = self.state, isinstance(piece, Sweep)
        is_good = self.fetcher.fetch(piece.command(state.unit), is_first=is_sweep)
        reached = after(piece, state.unit, is_good=is_good)
        for bad in reached.bad:
            self.fetcher.mark_bad(bad.start, bad.end)
        now: list[Sweep | Gap] = []
        for rest in reached.left:
            begun = state.put_gap(rest) if isinstance(rest, Gap | Inside) else rest
            if isinstance(begun, Gap):
                state.take_gap(begun)                      # gone on with at once
            if isinstance(begun, Sweep | Gap):
                now.append(begun)
        return now
