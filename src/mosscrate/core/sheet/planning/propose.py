"""The sensible sheet for a source and a target; people correct a plan rather than compose one."""

from __future__ import annotations

from contextlib import suppress
from typing import TypeGuard

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.contents.roles import Role
from mosscrate.core.crate import Crate
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet.planning.forecasting import after
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.sights import planned
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps import (
    AnyStep,
    CopyPartition,
    Eject,
    EmptyCard,
    FillWithDrives,
    GrowPartition,
    KeepCard,
    MendMap,
    NewMap,
    RebuildPartition,
    Verify,
    Which,
    WriteFitted,
    WriteImage,
)
from mosscrate.core.sizes import MIB
from mosscrate.core.slots import Medium, Source
from mosscrate.core.volumes import KINDS, is_resized_anew

WORTH_A_DRIVE = 64 * MIB
LEAST_GAIN = 100                       # what a partition gains is worth a step from one in so many on
WORTH_MORE = 1.25                      # times the room that growing in place gives


def propose(source: Medium, source_layout: Layout, target: Medium, target_layout: Layout,
            crate: Crate) -> JobSheet:
    """Keep both where that is worth it, write, give the new room to the last partition, verify, eject.

    Raises MediumError where one of them cannot be read.
    """
    steps: list[AnyStep] = []
    lost = what_would_be_lost(target, target_layout, crate)
    if any(f.severity == "warning" for f in lost):
        steps.append(KeepCard(Which.TARGET))
    if source.source in (Source.READER, Source.SIMULATED):
        steps.append(KeepCard(Which.SOURCE))
    if _is_made_anew(source_layout, target_layout):
        steps += [*([] if target_layout.is_blank else [EmptyCard()]), CopyPartition(0), Verify(), Eject()]
        return JobSheet(tuple(steps), reference(source), reference(target))
    steps.append(_writing(source_layout, target_layout))
    grow, ends = _growth(source_layout, target_layout), (reference(source), reference(target))
    is_asked = grow is not None and not offered(JobSheet((grow,), *ends), source_layout)
    if not is_asked and source_layout.map_kind == MapKind.GPT and source_layout.size != target_layout.size:
        steps.append(MendMap())                       # its second copy belongs to the end of the card
    steps += [grow] if grow else []
    steps += _drives_behind(source_layout, target_layout)
    steps += [Verify(), Eject()]
    return JobSheet(tuple(steps), *ends)


def _is_made_anew(source: Layout, target: Layout) -> bool:
    """Whether a volume without a map has to be made anew to fill a target, on which its root would not be found."""
    volume = source.partitions[0].volume if source.map_kind == MapKind.NONE and source.partitions else None
    return volume is not None and is_resized_anew(volume.kind) and target.size > source.size


def _writing(source: Layout, target: Layout) -> WriteImage | WriteFitted:
    """As it is, or with its last volume shrunk where it is a little too large for the target."""
    try:
        after(WriteImage(), source, target)
    except FitError:
        with suppress(FitError):
            after(WriteFitted(), source, target)
            return WriteFitted()
    return WriteImage()


def propose_arrangement(medium: Medium, layout: Layout, crate: Crate) -> JobSheet:
    """A sheet for changing a card where it is: keep it first unless it is kept. Raises MediumError."""
    keep = any(f.severity == "warning" for f in what_would_be_lost(medium, layout, crate))
    return JobSheet((*((KeepCard(Which.TARGET),) if keep else ()), Eject()), None, reference(medium))


def propose_growth(medium: Medium, layout: Layout, crate: Crate) -> JobSheet:
    """Give a card's unused room to its last partition, in place; keep it first unless it is kept.

    Raises MediumError where it cannot be read.
    """
    steps: list[AnyStep] = []
    if any(f.severity == "warning" for f in what_would_be_lost(medium, layout, crate)):
        steps.append(KeepCard(Which.TARGET))
    last = layout.last()
    if last is not None:
        steps.append(filling(layout, medium.name) or GrowPartition(last.index))
    return JobSheet((*steps, Eject()), None, reference(medium))


