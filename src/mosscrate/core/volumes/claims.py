"""What it means that the files of a volume and its table of free room disagree: the same words for every kind."""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import binary, counted

KEEP_FIRST, NO_HARM = "Keep the card before anything else.", "The room is lost; no file is harmed."


def disagreements(missing: int, lost: int, noun: str, unit: int, *, mends: tuple[str, str] = (KEEP_FIRST, NO_HARM),
                  ) -> Iterator[Finding]:
    """Findings where there are any.

    Args:
        missing: units that a file holds and that are marked as free.
        lost: units that are marked as used and that no file holds.
        noun: what a unit is called: block, cluster.
        unit: bytes of one.
        mends: what can be done about the missing and about the lost.
    """
    if missing:
        yield Finding(Severity.PROBLEM, f"{counted(missing, noun)} in use are marked as free: the next write may "
                      "overwrite a file.", remedy=mends[0])
    if lost:
        yield Finding(Severity.WARNING, f"{counted(lost, noun)} ({binary(lost * unit)}) are marked as used but belong "
                      "to no file.", remedy=mends[1])
