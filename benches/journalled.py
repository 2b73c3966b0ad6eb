"""A change over a journal, as a run makes it: begun, its step ended, read back and compared."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.fingerprint import State
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.journal.stack import Stack
from mosscrate.core.sheet.running.journal.writing import JournalledBlocks
from mosscrate.core.sheet.sheet import JobSheet

ROOM = 1 << 30


@contextmanager
def journalled(blocks: Blocks, state: Path, *, room: int = ROOM) -> Iterator[JournalledBlocks]:
    """Blocks over the journal of a fresh job in a state folder."""
    log = Log(state)
    stack = Stack(log.folder, log, blocks, State)
    job = log.create(JobSheet(()), "2026-11-20T08:00:00+00:00", was_blank=False)
    journal = stack.begin(job.id, room=room)
    over = JournalledBlocks(blocks, journal, 0, State)
    yield over
    over.end_step(1)
    stack.settle_done(journal)
    log.folder.remove(job.id, "journal")
