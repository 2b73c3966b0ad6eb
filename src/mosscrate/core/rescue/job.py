"""A rescue on a bench: begun, gone on with days later, and at the end a backup like any other."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TypeAlias

from mosscrate.core.blocks import Blocks, Extent, FileBlocks, create_image, open_blocks, reopen_image
from mosscrate.core.blocks.streaming import digest
from mosscrate.core.contents import Layout, describe
from mosscrate.core.crate import Backup, BackupRecord
from mosscrate.core.crate import record as records
from mosscrate.core.crate.crate import RESCUE
from mosscrate.core.crate.lacking import kept
from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError, MediumError
from mosscrate.core.proof.job import note
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import Hit, hits
from mosscrate.core.rescue.areas import Areas, Class
from mosscrate.core.rescue.fetching import Fetcher, Rescued
from mosscrate.core.rescue.rescuing import Wishes, go_on, look
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.rescue.state import RescueState
from mosscrate.core.rescue.telling import Standing, holed, standing
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sizes import binary
from mosscrate.core.slots import Medium
from mosscrate.core.slots.locks import lock_image
from mosscrate.core.watch import Watch

STATE, TARGET = RESCUE, ".rescued"
Tell: TypeAlias = Callable[[Standing], None]


def _untold(standing: Standing) -> None:
    """Nobody wants to know meanwhile."""


@dataclass(frozen=True)
class Rescue:
    """One that was begun; `path` of its file."""

    path: Path
    state: RescueState

    @property
    def target(self) -> Path:
        """What was read so far, as large as the card; its last name where only the record beside it is missing."""
        target, last = self.path.with_name(self.state.target), self.path.with_suffix(".img")
        return target if target.exists() or last.with_suffix(".json").exists() else last


def unfinished_rescue(medium: Medium, bench: Bench) -> Rescue | None:
    """The rescue of a card that was begun and not made a backup yet. Raises CrateError where its file is damaged."""
    for path in sorted(bench.crate.root.glob(f"*/*{STATE}")):
        if path.with_suffix(".json").exists():             # it is a backup already, killed before this file went
            with suppress(OSError):
                path.unlink()
            continue
        state = RescueState.load(path)
        if state.card.key == medium.key and state.card.size == medium.size:
            return Rescue(path, state)
    return None


def rescue(medium: Medium, bench: Bench, wishes: Wishes, watch: Watch, log: DepthLog | None = None,
           tell: Tell = _untold) -> Standing:
    """Begin, or go on. What was read stays whatever happens, and so does what was learnt.

    Args:
        medium: the failing card; it is only read.
        bench: whose crate takes what is read.
        wishes: how far it goes.
        watch: is told.
        log: to be drawn meanwhile; bad places from before are put into it.
        tell: is told now and then how far it is.

    Raises:
        MediumError: the card does not answer any more, or is not the one it was.
        CrateError: what is read cannot be kept.
        Stopped: as asked.
    """
    with medium.open_for_job() as card:
        card.read_directly()
        begun = unfinished_rescue(medium, bench) or _begin(medium, bench, card)
        state = begun.state
        with _target(begun) as target:
            fetcher = Fetcher(card, target, state, log or DepthLog(card.size))
            _show_earlier(state, fetcher.log)
            _must_be_the_same(medium, fetcher)
            try:
                reached = go_on(fetcher, wishes, watch, lambda: _save(begun, target),
                                lambda areas: tell(standing(state, areas)))
            except MediumError as error:
                raise MediumError(f"{error} {binary(state.have.total)} of it are read and stay. Let it rest, put it in "
                                  "again, and go on; or keep what there is.", error.offset) from error
            return standing(state, reached.areas, reached, _hits(target, state, reached.layout))


def rescue_and_finish(medium: Medium, bench: Bench, wishes: Wishes, watch: Watch, *, is_last: bool,
                      log: DepthLog | None = None, tell: Tell = _untold) -> tuple[Standing, Backup | None]:
    """Go on, and make a backup of it where nothing is missing, or where it is the last sitting. See `rescue`."""
    told = rescue(medium, bench, wishes, watch, log, tell)
    return told, finish(medium, bench, watch) if is_last or told.is_whole else None


def how_far(medium: Medium, bench: Bench, begun: Rescue) -> Standing:
    """How far an earlier rescue came, from what it has read alone."""
    _target(begun).close()
    areas, layout = _from_target(begun)
    with open_blocks(begun.target) as target:
        return standing(begun.state, areas, None, _hits(target, begun.state, layout))


def finish(medium: Medium, bench: Bench, watch: Watch) -> Backup:
    """Make a backup of what was rescued: its record names what is missing, and in which files.

    Raises CrateError where nothing was begun; MediumError, Stopped: the rescue is as before then.
    """
    begun = unfinished_rescue(medium, bench)
    if begun is None:
        raise CrateError(f"No rescue of {medium.name} was begun, so there is nothing to keep.")
    state, started = begun.state, time.monotonic()
    _target(begun).close()
    areas, layout = _from_target(begun)
    image = begun.path.with_suffix(".img")
    with _target(begun) as target:
        files, whole = holed(target, layout, state.have)
        blake3 = digest(target, target.size, watch, phase="Reading what was rescued")
        target.flush()
    missing, free = _missing(areas, state.have)
    record = BackupRecord(state.card, bench.crate.now().isoformat(timespec="seconds"), image.name, state.card.size,
                          state.have.total, blake3, round(state.spent.seconds + time.monotonic() - started, 3),
                          verified=False, unreadable=missing, layout=describe(layout) if layout else {},
                          not_asked=free, holed=files, whole=whole)
    begun.target.replace(image)
    sync_folder(image.parent)
    records.save(image.with_suffix(".json"), record)
    begun.path.unlink()
    note(medium, bench, "rescue", f"What could be read is kept. {kept(record)}", is_good=record.is_complete)
    return Backup(record, image)


def _begin(medium: Medium, bench: Bench, card: Blocks) -> Rescue:
    record = card_of(medium)
    path = bench.crate.suggest(record)
    path.parent.mkdir(parents=True, exist_ok=True)
    begun = Rescue(path.with_suffix(STATE), RescueState(record, bench.crate.now().isoformat(timespec="seconds"),
                                                        path.with_suffix(TARGET).name, card.sector))
    begun.state.save(begun.path)                           # first: it is known for begun from its first moment
    return begun


def _target(begun: Rescue) -> FileBlocks:
    """What is read goes there. Raises CrateError where it is gone or cut; InUse where somebody is at work on it."""
    try:
        if not begun.target.exists() and not begun.state.have.total:
            create_image(begun.target, begun.state.card.size).close()
        target = reopen_image(begun.target)
    except MediumError as error:
        raise CrateError(f"The rescue {begun.path} cannot be continued, what it has read is gone: {error}") \
            from error
    lock_image(target.fd, f"The rescue {begun.path.name}", writing=True)
    if target.size != begun.state.card.size:
        raise CrateError(f"The rescue {begun.path} cannot be continued: what it has read was cut to "
                         f"{target.size:,} bytes, its card has {begun.state.card.size:,}.")
    return target


def _save(begun: Rescue, target: Blocks) -> None:
    """First what was read, then that it was read. Raises CrateError."""
    try:
        target.flush()
        begun.state.save(begun.path)
    except (MediumError, OSError) as error:
        raise CrateError(f"What is rescued cannot be kept: {error} What was kept before is not touched.") from error


def _must_be_the_same(medium: Medium, fetcher: Fetcher) -> None:
    """Raises MediumError where a place that was read before holds something else now."""
    state = fetcher.state
    for start, end in list(state.have)[:3]:
        length = min(end - start, state.unit)
        before = fetcher.target.read(start, length)
        with suppress(MediumError):
            if fetcher.card.read(start, length) != before:
                raise CrateError(f"{medium.name} is not what it was when its rescue was begun: byte {start:,} differs. "
                                 "Keep what was rescued first; the card was not touched.")


def _show_earlier(state: RescueState, log: DepthLog) -> None:
    for runs in state.bad:
        for start, end in runs:
            log.add_bad(start, end - start)


def _from_target(begun: Rescue) -> tuple[Areas, Layout | None]:
    """What is on a card, by what was read of it."""
    with open_blocks(begun.target) as target:
        return look(Rescued(target, begun.state))


def _hits(target: Blocks, state: RescueState, layout: Layout | None) -> tuple[Hit, ...]:
    """Files on places that have failed."""
    bad = [Extent(start, end - start) for runs in state.bad for start, end in runs]
    return tuple(hits(Rescued(target, state), layout, bad)) if bad and layout is not None else ()


def _missing(areas: Areas, have: Runs) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """What is wanted and not had; free room that was not asked for. As [start, length]."""
    missing, free = Runs(), Runs()
    for start, end, which in areas.stretches(with_free=True):
        for run in have.missing(start, end):
            (free if which == Class.FREE else missing).add(*run)
    return [(s, e - s) for s, e in missing], [(s, e - s) for s, e in free]

