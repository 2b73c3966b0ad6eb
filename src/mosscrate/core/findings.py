"""Anything that was noticed: by a reader, a check, the fit or the guard."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Severity(StrEnum):
    """How much a finding matters, mildest first."""

    GOOD = "good"          # worth saying because people fear the opposite
    NOTE = "note"
    WARNING = "warning"    # something may be lost or not work
    PROBLEM = "problem"    # something is wrong, or will be refused


@dataclass(frozen=True)
class Finding:
    """One plain sentence about one place, and what can be done about it."""

    severity: Severity
    sentence: str
    where: str = ""                 # for the reader: "GAMES", "partition map"
    partition: int | None = None    # 1-based; None concerns the whole medium
    remedy: str = ""

    @property
    def placed(self) -> str:
        """The sentence, behind the name of its volume where it does not speak of it."""
        is_of_volume = self.partition is not None and self.where not in ("", "partition map")
        return f"{self.where}: {self.sentence}" if is_of_volume and self.where not in self.sentence else self.sentence


def worst_first(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Problems in front, then warnings, then the rest in its order."""
    return tuple(sorted(findings, key=lambda f: (f.severity != Severity.PROBLEM, f.severity != Severity.WARNING)))


def worst(findings: tuple[Finding, ...]) -> Severity | None:
    """The most serious severity among the findings, None when there are none."""
    order = list(Severity)
    return max((f.severity for f in findings), key=order.index, default=None)
