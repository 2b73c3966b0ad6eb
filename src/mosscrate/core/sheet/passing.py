"""What files lose on their way into a volume of another kind: told before anything is done."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeAlias

from mosscrate.core.blocks import Blocks, MemoryBlocks
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.contents.transfer import Passage, plan_passage, subtree
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.findings import Finding
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import arranging
from mosscrate.core.sheet.steps import CopyFiles, CopyPartition, Existing, PutFiles, RebuildPartition, Step
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import Entry, Kind, Making, Volume, format_for, open_volume

Passing: TypeAlias = CopyPartition | RebuildPartition | CopyFiles | PutFiles
PASSING = (CopyPartition, RebuildPartition, CopyFiles, PutFiles)
SHOWN = 6
LITTER = {".ds_store", "thumbs.db", "desktop.ini", ".spotlight-v100", ".trashes", ".fseventsd", ".directory"}


def passage_of(step: Passing, source: Blocks | None, target: Blocks | None) -> Passage:
    """How the files of a step go into their volume. Raises MossError.

    Args:
        step: one that carries files into a volume.
        source: of the sheet, for steps that bring something over.
        target: of the sheet, for steps that find their volume there.
    """
    match step:
        case PutFiles():
            assert target is not None, "it goes onto the target"
            return plan_put(open_partition(target, step.partition), step).passage
        case CopyFiles():
            assert target is not None, "it goes onto the target"
            came = target if source is None else source
            return copied_from(open_partition(came, step.source), open_partition(target, step.partition), step)[1]
        case CopyPartition() | RebuildPartition():
            blocks = source if isinstance(step, CopyPartition) else target
            assert blocks is not None, "it comes from somewhere"
            return _anew(step, straight(blocks))


def together(steps: Iterable[Step], source: Blocks | None, target: Blocks | None) -> Passage:
    """What all steps lose as one passage; its paths begin with the partition where there is more than one.

    Steps that lose nothing or cannot be asked yet are passed over: their forecast has said why.
    """
    found: list[tuple[Passing, Passage]] = []
    for step in steps:
        if isinstance(step, PASSING):
            with suppress(MossError):
                found.append((step, passage_of(step, source, target)))
    whole = Passage()
    for step, passage in found:
        index = step.source if isinstance(step, CopyPartition | CopyFiles) else step.partition
        prefix = f"{index}: " if len(found) > 1 else ""
        whole.changed_names |= {prefix + old: new for old, new in passage.changed_names.items()}
        whole.left_out |= {prefix + path for path in passage.left_out}
        whole.findings += passage.findings
    return whole


def shortened(passage: Passage, most: int = SHOWN) -> tuple[Finding, ...]:
    """The first findings of a passage, and how many more there are."""
    found = passage.findings
    shown, more = tuple(found[:most]), len(found) - most
    if more <= 0:
        return shown
    return (*shown, replace(shown[-1], sentence=f"{counted(more, 'more name')} change in the same way."))


def copied_from(volume: Volume, target: Volume, step: CopyFiles) -> tuple[list[Entry], Passage]:
    """What a step copies from a volume, and how it goes into another. Raises FitError."""
    entries = subtree(volume.tree(), step.path)
    return entries, plan_passage(entries, target.kind, target, _present(target, step.folder, step.existing))


def _present(volume: Volume, folder: str, existing: Existing) -> tuple[str, ...]:
    """Paths below a folder that a changed name must not meet; none where the same names are to be replaced."""
    if existing == Existing.REPLACE:
        return ()
    inside = f"{folder}/" if folder else ""
    return tuple(e.path.removeprefix(inside) for e in volume.tree().entries if e.path.startswith(inside))


@dataclass(frozen=True)
class Putting:
    """Files and folders of this computer on their way: their place here by the path that they are meant to have."""

    entries: tuple[Entry, ...]
    places: dict[str, Path]
    passage: Passage


def plan_put(volume: Volume, step: PutFiles) -> Putting:
    """What a step puts, and under which names. Raises MediumError where something is not there."""
    sources = [Path(p) for p in step.paths]
    missing = next((p for p in sources if not p.exists()), None)
    if missing:
        raise MediumError(f"There is no file {missing} to put onto the card. Nothing was changed.")
    places = {step.name or rel: path for source in sources for path, rel in below(source)}
    entries = tuple(_entry_of(path, to) for to, path in places.items())
    present = _present(volume, step.folder, step.existing)
    return Putting(entries, places, plan_passage(entries, volume.kind, volume, present))


def below(source: Path) -> Iterator[tuple[Path, str]]:
    """(path, path on the volume) of a file, or of a folder and all in it, folders first; droppings stay off."""
    yield source, source.name
    if source.is_file():
        return
    for folder, folders, files in os.walk(source):
        folders[:] = sorted(f for f in folders if not _is_litter(f))
        base = Path(folder)
        within = Path(source.name) / base.relative_to(source)
        for name in folders:
            yield base / name, str(within / name)
        for name in sorted(files):
            if not _is_litter(name) and (base / name).is_file():
                yield base / name, str(within / name)


def _entry_of(path: Path, to: str) -> Entry:
    about = path.stat()
    is_folder = path.is_dir()
    return Entry(to, Kind.FOLDER if is_folder else Kind.FILE, 0 if is_folder else about.st_size, int(about.st_mtime), 0)


def _anew(step: CopyPartition | RebuildPartition, blocks: Blocks) -> Passage:
    """Nothing is lost in a volume of the same kind."""
    if not step.kind:
        return Passage()
    index = step.source if isinstance(step, CopyPartition) else step.partition
    partition = read_map(blocks).partition(index)
    kind = arranging.kind_for(step.kind, partition.length)
    volume = open_volume(partition_window(blocks, partition))
    return plan_passage(volume.tree().entries, kind, _like(kind))


def _like(kind: str) -> Volume:
    """A small volume of a kind, to be asked about names."""
    sizes = {"fat12": 1 << 20, "gemdos": 4 << 20, "gemdos-floppy": 737280, "fat16": 9 << 20, "fat32": 36 << 20}
    blocks = MemoryBlocks(bytes(sizes.get(kind, 8 << 20)))
    format_for(kind).make(blocks, Making(kind, block=512 if kind.startswith("fat") else None))
    return open_volume(blocks)


def _is_litter(name: str) -> bool:
    return name.startswith("._") or name.lower() in LITTER
