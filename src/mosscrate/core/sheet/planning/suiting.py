"""What a proposed move does otherwise, so that the machine the card is meant for can read it at all."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

import msgspec

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.contents.straight import SWAPPED
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.machines import Machine, boot_partition, largest_in
from mosscrate.core.maps import MapKind, written_kinds
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.propose import kind_under, under_another_map
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import (
    AnyStep,
    CopyPartition,
    Eject,
    FlagPartition,
    GrowPartition,
    KeepCard,
    NewMap,
    WriteImage,
)
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import facts_of, kind_for


@dataclass(frozen=True)
class Suited:
    """A sheet, and why it is not the usual one; no findings where it is."""

    sheet: JobSheet
    findings: tuple[Finding, ...] = ()


def suited(sheet: JobSheet, source: Layout, target: Layout, machine: Machine) -> Suited:
    """A sheet that writes all of a source, changed where the machine would not know its map, the order of its bytes or
    the size to which its last partition would grow.

    It stays as it is where the change does not fit the target, and where no volume of the source is known: what has
    neither a map nor a file system may be exactly right for its machine.
    """
    if source.map_kind in machine.maps:
        return within_reach(_turned_round(sheet, source, machine), source, target, machine)
    if not any(look.volume for look in source.with_contents):
        return Suited(sheet)
    kind = next((MapKind(word) for word in machine.maps if word in written_kinds()), None)
    with suppress(FitError):
        steps = _under(source, kind, machine) if kind else ()
        kept = tuple(step for step in sheet.steps if isinstance(step, KeepCard))
        changed = msgspec.structs.replace(sheet, steps=(*kept, *steps, Eject()))
        if steps and not forecast(changed, source, target).problems:
            return Suited(changed, (Finding(
                Severity.NOTE, f"A {machine.name} does not know the source’s map: its partitions come under one that "
                "it knows.", "partition map", remedy="Meant for any machine, all of it is written as it is."),))
    return Suited(sheet)


def within_reach(made: Suited, source: Layout, target: Layout, machine: Machine) -> Suited:
    """The sheet with a growing partition that stops where the machine's drivers or its BIOS do."""
    grow = next((step for step in made.sheet.steps if isinstance(step, GrowPartition)), None)
    layout = forecast(made.sheet, source, target).layout if grow else None
    if grow is None or layout is None:
        return made
    look, boot = layout.partition(grow.partition), boot_partition(layout)
    limit = largest_in(machine, look, is_boot=boot is not None and boot.index == look.index)
    if limit is None or look.partition.length <= limit[0]:
        return made
    most, because = limit
    grows = most > source.partition(look.index).partition.length
    steps = tuple(msgspec.structs.replace(step, size=most) if step is grow else step for step in made.sheet.steps
                  if step is not grow or grows)
    told = Finding(Severity.NOTE, f"{look.name} {'stops at ' + binary(most) if grows else 'does not grow'}: {because}.",
                   partition=look.index, remedy="A size that is given goes further, for drivers that bear it.")
    return Suited(msgspec.structs.replace(made.sheet, steps=steps), (*made.findings, told))


def _turned_round(sheet: JobSheet, source: Layout, machine: Machine) -> Suited:
    """The sheet with the bytes of every word swapped on the way where the machine reads them in the other order."""
    other = "straight" if source.container == SWAPPED else "swapped"
    if machine.bytes != other or not any(isinstance(step, WriteImage) for step in sheet.steps):
        return Suited(sheet)
    return Suited(swapping_on_the_way(sheet), (Finding(
        Severity.NOTE, f"A {machine.name} reads the bytes of every word {other}: they are exchanged on the way.",
        "byte order"),))


def swapping_on_the_way(sheet: JobSheet) -> JobSheet:
    """The sheet with the two bytes of every word exchanged where all of a source is written."""
    steps = tuple(msgspec.structs.replace(step, swap=True) if isinstance(step, WriteImage) else step
                  for step in sheet.steps)
    return msgspec.structs.replace(sheet, steps=steps)


def _under(source: Layout, kind: MapKind, machine: Machine) -> tuple[AnyStep, ...]:
    """The partitions below a map with the machine's geometry, in file systems that it opens. Raises FitError."""
    made: list[AnyStep] = []
    for step in under_another_map(source, kind):
        if isinstance(step, NewMap):
            step = NewMap(step.kind, *machine.tracks(kind))
        elif isinstance(step, CopyPartition):
            look = source.partition(step.source)
            made_as = _kind_for(look, kind, machine)
            most = machine.partition.bytes if machine.partition and made_as else look.partition.length
            step = msgspec.structs.replace(step, kind=made_as,
                                           size=most if most < look.partition.length else None)
        made.append(step)
    if machine.boot.must_be_marked:
        made.append(FlagPartition(1, "active"))
    return tuple(made)


def _kind_for(look: PartitionLook, map: MapKind, machine: Machine) -> str:
    """What a volume is made anew as, which the map carries and the machine opens; "" where it is copied exactly."""
    kind, volume = kind_under(map, look), look.volume
    if volume is None or volume.used is None:
        return kind
    if kind_for(kind, look.partition.length) in machine.volumes or (not kind and look.variant in machine.volumes):
        return kind
    possible = [v for v in machine.volumes if (facts := facts_of(v)) and facts.is_written and facts.stands_under(map)]
    return next(reversed(possible), kind)                  # the youngest is named last