def under_another_map(source: Layout, kind: MapKind) -> tuple[AnyStep, ...]:
    """An empty map of a kind, and every partition of a source below it: exactly where its machines know its file
    system, else made anew with its files. Raises FitError where nothing can be brought.
    """
    looks = source.with_contents
    if not looks or kind == MapKind.NONE:
        raise FitError("There is nothing on the source that could be brought under another map.")
    return (NewMap(str(kind)), *(CopyPartition(p.index, kind_under(kind, p)) for p in looks))


def kind_under(map: MapKind, look: PartitionLook) -> str:
    """What a partition has to be made anew as to stand under a map; "" where it can be copied exactly."""
    facts = look.volume.facts if look.volume else None
    if facts is None or look.volume is None or look.volume.used is None:
        return ""                                        # what is not known can only be copied
    return "" if facts.stands_under(map) else usual_kind(map)


def usual_kind(map: MapKind) -> str:
    """What a fresh volume under a map is made as, where nothing else is said."""
    return next((facts.kind for facts in KINDS if facts.is_written and facts.home == map), "fat")


def gives_room(step: Step) -> TypeGuard[GrowPartition | RebuildPartition]:
    """Whether a step gives a partition more room."""
    return isinstance(step, GrowPartition) or (
        isinstance(step, RebuildPartition) and (step.fills or step.size is not None))


def offered(sheet: JobSheet, source: Layout) -> frozenset[int]:
    """Steps of a proposed move that are only done when somebody asks: what was laid out for an old machine, or for an
    instrument, does not grow just because its new card is larger; nor does anything on a card of the same size.
    """
    last = source.last()
    facts = last.volume.facts if last is not None and last.volume is not None else None
    is_clone = sheet.source is not None and sheet.target is not None and sheet.source.size == sheet.target.size
    grows = last is None or last.role in (Role.ROMS, Role.SAVES) or (facts is not None and facts.is_mostly_room)
    return frozenset(k for k, step in enumerate(sheet.steps) if
                     isinstance(step, FillWithDrives) or (gives_room(step) and (is_clone or not grows)))


def _drives_behind(source: Layout, target: Layout) -> list[AnyStep]:
    """Logical drives in the room behind what an old PC starts from, where there is some that it reaches."""
    looks = source.with_contents
    is_of_old_pc = source.map_kind == MapKind.MBR and bool(looks) and any(
        "active" in look.partition.flags for look in looks) and all(
        look.variant in ("fat12", "fat16") for look in looks)
    fill = FillWithDrives()
    if is_of_old_pc and min(fill.until, target.size) - source.size > WORTH_A_DRIVE:
        with suppress(FitError):
            fill.decide(planned(after(WriteImage(), source, target), "the card"))
            return [fill]
    return []


def filling(layout: Layout, name: str) -> AnyStep | None:
    """How the last partition of a layout takes the room behind it; None where nothing can.

    Grown in place, unless its clusters are too small for that: then it is made anew in larger ones.
    """
    last = max(layout.with_contents, key=lambda p: p.partition.end, default=None)
    if last is None:
        return None
    card, grow, rebuild = planned(layout, name), GrowPartition(last.index), RebuildPartition(last.index, fills=True)
    if last.is_unread and last.partition.end < layout.size:
        with suppress(FitError):
            grow.decide(card)
            return grow
    reached = 0
    with suppress(FitError):
        reached = grow.length(card, last)[1]
    facts = last.volume.facts if last.volume else None
    if last.volume is not None and last.volume.used is not None and facts is not None and facts.is_written:
        with suppress(FitError):
            could = rebuild.length(card, last)
            if facts.most is not None and could > max(reached, last.partition.length) * WORTH_MORE:
                rebuild.decide(card)
                return rebuild
    return grow if reached else None


def _growth(source: Layout, target: Layout) -> AnyStep | None:
    """What gives the last partition the room behind it, where that is some hundredth of what it has at least."""
    with suppress(FitError):
        written = after(WriteImage(), source, target)
        step, last = filling(written, "the card"), written.last()
        if step is None or last is None:
            return step
        now = after(step, written, written).last()
        is_some = now is None or (now.partition.length - last.partition.length) * LEAST_GAIN >= last.partition.length
        return step if is_some or last.is_unread else None
    return None
