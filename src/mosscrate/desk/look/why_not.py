"""Why a card in hand cannot be changed, or read, now: said where the pointer rests on what is not possible."""

from __future__ import annotations

from mosscrate.core.slots import Medium, Source
from mosscrate.desk.bench_model import BenchModel

NOTHING, BUSY, UNREAD = "Nothing is in hand.", "A job works on it now.", "It has not been read yet."
PROTECTED = "It is write-protected: move the switch at its side, or use another reader."


def why_not_read(model: BenchModel, medium: Medium | None) -> str:
    """Why what is on it cannot be used; "" where it can."""
    if medium is None:
        return NOTHING
    if medium.key in model.busy:
        return BUSY
    if model.proof_on(medium):
        return "It is in the middle of a proof: put back first what stood there."
    seen = model.seen.get(medium.key)
    return UNREAD if seen is None else seen.error or "" if seen.layout is not None or seen.error else UNREAD


def why_not_changed(model: BenchModel, medium: Medium | None) -> str:
    """Why nothing on it can be changed; "" where it can."""
    if medium is None or medium.key in model.busy or model.proof_on(medium):
        return why_not_read(model, medium)
    if medium.source == Source.BACKUP:
        return "It is a kept backup, which is never changed."
    if medium.source == Source.IMAGE and medium.is_write_protected:
        return "It can only be read: save it as a file of another kind, or move it onto a card."
    if model.interrupted_on(medium):
        return "It is in the middle of a job: finish that, or take it back, first."
    return PROTECTED if medium.is_write_protected else why_not_read(model, medium)
