"""Steps in plain sentences, with the bytes that each will read and write at most."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, rdb
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.bringing import is_made_anew, placed
from mosscrate.core.sheet.layouts import grown_length, shrunk_length
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import (
    AddPartition,
    BringCode,
    CopyFiles,
    CopyPartition,
    Eject,
    EmptyCard,
    FillWithDrives,
    FlagPartition,
    FormatPartition,
    GrowPartition,
    InPlace,
    KeepCard,
    LabelPartition,
    MakeFolder,
    MendMap,
    MovePartition,
    NewMap,
    PutFiles,
    RebuildBitmap,
    RebuildPartition,
    RemoveCode,
    RemoveFiles,
    RemovePartition,
    RenameFile,
    ReplayJournal,
    SetTraits,
    ShrinkPartition,
    Step,
    SwapBytes,
    TunePartition,
    TypePartition,
    Verify,
    Which,
    WriteFitted,
    WriteImage,
    tuning_of,
)
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import kind_name

READ_RATE, WRITE_RATE = 60e6, 25e6         # bytes a second of an ordinary card, until a job has measured
_SMALL = 4 << 20


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


def line_of(step: Step, sheet: JobSheet, source: Layout | None, target: Layout | None) -> StepLine:
    """One step in words. Raises FitError where its partition is not there or cannot take it."""
    name = sheet.target.name if sheet.target else "the card"
    match step:
        case KeepCard(which=which):
            layout, ref = (source, sheet.source) if which == Which.SOURCE else (target, sheet.target)
            size, used = (layout.size, layout.used) if layout else (0, 0)
            kept = ref.name if ref else "the card"
            return StepLine(step, f"Keep {kept} in the crate and read the backup back", size + used, used,
                            f"{binary(used)} in use")
        case WriteImage() | WriteFitted():
            return _write(step, source, name)
        case Verify():
            used, files = (source.used, source.files) if source else (0, 0)
            return StepLine(step, f"Read every file back and compare ({counted(files, 'file')})", 2 * used, 0)
        case Eject():
            return StepLine(step, f"Let go of {name}, so that it may be pulled", 0, 0)
        case CopyPartition(source=index):
            if source is None or target is None:
                raise FitError("Bringing a partition over needs a source and a target.")
            used = _used(source, index)
            return StepLine(step, f"Bring {_name(source, index)} over, {_how(step, source, target)}", 3 * used, used)
        case CopyFiles(source=index, partition=to, path=path, folder=folder):
            if target is None:
                raise FitError("Copying files needs a target.")
            source = source or target
            used = _used(source, index)
            what = f"“{path}” of {_name(source, index)}" if path else f"the files of {_name(source, index)}"
            where = f"“{folder}” on {_name(target, to)}" if folder else _name(target, to)
            return StepLine(step, f"Copy {what} into {where}", used, used)
        case _:
            if target is None:
                raise FitError("This step needs a target.")
            return _in_place(step, name, target)


def _how(step: CopyPartition, source: Layout, target: Layout) -> str:
    came = source.partition(step.source)
    kind = came.volume.kind if came.volume else ""
    length, is_anew = step.size or came.partition.length, bool(step.kind)
    with suppress(FitError):                            # where it does not fit, the layout says why
        made = placed(step, came.partition, kind, target.as_map, target.size)[1]
        length, is_anew = made.length, is_made_anew(step, kind, came.partition, made)
    how = f"made anew as {kind_name(arranging.kind_for(step.kind, length) or kind)}" if is_anew else "exactly"
    return f"{how}, {binary(length)}"


def _write(step: WriteImage | WriteFitted, source: Layout | None, name: str) -> StepLine:
    if source is None:
        raise FitError("Writing needs a source.")
    verify = isinstance(step, WriteImage) and step.verify
    count = counted(len(source.partitions), "partition")
    tail = ", the two bytes of every word swapped" if isinstance(step, WriteImage) and step.swap else ""
    tail += " and read it back" if verify else ""
    if isinstance(step, WriteFitted):
        tail = ", its last volume shrunk until all of it fits"
    what = f"{count}, map and disk id" if source.map_kind != MapKind.NONE else "all of it"
    return StepLine(step, f"Write {what} onto {name}{tail}", source.size * (1 + verify), source.used,
                    f"{binary(source.used)} of {binary(source.size)} in use")


def _in_place(step: InPlace, name: str, target: Layout) -> StepLine:
    """A step that changes a card where it is."""
    match step:
        case GrowPartition(partition=index, size=size):
            length, limit = grown_length(target, index, size)
            before = target.partition(index).partition.length
            return StepLine(step, f"Grow {_name(target, index)} from {binary(before)} to {binary(length)}; its files "
                            "stay", _SMALL, 2 * _SMALL, f"stops there: {limit}" if limit else "")
        case ShrinkPartition(partition=index):
            length, before = shrunk_length(target, step), target.partition(index).partition.length
            moved = max(0, _used(target, index) - length // 2)
            return StepLine(step, f"Shrink {_name(target, index)} from {binary(before)} to {binary(length)}; what lies "
                            "behind moves forward", moved, moved)
        case SwapBytes():
            return StepLine(step, f"Swap the two bytes of every word on {name}", target.used, target.used)
        case MovePartition(partition=index):
            start, used = arranging.start_after_move(step, target.as_map, target.size), _used(target, index)
            return StepLine(step, f"Move {_name(target, index)} to {binary(start)}, with all that is on it", used, used)
        case RebuildPartition(partition=index, kind=kind):
            used = _used(target, index)
            kind = arranging.kind_for(kind, target.partition(index).partition.length) if kind else ""
            what = f" as {kind_name(kind)}" if kind else ""
            return StepLine(step, f"Make {_name(target, index)} anew{what} and put its files back", 2 * used, 2 * used)
        case FormatPartition(partition=index, kind=kind):
            kind = kind_name(arranging.kind_for(kind, target.partition(index).partition.length))
            return StepLine(step, f"Put a fresh {kind} volume on {_name(target, index)}; what is on it is lost", 0,
                            _SMALL)
        case AddPartition(label=label):
            made = arranging.added(step, target.as_map, target.size)[1]
            kind = arranging.kind_for(step.kind, made.length)
            what = "logical drive" if step.is_logical else "partition"
            called, fresh = f" {label}" if label else "", f", {kind_name(kind)}" if kind else ""
            return StepLine(step, f"Make the {what}{called}, {binary(made.length)}{fresh}", 0, _SMALL)
        case FillWithDrives(each=each, until=until, kind=kind):
            _, drives = arranging.drives_that_fit(target.as_map, target.size, step)
            return StepLine(step, f"Make {counted(len(drives), 'logical drive')} of {binary(each)} at most, "
                            f"{kind_name(kind)}, all below {binary(until)}", 0, len(drives) * _SMALL)
        case _:
            return StepLine(step, _short_sentence(step, name, target), 0, _SMALL)


def _short_sentence(step: InPlace, name: str, target: Layout) -> str:
    """Steps that need no figures."""
    match step:
        case EmptyCard():
            return f"Empty {name} of every map and every signature"
        case NewMap(kind=kind):
            return f"Put an empty {kind.upper()} map on {name}"
        case MendMap():
            return f"Write the partition map of {name} again, both copies of it"
        case RemovePartition(partition=index):
            return f"Take {_name(target, index)} out of the map"
        case TunePartition(partition=index):
            return f"Set for the drivers of {_name(target, index)}: {tuning_of(step)}"
        case BringCode(dos_type=type):
            what = f"for {rdb.dos_type_name(rdb.dos_type_of(type))} " if type else ""
            return f"Bring the file-system code {what}of the source into the map of {name}"
        case RemoveCode(dos_type=type):
            return f"Take the file-system code for {rdb.dos_type_name(rdb.dos_type_of(type))} out of the map of {name}"
        case LabelPartition(partition=index, label=label):
            return f"Call {_name(target, index)} “{label}”"
        case FlagPartition(partition=index, flag=flag, is_set=is_set):
            return f"{'Mark' if is_set else 'No longer mark'} {_name(target, index)} as {flag}"
        case TypePartition(partition=index, code=type):
            return f"Give {_name(target, index)} the type {type}"
        case ReplayJournal(partition=index):
            return f"Carry out what the journal of {_name(target, index)} still holds"
        case RebuildBitmap(partition=index):
            return f"Work out anew which blocks of {_name(target, index)} are in use"
        case PutFiles(partition=index, paths=paths, folder=folder):
            first = paths[0].rpartition("/")[2] if paths else "nothing"
            what = f"“{first}”" if len(paths) == 1 else counted(len(paths), "item")
            return f"Put {what} into {f'“{folder}” on ' if folder else ''}{_name(target, index)}"
        case RemoveFiles(partition=index, paths=paths):
            what = f"“{paths[0]}”" if len(paths) == 1 else counted(len(paths), "item")
            return f"Remove {what} from {_name(target, index)}"
        case RenameFile(path=path, new=new):
            return f"Call “{path}” “{new}”"
        case SetTraits(path=path):
            given = {"comment": step.comment, "protection": step.protection, "date": step.modified}
            return f"Set {' and '.join(k for k, v in given.items() if v is not None) or 'nothing'} of “{path}”"
        case MakeFolder(partition=index, path=path):
            return f"Make the folder “{path}” on {_name(target, index)}"
        case _:
            raise FitError("This step has no words yet.")


def _name(layout: Layout, index: int) -> str:
    try:
        return layout.partition(index).name
    except KeyError:
        raise FitError(f"There is no partition {index} on this medium.") from None


def _used(layout: Layout, index: int) -> int:
    _name(layout, index)
    look = layout.partition(index)
    return look.partition.length if look.volume is None or look.volume.used is None else look.volume.used
