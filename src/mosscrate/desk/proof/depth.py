"""From the heights of a core to its log: which depths stand on which line of the picture. No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from mosscrate.core.proof.log import DepthLog, Row
from mosscrate.desk.shared.strata import Stratum, StratumKind

LINE = 3.0                               # pixels that one row of the log covers


@dataclass(frozen=True)
class Line:
    """A row of the log and where it is drawn, in pixels from the top of the column."""

    y: float
    row: Row


def lines(log: DepthLog, placed: Sequence[Stratum]) -> list[Line]:
    """The whole log as the core's own heights have it."""
    found: list[Line] = []
    for stratum in placed:
        if stratum.kind == StratumKind.MAP or stratum.length <= 0:
            continue
        count = max(1, int(stratum.height / LINE))
        edges = stratum.start + np.linspace(0, stratum.length, count + 1).astype(np.int64)
        step = stratum.height / count
        found += [Line(stratum.top + (k + 0.5) * step, row) for k, row in enumerate(log.rows(edges))]
    return found


def depth_at(placed: Sequence[Stratum], y: float) -> int | None:
    """The byte that stands at a height of the column."""
    for stratum in placed:
        if stratum.kind != StratumKind.MAP and stratum.top <= y <= stratum.bottom and stratum.height:
            return stratum.start + int(stratum.length * (y - stratum.top) / stratum.height)
    return None
