"""The sensible sheet for a source and a target; people correct a plan rather than compose one."""

from __future__ import annotations

from mosscrate.core.contents.layout import Layout
from mosscrate.core.crate import Crate
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.fit import after, grown_length
from mosscrate.core.sheet.losses import what_would_be_lost
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import Eject, GrowPartition, KeepCard, Step, Verify, Which, WriteImage
from mosscrate.core.slots import Medium, Source


def propose(source: Medium, source_layout: Layout, target: Medium, target_layout: Layout,
            crate: Crate) -> JobSheet:
    """Keep both where that is worth it, write, give the new room to the last partition, verify, eject.

    Raises MediumError where one of them cannot be read.
    """
    steps: list[Step] = []
    lost = what_would_be_lost(target, target_layout, crate)
    if any(f.severity == "warning" for f in lost):
        steps.append(KeepCard(Which.TARGET))
    if source.source in (Source.READER, Source.SIMULATED):
        steps.append(KeepCard(Which.SOURCE))
    steps.append(WriteImage())
    grow = _growth(source_layout, target_layout)
    if grow:
        steps.append(grow)
    steps += [Verify(), Eject()]
    return JobSheet(tuple(steps), reference(source), reference(target))


def propose_growth(medium: Medium, layout: Layout, crate: Crate) -> JobSheet:
    """Give a card's unused room to its last partition, in place; keep it first unless it is kept.

    Raises MediumError where it cannot be read.
    """
    steps: list[Step] = []
    if any(f.severity == "warning" for f in what_would_be_lost(medium, layout, crate)):
        steps.append(KeepCard(Which.TARGET))
    last = layout.last()
    if last is not None:
        steps.append(GrowPartition(last.index))
    return JobSheet((*steps, Eject()), None, reference(medium))


def _growth(source: Layout, target: Layout) -> GrowPartition | None:
    try:
        written = after(WriteImage(), source, target)
        last = written.last() if written else None
        if written is None or last is None:
            return None
        length, _ = grown_length(written, last.index, None)
        return GrowPartition(last.index) if last.volume and length > last.volume.size else None
    except FitError:
        return None
