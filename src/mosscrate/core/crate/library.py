"""What all backups hold, file by file: found by name, known by contents, a save followed through time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from blake3 import blake3

from mosscrate.core.contents import survey
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.crate import Backup, Crate
from mosscrate.core.errors import FormatError, MossError
from mosscrate.core.images.kept import Manifest, read_manifest
from mosscrate.core.images.kept.frames import LONGEST_CHUNK, NO_TIME
from mosscrate.core.volumes import Entry, Kind, Volume

KINDS = tuple(FileKind)


@dataclass(frozen=True)
class KeptFile:
    """A file of a backup.

    Attributes:
        backup: that holds it.
        partition, path: where it was on the card.
        kind: what a restorer calls it.
        size: bytes.
        modified: seconds since 1970; None where its file system does not say.
        contents: known again wherever the same contents are.
    """

    backup: Backup
    partition: int
    path: str
    kind: FileKind
    size: int
    modified: int | None
    contents: bytes

    @property
    def name(self) -> str:
        """The last part of its path."""
        return self.path.rpartition("/")[2]


@dataclass(frozen=True)
class Version:
    """Contents that a save has had.

    Attributes:
        first, last: the file in the earliest and the latest backup that has them.
        backups: in how many.
    """

    first: KeptFile
    last: KeptFile
    backups: int

    @property
    def when(self) -> datetime:
        """When it was kept first."""
        return self.first.backup.kept_at


def contents_of(pieces: Iterable[bytes]) -> bytes:
    """By what contents are known again: the BLAKE3 of their only MiB, or of the BLAKE3s of each; empty ones by b""."""
    names, held = [], b""
    for piece in pieces:
        held += piece
        while len(held) >= LONGEST_CHUNK:
            names.append(blake3(held[:LONGEST_CHUNK]).digest())
            held = held[LONGEST_CHUNK:]
    if held:
        names.append(blake3(held).digest())
    return names[0] if len(names) == 1 else blake3(b"".join(names)).digest() if names else b""


def files_in(backup: Backup) -> Iterator[KeptFile]:
    """Every file of a backup. Raises CrateError, MediumError, FormatError."""
    if not backup.is_in_chunks:
        yield from _files_of_image(backup)
        return
    manifest = _manifest(backup)
    for number, row in enumerate(manifest.files):
        modified = int(row["modified"])
        kind = KINDS[row["role"]] if row["role"] < len(KINDS) else FileKind.OTHER
        yield KeptFile(backup, int(row["volume"]), manifest.paths[row["path"]], kind, int(row["size"]),
                       None if modified == NO_TIME else modified, manifest.digest_of(number) if row["length"] else b"")


def find(crate: Crate, text: str) -> list[KeptFile]:
    """Files of any backup whose path holds some words, the newest backup first; what cannot be read is left out."""
    words = text.casefold().split()
    found = []
    for backup in _newest_first(crate):
        with suppress(MossError):
            found += [file for file in files_in(backup) if all(word in file.path.casefold() for word in words)]
    return found


def life_of(crate: Crate, name: str, kind: FileKind = FileKind.SAVE) -> list[Version]:
    """All contents that files of a name and kind have had in any backup of any card, the oldest first."""
    wanted, by_contents = _stem(name), dict[bytes, list[KeptFile]]()
    for backup in reversed(_newest_first(crate)):
        with suppress(MossError):
            for file in files_in(backup):
                if file.kind == kind and _stem(file.name) == wanted:
                    by_contents.setdefault(file.contents, []).append(file)
    versions = [Version(files[0], files[-1], len({file.backup.path for file in files}))
                for files in by_contents.values()]
    return sorted(versions, key=lambda version: version.when)


def saves(crate: Crate) -> dict[str, list[KeptFile]]:
    """Every save by its name without ending, the newest file of each name first."""
    found: dict[str, list[KeptFile]] = {}
    for backup in _newest_first(crate):
        with suppress(MossError):
            for file in files_in(backup):
                if file.kind == FileKind.SAVE:
                    found.setdefault(_stem(file.name), []).append(file)
    return found


def all_contents(crate: Crate) -> set[bytes]:
    """By what every file of every backup is known again."""
    known = set[bytes]()
    for backup in _newest_first(crate):
        with suppress(MossError):
            known |= {file.contents for file in files_in(backup)}
    return known


def unkept(volume: Volume, entries: Iterable[Entry], known: set[bytes]) -> list[Entry]:
    """Files whose contents are in no backup. Raises MediumError, FormatError."""
    return [entry for entry in entries if entry.kind == Kind.FILE and entry.size
            and contents_of(volume.read_file(entry)) not in known]


def _files_of_image(backup: Backup) -> Iterator[KeptFile]:
    with backup.open() as image:
        for look in survey(image).with_contents:
            if look.volume is None or look.volume.used is None:
                continue
            volume = open_partition(image, look.index)
            for entry in volume.tree().entries:
                if entry.kind == Kind.FILE:
                    yield KeptFile(backup, look.index, entry.path, kind_of(entry), entry.size, entry.modified,
                                   contents_of(volume.read_file(entry)))


def _manifest(backup: Backup) -> Manifest:
    status = backup.path.stat()
    return _read(backup.path, status.st_size, status.st_mtime_ns)


@lru_cache(32)
def _read(path: Path, _size: int, _changed: int) -> Manifest:
    try:
        return read_manifest(path.read_bytes())
    except OSError as error:
        raise FormatError("backup", "file", 0, str(error.strerror), "one that can be read") from error


def _newest_first(crate: Crate) -> list[Backup]:
    return sorted((b for lane in crate.lanes() for b in lane.backups), key=lambda b: b.kept_at, reverse=True)


def _stem(name: str) -> str:
    """A name without its folder and ending, as different programs write it."""
    last = name.rpartition("/")[2].casefold()
    return last.rpartition(".")[0] or last
