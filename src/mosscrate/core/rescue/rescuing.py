"""The loop of a rescue: the most worth for the time first, until going on is no longer worth it."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum

from mosscrate.core.contents import Layout, survey
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.rescue.areas import Areas, areas_of
from mosscrate.core.rescue.fetching import Fetcher, Rescued, Salvaged
from mosscrate.core.rescue.pieces import Again, Gap, Inside, Piece, Sweep, after
from mosscrate.core.rescue.queue import Queue
from mosscrate.core.sizes import MIB
from mosscrate.core.watch import Watch

FLOOR = 64 << 10                  # worth of an hour, in bytes of files, below which it is asked whether to go on
PATIENCE = 300.0                  # seconds in which everything else is tried without asking
SAVE_EVERY, SAVE_AFTER = 5.0, 64 * MIB
TELL_EVERY = 0.3
ROUNDS = 3                        # tries of one unit in all, where trying again is wanted


class Ending(StrEnum):
    """Why a rescue has ended."""

    DONE = "done"                 # everything that is wanted is had
    TRIED = "tried"               # everything else was tried
    NOT_WORTH_IT = "not worth it"
    OUT_OF_TIME = "out of time"


@dataclass(frozen=True)
class Wishes:
    """How far a rescue goes.

    Attributes:
        with_free: free room is read too.
        again: units that have failed are tried again.
        to_the_end: it goes on below what an hour should be worth.
        seconds: of this sitting, by the card's clock; None for no limit.
    """

    with_free: bool = False
    again: bool = False
    to_the_end: bool = False
    seconds: float | None = None


@dataclass(frozen=True)
class Reached:
    """How far a sitting came.

    Attributes:
        ending: why it ended.
        areas, layout: of the card, as far as its tables could be read.
        hour: what the next hour is worth, in bytes of files.
    """

    ending: Ending
    areas: Areas
    layout: Layout | None
    hour: float


def look(view: Rescued) -> tuple[Areas, Layout | None]:
    """Read map and tables, and divide a card by what is on it. Raises Stopped, CrateError."""
    layout = None
    with suppress(FormatError, MediumError):
        layout = survey(view)
    return areas_of(view, layout, view.lost), layout


def go_on(fetcher: Fetcher, wishes: Wishes, watch: Watch, save: Callable[[], None],
          tell: Callable[[Areas], None] = lambda _areas: None) -> Reached:
    """One sitting. Raises MediumError where the card is gone, Stopped; the state is saved then too.

    Args:
        fetcher: of the card.
        wishes: how far.
        watch: is told how much of what is wanted is had.
        save: syncs the target and writes the state.
        tell: is called now and then once it is known what is on the card.
    """
    state = fetcher.state
    begun = state.spent.seconds
    state.spent.sittings += 1
    try:
        areas, layout = look(Salvaged(fetcher, watch))
        fetcher.must_answer()
        state.classes = areas.digest
        queue = Queue(areas, state, with_free=wishes.with_free, again=ROUNDS if wishes.again else 0)
        wanted = sum(end - start for start, end, _ in areas.stretches(with_free=wishes.with_free))
        saving, telling = _Saving(save, fetcher), _Telling(lambda: tell(areas))
        while (found := queue.best()) is not None:
            piece, gain = found
            hour = gain * 3600
            if hour < FLOOR and not (wishes.to_the_end or isinstance(piece, Again) or queue.seconds() < PATIENCE):
                return Reached(Ending.NOT_WORTH_IT, areas, layout, hour)
            if wishes.seconds is not None and state.spent.seconds - begun >= wishes.seconds:
                return Reached(Ending.OUT_OF_TIME, areas, layout, hour)
            queue.put(_carry_out(piece, fetcher))
            saving.now_and_then()
            telling.now_and_then()
            watch.progress(f"Rescuing {fetcher.card.name}", min(state.learned.bytes, wanted), wanted)
        return Reached(Ending.TRIED if state.bad and any(len(runs) for runs in state.bad) else Ending.DONE,
                       areas, layout, 0.0)
    finally:
        save()


def _carry_out(piece: Piece, fetcher: Fetcher) -> tuple[Piece, ...]:
    """One command of a piece; what is left of it."""
    state = fetcher.state
    command = piece.command(state.unit)
    is_good = fetcher.fetch(command, is_first=isinstance(piece, Sweep))
    reached = after(piece, state.unit, is_good=is_good)
    if isinstance(piece, Gap | Inside):
        state.take_gap(piece)
    if isinstance(piece, Inside):
        state.learned.inside += 1
        state.learned.inside_good += is_good
    for bad in reached.bad:
        fetcher.mark_bad(bad.start, bad.end, piece.tries + 1 if isinstance(piece, Again) else 1)
    left = tuple(state.put_gap(rest) if isinstance(rest, Gap | Inside) else rest for rest in reached.left)
    tried = tuple(Again(bad.start, bad.end, piece.tries + 1) for bad in reached.bad) \
        if isinstance(piece, Again) and piece.tries + 1 < ROUNDS else ()
    return (*left, *tried)


class _Saving:
    """Every few seconds, or after many bytes."""

    def __init__(self, save: Callable[[], None], fetcher: Fetcher) -> None:
        self._save, self._fetcher = save, fetcher
        self._at, self._bytes = time.monotonic(), fetcher.state.learned.bytes

    def now_and_then(self) -> None:
        """Save where it is time."""
        had = self._fetcher.state.learned.bytes
        if time.monotonic() - self._at > SAVE_EVERY or had - self._bytes > SAVE_AFTER:
            self._save()
            self._at, self._bytes = time.monotonic(), had



class _Telling:
    """A few times a second, and at once for the first time."""

    def __init__(self, tell: Callable[[], None]) -> None:
        self._tell, self._at = tell, time.monotonic()
        tell()

    def now_and_then(self) -> None:
        """Tell where it is time."""
        if time.monotonic() - self._at > TELL_EVERY:
            self._tell()
            self._at = time.monotonic()
