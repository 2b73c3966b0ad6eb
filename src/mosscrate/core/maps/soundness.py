"""What is said of a map of any family: whether its partitions have their room, and that a foreign one is sound."""

from __future__ import annotations

from collections.abc import Iterable

from mosscrate.core.findings import Finding, Severity, worst
from mosscrate.core.maps.base import Partition
from mosscrate.core.sizes import exact

WHERE = "partition map"


def faults(partitions: Iterable[Partition], size: int) -> list[Finding]:
    """Partitions that overlap or leave a medium of `size` bytes; those that only hold others are not asked about."""
    found = []
    furthest: Partition | None = None                      # of those before, the one that reaches furthest
    for p in sorted(partitions, key=lambda p: p.start):
        if p.end > size:
            found.append(Finding(Severity.PROBLEM, f"Partition {p.index} ends {exact(p.end - size)} behind the end of "
                                 "the medium.", WHERE, p.index,
                                 "The image may be cut short, or the card smaller than the original."))
        if furthest and p.start < furthest.end:
            found.append(Finding(Severity.PROBLEM, f"Partitions {furthest.index} and {p.index} overlap.", WHERE,
                                 p.index))
        furthest = p if furthest is None or p.end > furthest.end else furthest
    return found


def of_another_family(findings: list[Finding]) -> Finding:
    """That a map the desktop does not know is no broken one; in good order where nothing speaks against it."""
    remedy = "The desktop's offer to format it should be declined."
    if worst(tuple(findings)) in (None, Severity.GOOD, Severity.NOTE):
        return Finding(Severity.GOOD, "This is a drive of another family of machines; its map is in good order.", WHERE,
                       remedy=remedy)
    return Finding(Severity.NOTE, "This is a drive of another family of machines.", WHERE, remedy=remedy)
