"""Why nothing is planned yet: said where the plan would stand, with what to do."""

from __future__ import annotations

from dataclasses import dataclass

from mosscrate.core.errors import MediumError
from mosscrate.core.slots import Medium, Source
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.reasons import reason_of

RESCUE = "Choose another card, or rescue what is on it on Proof."


@dataclass(frozen=True)
class Waiting:
    """A word or two between the cores, and the sentence instead of the sheet; "" where that says how one begins."""

    hint: str
    sentence: str = ""


def why_unplanned(error: Exception) -> str:
    """What making a plan came to, with what helps where a place of a card cannot be read."""
    is_bad_place = isinstance(error, MediumError) and error.offset is not None
    return f"{error} {RESCUE}" if is_bad_place else str(error)


def why_waiting(model: BenchModel, source: Medium | None, target: Medium | None, failed: str) -> Waiting:
    """What stands in the way of a plan; `failed` is what making it came to."""
    if failed:
        return Waiting("cannot be planned", failed)
    for medium in filter(None, (source, target)):
        seen = model.seen.get(medium.key)
        is_file = medium.source in (Source.IMAGE, Source.BACKUP) and medium.path.exists()
        if not is_file and all(each.key != medium.key for each in model.shelf):
            return Waiting("pulled", f"{medium.name} is not in a reader any more. Put it in again, and the plan goes "
                           "on.")
        if seen is not None and seen.must_ask:
            return Waiting("to be asked for", f"{medium.name} cannot be read before you allow it: choose it on Look, "
                           "and press “Ask to read it”.")
        if seen is not None and seen.error:
            return Waiting("cannot be read", f"{reason_of(seen.error)[0]}. {RESCUE}")
    if target is None:
        return Waiting("choose source and target")
    return Waiting("planning…", "Planning…")
