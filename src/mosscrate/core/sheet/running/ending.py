"""After the last step, when the card is closed: the system reads its map anew, and the card is let go of."""

from __future__ import annotations

from contextlib import suppress

import msgspec

from mosscrate.core.errors import JobError, MossError
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running.job import Job, Log
from mosscrate.core.sheet.steps import Eject
from mosscrate.core.slots import Medium, Source


def let_go(job: Job, medium: Medium, bench: Bench, log: Log) -> None:
    """Eject a card that is in a reader, where the sheet says so, and note in its step what came of it.

    The job is done whatever comes of it: what could not be done is said, not raised.
    """
    if medium.source != Source.READER:
        return
    at = next((k for k, step in enumerate(job.sheet.steps) if isinstance(step, Eject)), None)
    if at is None:
        bench.shelf.rescan(medium)
        return
    try:
        sentence = bench.shelf.eject(medium)
    except MossError as error:
        sentence = f"Everything is on {medium.name}, but it is not ejected: {error}"
    job.done[at] = msgspec.structs.replace(job.done[at], sentence=sentence)
    with suppress(JobError):
        log.save(job)
