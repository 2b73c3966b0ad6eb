"""What a sheet does to the target, before anything is done: layouts, sentences, bytes."""

from __future__ import annotations

from dataclasses import dataclass, replace

from mosscrate.core.blocks.base import SECTOR
from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import Eject, GrowPartition, KeepCard, Step, Verify, Which, WriteImage
from mosscrate.core.sizes import binary, counted, exact

READ_RATE, WRITE_RATE = 60e6, 25e6         # bytes a second of an ordinary card, until a job has measured


@dataclass(frozen=True)
class StepLine:
    """A step in words, with the bytes that it will read and write at most."""

    step: Step
    sentence: str
    reads: int
    writes: int
    note: str = ""

    @property
    def seconds(self) -> float:
        """A first guess."""
        return self.reads / READ_RATE + self.writes / WRITE_RATE


@dataclass(frozen=True)
class Forecast:
    """The target as it will be, every step in words, and what stands against it."""

    layout: Layout | None
    lines: tuple[StepLine, ...]
    problems: tuple[Finding, ...]

    @property
    def seconds(self) -> float:
        """Of all steps."""
        return sum(line.seconds for line in self.lines)


def forecast(sheet: JobSheet, source: Layout | None, target: Layout | None) -> Forecast:
    """Follow the steps through the layouts. Steps that do not fit become problems, not errors."""
    lines, problems = [], []
    for step in sheet.steps:
        try:
            lines.append(_line(step, sheet, source, target))
            target = after(step, source, target)
        except FitError as error:
            lines.append(StepLine(step, "This step does not fit.", 0, 0))
            problems.append(Finding(Severity.PROBLEM, str(error)))
    return Forecast(target, tuple(lines), tuple(problems))


def after(step: Step, source: Layout | None, target: Layout | None) -> Layout | None:
    """The target's layout once a step is done. Raises FitError."""
    match step:
        case WriteImage():
            if source is None or target is None:
                raise FitError("Writing needs a source and a target.")
            end = max((p.partition.end for p in source.partitions), default=0)
            if source.size > target.size and (end > target.size or source.map_kind == MapKind.NONE):
                raise FitError(f"The source has {exact(source.size)}, the target {exact(target.size)}: "
                               f"{binary(source.size - target.size)} too few.")
            return replace(source, size=target.size, sector=target.sector, findings=())
        case GrowPartition(partition=index, size=size):
            if target is None:
                raise FitError("Growing needs a target.")
            return _grown(target, index, size)
        case _:
            return target


def room_behind(layout: Layout, index: int) -> int:
    """Bytes a partition could have without moving anything. Raises FitError."""
    try:
        start = layout.partition(index).partition.start
    except KeyError:
        raise FitError(f"There is no partition {index} to grow.") from None
    behind = [p.partition.start for p in layout.partitions if p.partition.start > start]
    return min([*behind, layout.size]) - start


def grown_length(layout: Layout, index: int, size: int | None) -> tuple[int, str]:
    """The length a partition will get, and the limit that stands there. Raises FitError."""
    room = room_behind(layout, index)
    look = layout.partition(index)
    wanted = (room if size is None else size) // SECTOR * SECTOR
    if wanted > room:
        raise FitError(f"{look.name} can have {binary(room)} at most, {binary(wanted)} were asked for.")
    if look.volume is None or not look.volume.largest:
        raise FitError(f"{look.name} cannot be grown: {look.role_reason}.")
    if wanted > look.volume.largest:
        return max(look.volume.largest, look.partition.length), look.volume.largest_because
    return wanted, ""


def _grown(layout: Layout, index: int, size: int | None) -> Layout:
    length, _ = grown_length(layout, index, size)
    look = layout.partition(index)
    assert look.volume is not None, "grown_length looked"
    if length <= look.volume.size:
        raise FitError(f"{look.name} has {binary(look.volume.size)} and cannot grow to {binary(length)}.")
    volume = replace(look.volume, size=length)
    layout = replace(layout, findings=())
    return layout.with_partition(replace(look, partition=replace(look.partition, length=length), volume=volume))


def _line(step: Step, sheet: JobSheet, source: Layout | None, target: Layout | None) -> StepLine:
    match step:
        case KeepCard(which=which):
            layout, ref = (source, sheet.source) if which == Which.SOURCE else (target, sheet.target)
            size, used = (layout.size, layout.used) if layout else (0, 0)
            name = ref.name if ref else "the card"
            return StepLine(step, f"Keep {name} in the crate and read the backup back", size + used, used,
                            f"{binary(used)} in use")
        case WriteImage(verify=verify):
            name = sheet.target.name if sheet.target else "the target"
            if source is None:
                raise FitError("Writing needs a source.")
            count = counted(len(source.partitions), "partition")
            tail = " and read it back" if verify else ""
            what = f"{count}, map and disk id" if source.map_kind == MapKind.MBR else "all of it"
            return StepLine(step, f"Write {what} onto {name}{tail}", source.size * (1 + verify), source.used,
                            f"{binary(source.used)} of {binary(source.size)} in use")
        case GrowPartition(partition=index, size=size):
            if target is None:
                raise FitError("Growing needs a target.")
            look, (length, limit) = target.partition(index), grown_length(target, index, size)
            sentence = f"Grow {look.name} from {binary(look.partition.length)} to {binary(length)}; its files stay"
            return StepLine(step, sentence, 4 << 20, 8 << 20, f"stops there: {limit}" if limit else "")
        case Verify():
            used = source.used if source else 0
            files = counted(source.files if source else 0, "file")
            return StepLine(step, f"Read every file back and compare ({files})",
                            2 * used, 0)
        case Eject():
            name = sheet.target.name if sheet.target else "the card"
            return StepLine(step, f"Let go of {name}, so that it may be pulled", 0, 0)
