"""Bringing kept files back onto a running device; what is there under their names stays under dated ones."""

from __future__ import annotations

import posixpath
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import Enum

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.library import KeptFile, contents_of
from mosscrate.core.devices.connection import Device
from mosscrate.core.errors import FitError, MediumError
from mosscrate.core.fill.tree_home import part_of
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import Entry, Kind, Volume
from mosscrate.core.watch import Watch

PIECE = 1 << 20


class _Act(Enum):
    EQUAL, WRITTEN, BESIDE = range(3)


@dataclass(frozen=True)
class GivenBack:
    """How many files were written, were the same already, and stay beside them under a dated name."""

    written: int
    equal: int
    beside: int

    @property
    def sentence(self) -> str:
        """In words."""
        parts = [f"{counted(self.written, 'file')} brought back"]
        if self.beside:
            were = "was" if self.beside == 1 else "were"
            parts.append(f"{counted(self.beside, 'file')} that {were} there kept beside, under a dated name")
        if self.equal:
            parts.append(f"{counted(self.equal, 'file')} {'was' if self.equal == 1 else 'were'} the same already")
        return f"{'; '.join(parts)}."


def give_back(files: Iterable[KeptFile], device: Device, watch: Watch) -> GivenBack:
    """Write files of one backup to where they were on the device, with their times and permissions.

    Each is written beside its place, read back, and only then renamed; links come last, those to or beside the files.
    Raises MediumError, FitError, Stopped.
    """
    files = list(files)
    if not files:
        raise FitError("No file is chosen. Nothing was changed.")
    acts = Counter[_Act]()
    with files[0].backup.open() as image:
        volumes = {index: open_partition(image, index) for index in {file.partition for file in files}}
        for number, file in enumerate(files):
            watch.progress(f"Bringing files back onto {device.address.host}", number, len(files))
            try:
                acts[_one(file, volumes[file.partition], device)] += 1
            except MediumError as error:
                before = f"{counted(number, 'file')} came back before it; the others were not touched."
                raise MediumError(f"{error} {before}") from error
        for index, volume in volumes.items():
            chosen = [file.path for file in files if file.partition == index]
            for link in _links_of(volume, chosen):
                acts[_link(link, device)] += 1
    return GivenBack(acts[_Act.WRITTEN] + acts[_Act.BESIDE], acts[_Act.EQUAL], acts[_Act.BESIDE])


def _one(file: KeptFile, volume: Volume, device: Device) -> _Act:
    entry = volume.tree().find(file.path)
    if entry is None:
        raise MediumError(f"There is no “{file.path}” in the backup.")
    path = posixpath.join(device.address.folder, file.path)
    there = device.status(path)
    if there is not None and there.kind != Kind.FILE:
        raise MediumError(f"“{path}” is a folder on {device.address.host}.")
    if there is not None and there.size == file.size and _contents(device, path, there.size) == file.contents:
        return _Act.EQUAL
    folder, name = posixpath.split(path)
    part = posixpath.join(folder, part_of(name))
    _write(device, part, volume, entry)
    if _contents(device, part, file.size) != file.contents:
        device.remove(part)
        raise MediumError(f"“{path}” does not read back from {device.address.host} as it was written; what was there "
                          "is untouched.")
    if there is not None:
        device.rename(path, _dated(device, path))
    device.rename(part, path)
    return _Act.WRITTEN if there is None else _Act.BESIDE


def _write(device: Device, part: str, volume: Volume, entry: Entry) -> None:
    device.put(part, (volume.read_at(entry, at, PIECE) for at in range(0, entry.size, PIECE)), entry.modified)
    if entry.mode is not None:
        device.permit(part, entry.mode & 0o7777)


def _links_of(volume: Volume, files: Sequence[str]) -> list[Entry]:
    """Links that belong to files: all where all were chosen, else those that lie in the folder that they share."""
    tree = volume.tree()
    is_all = len(files) == sum(entry.kind == Kind.FILE for entry in tree.entries)
    shared = "" if is_all else posixpath.commonpath([posixpath.dirname(path) for path in files])
    return [entry for entry in tree.entries if entry.kind == Kind.LINK and entry.target
            and (is_all or (shared and entry.path.startswith(f"{shared}/")))]


def _link(entry: Entry, device: Device) -> _Act:
    path, target = posixpath.join(device.address.folder, entry.path), entry.target or ""
    now = device.link_at(path)
    if now == target:
        return _Act.EQUAL
    there = device.status(path) if now is None else None
    if there is not None and there.kind == Kind.FOLDER:
        raise MediumError(f"“{path}” is a folder on {device.address.host}.")
    is_there = now is not None or there is not None
    if is_there:
        device.rename(path, _dated(device, path))
    device.link(path, target)
    return _Act.BESIDE if is_there else _Act.WRITTEN


def _contents(device: Device, path: str, size: int) -> bytes:
    return contents_of(device.read(path, at, min(PIECE, size - at)) for at in range(0, size, PIECE))


def _dated(device: Device, path: str) -> str:
    stem, ending = posixpath.splitext(path)
    for number in range(1, 1000):
        wanted = f"{stem} {datetime.now():%Y-%m-%d}{f' {number}' if number > 1 else ''}{ending}"
        if device.status(wanted) is None:
            return wanted
    raise FitError(f"No name is left for the old “{path}”.")
