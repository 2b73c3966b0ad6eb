"""Journals for tests: changes of a card in memory that are cut, and taken back by the code that does it for people."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.fingerprint import State
from mosscrate.core.errors import MossError
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.stack import Stack
from mosscrate.core.sheet.running.journal.store import DiskFolder
from mosscrate.core.sheet.running.journal.writing import JournalledBlocks
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.watch import Watch

ROOM = 16 << 20


def stack_of(card: Blocks, state: Path) -> Stack:
    log = Log(state)
    return Stack(log.folder, log, card, State)


def begun(card: Blocks, state: Path, *, room: int = ROOM) -> JournalledBlocks:
    """A card over a journal of a fresh job."""
    stack = stack_of(card, state)
    job = Log(state).create(JobSheet(()), "2026-11-20T08:00:00+00:00", was_blank=False)
    return JournalledBlocks(card, stack.begin(job.id, room=room), 0, State)


def done(over: JournalledBlocks, state: Path) -> None:
    """The job comes to its end."""
    over.end_step(1)
    stack_of(over.inner, state).settle_done(over.journal)


def taken_back(card: Blocks, state: Path) -> None:
    """Whatever the newest job did to a card is undone, after everything was read again from its folder."""
    stack = stack_of(card, state)
    stack.settle()
    job = stack.folder.jobs()[-1]
    journal = stack.admit(job, name="Card")
    assert journal is not None
    stack.take_back(journal, Watch())
    assert not stack.folder.has(job, "journal")


def cut_short(step, card: Blocks, source: Blocks | None, state: Path) -> int:
    """A step over a journal on a card that may be pulled; returns how much the journal took."""
    over = begun(card, state)
    with suppress(MossError):
        perform(step, over, source, Watch())
        done(over, state)
    return Journal.read(DiskFolder(state / "jobs"), over.journal.head.job).end
