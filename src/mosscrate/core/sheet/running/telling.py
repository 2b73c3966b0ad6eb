"""How a job that did not come to its end is noted and told, whatever the reason was."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from mosscrate.core.errors import JobError, MossError, Stopped
from mosscrate.core.sheet.running.job import Job, Log, Status

log_ = logging.getLogger(__name__)


@contextmanager
def told(job: Job, log: Log, name: str, leave: Callable[[], None] | None = None) -> Iterator[None]:
    """Note how a job ended where it did not come to its end, whatever the reason was, and say it as a sentence."""
    try:
        yield
    except Stopped as stopped:
        _note(job, log, Status.STOPPED, str(stopped), leave)
        if job.is_unfinished:
            job.message = (f"Stopped as you asked, in step {len(job.done) + 1}. {name} is in the middle of a change: "
                           "finish the job or take it back.")
            with suppress(MossError):
                log.save(job)
            raise Stopped(job.message) from stopped
        raise
    except MossError as error:
        _note(job, log, Status.FAILED, str(error), leave)
        raise
    except BaseException as error:
        log_.exception("job %s ended in a way that nobody foresaw", job.id)
        _note(job, log, Status.FAILED, f"{type(error).__name__}: {error}", leave)
        if not isinstance(error, Exception):
            raise
        state = f"{name} is in the middle of a change: finish the job or take it back." if job.is_unfinished else \
            f"{name} was not changed."
        raise JobError(f"Something went wrong inside the program ({type(error).__name__}: {error}). {state} The job is "
                       f"{job.id}; the log has the whole story.") from error


def _note(job: Job, log: Log, status: Status, message: str, leave: Callable[[], None] | None) -> None:
    """As well as the disk of the log allows; where it does not, the journal's slot says what has to be known."""
    if leave is not None:
        with suppress(MossError, OSError):
            leave()
    if job.status != Status.GOING_BACK:
        job.status = status
    job.message = message
    with suppress(MossError, OSError):
        log.save(job)


