"""Whether the tables of a volume and its files agree: what is asked before anything on it is changed.

Free room is only free when both say so. Everything here works on runs, never on arrays of all blocks, so that it costs
little beside reading the tree.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes.base import Tree

SHOWN = 3
Places = NDArray[np.int64]


@dataclass(frozen=True)
class Soundness:
    """What a quick look found.

    Attributes:
        broken: sentences about what no step mends; files can still be taken out.
        unmarked: bytes that files hold and that are marked as free.
        lost: bytes that are marked as used and that no file holds; harmless.
    """

    broken: tuple[str, ...] = ()
    unmarked: int = 0
    lost: int = 0

    @property
    def because(self) -> str:
        """Why the volume must not be changed; "" where nothing speaks against it."""
        if self.broken:
            more = f" And {len(self.broken) - SHOWN} more of this kind." if len(self.broken) > SHOWN else ""
            return f"{' '.join(self.broken[:SHOWN])}{more} Files can still be taken out; then the volume has to be " \
                "made afresh."
        if self.unmarked:
            return (f"{binary(self.unmarked)} that files hold are marked as free, so that any change would write over "
                    "them. “Rebuild bitmap” mends that (`sheet bitmap` in a shell); it can be taken back.")
        return ""


def must_be_mendable(soundness: Soundness) -> None:
    """Raises FitError where files contradict one another, which no table can set right."""
    if soundness.broken:
        raise FitError(f"This cannot be mended here: {soundness.because}")


@dataclass
class Claims:
    """Runs of blocks or clusters and whose they are. `name` gives the path of an owner."""

    name: Callable[[int], str]
    firsts: list[Places] = field(default_factory=list)
    counts: list[Places] = field(default_factory=list)
    owners: list[Places] = field(default_factory=list)

    def add(self, first: Places | Sequence[int], count: Places | Sequence[int], owner: Places | Sequence[int]) -> None:
        """Runs with their owners, all of one length."""
        self.firsts.append(np.asarray(first, np.int64))
        self.counts.append(np.asarray(count, np.int64))
        self.owners.append(np.asarray(owner, np.int64))

    def merged(self) -> tuple[Places, Places, list[str]]:
        """(first, last + 1) of all that is claimed, in order, joined; and sentences about what is claimed twice."""
        if not self.firsts:
            return np.zeros(0, np.int64), np.zeros(0, np.int64), []
        first, count, owner = (np.concatenate(parts) for parts in (self.firsts, self.counts, self.owners))
        order = np.argsort(first, kind="stable")
        first, last, owner = first[order], (first + count)[order], owner[order]
        reach = np.maximum.accumulate(last)
        twice = np.flatnonzero(first[1:] < reach[:-1]) + 1
        starts = np.flatnonzero(np.append(True, first[1:] > reach[:-1])) if len(first) else np.zeros(0, np.int64)
        ends = reach[np.append(starts[1:], len(first)) - 1] if len(first) else reach
        said = [_crossed(self.name(int(owner[at - 1])), self.name(int(owner[at]))) for at in twice[:SHOWN].tolist()]
        said += [""] * max(0, len(twice) - SHOWN)
        return first[starts], ends, [s or "Others of this kind." for s in said]


def unmarked_in(first: Places, last: Places, used_first: Places, used_last: Places) -> int:
    """How much of the claimed runs does not lie in used ones; both in order, apart from each other."""
    return int((last - first).sum()) - common(first, last, used_first, used_last)


def common(first: Places, last: Places, other_first: Places, other_last: Places) -> int:
    """How much two lists of runs have in common."""
    if not len(first) or not len(other_first):
        return 0

    def below(places: Places) -> Places:
        """How much of the other runs lies below each place."""
        lengths = np.concatenate(([0], np.cumsum(other_last - other_first)))
        at = np.searchsorted(other_first, places, "right")
        inside = np.minimum(places, np.append(other_last, 0)[at - 1]) - np.append(other_first, 0)[at - 1]
        return lengths[np.maximum(at - 1, 0)] + np.where(at > 0, np.maximum(inside, 0), 0)

    return int((below(last) - below(first)).sum())


def unreadable(tree: Tree) -> tuple[str, ...]:
    """Folders that could not be followed: what is in them is claimed by nobody."""
    return tuple(f.sentence for f in tree.findings if f.severity == Severity.PROBLEM)


def contradictions(soundness: Soundness, unit: int) -> tuple[Finding, ...]:
    """What is told of a volume that has not been checked in full; `unit` is its allocation unit in bytes."""
    found = [Finding(Severity.PROBLEM, sentence, remedy="Take the files out before anything else.")
             for sentence in soundness.broken[:SHOWN]]
    if soundness.unmarked:
        found.append(Finding(Severity.PROBLEM, f"{counted(soundness.unmarked // unit, 'allocation unit')} in use are "
                             "marked as free: the next write may overwrite a file.",
                             remedy="“Rebuild bitmap” mends it."))
    return tuple(found)


def _crossed(a: str, b: str) -> str:
    if a == b:
        return f"“{a}” leads into itself."
    return f"“{a}” and “{b}” share room, so at most one of them is whole."
