"""What all backups hold, file by file: found by name, known by contents, a save followed through time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from functools import partial

import numpy as np
from blake3 import blake3

from mosscrate.core.contents import survey
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.catalogue import Row, stem_of
from mosscrate.core.crate.checking import manifest_at
from mosscrate.core.crate.crate import Backup, Crate
from mosscrate.core.errors import MossError
from mosscrate.core.images.kept.frames import LONGEST_CHUNK, NO_TIME
from mosscrate.core.volumes import Kind

KINDS = tuple(FileKind)


@dataclass(frozen=True)
class KeptFile:
    """A file of a backup.

    Attributes:
        backup: that holds it.
        partition, path: where it was on the card.
        kind: what a restorer calls it, a FileKind.
        size: bytes.
        modified: seconds since 1970; None where its file system does not say.
        contents: known again wherever the same contents are.
    """

    backup: Backup
    partition: int
    path: str
    kind: str
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
    return (KeptFile(backup, *row) for row in _rows_of(backup))


def find(crate: Crate, text: str) -> list[KeptFile]:
    """Files of any backup whose path holds some words, the newest backup first; what cannot be read is left out."""
    noted = _noted(crate)
    return list(_held(crate, noted, crate.catalogue.named(text.casefold().split())))


def of_sizes(crate: Crate, sizes: Sequence[int]) -> list[KeptFile]:
    """Files of any backup that have one of some sizes, the newest backup first; each contents once."""
    found = dict[bytes, KeptFile]()
    for file in _held(crate, _noted(crate), crate.catalogue.of_sizes(sizes)) if sizes else ():
        found.setdefault(file.contents, file)
    return list(found.values())


def life_of(crate: Crate, name: str, kind: str = FileKind.SAVE) -> list[Version]:
    """All contents that files of a name and kind have had in any backup of any card, the oldest first."""
    noted, by_contents = _noted(crate), dict[bytes, list[KeptFile]]()
    for file in _held(crate, reversed(noted), crate.catalogue.called(stem_of(name), str(kind))):
        by_contents.setdefault(file.contents, []).append(file)
    versions = [Version(files[0], files[-1], len({file.backup.path for file in files}))
                for files in by_contents.values()]
    return sorted(versions, key=lambda version: version.when)


def saves(crate: Crate) -> dict[str, list[KeptFile]]:
    """Every save by its name without ending, the newest file of each name first."""
    noted, found = _noted(crate), dict[str, list[KeptFile]]()
    for file in _held(crate, noted, crate.catalogue.saves()):
        found.setdefault(stem_of(file.name), []).append(file)
    return found


def all_contents(crate: Crate, *, but: Iterable[Backup] = ()) -> set[bytes]:
    """By what every file of every backup is known again, some backups left out."""
    left_out = {backup.path for backup in but}
    return _contents(crate, _noted(crate, lambda backup: backup.path not in left_out))


def contents_in_chunks(crate: Crate) -> set[bytes]:
    """The same of the backups whose lists say it; images would have to be read through for it."""
    return _contents(crate, _noted(crate, lambda backup: backup.is_in_chunks))


def _contents(crate: Crate, noted: list[Backup]) -> set[bytes]:
    held = [crate.catalogue.held_by(backup.listed) for backup in noted]
    return crate.catalogue.contents(np.unique(np.concatenate(held))) if held else set()


def _noted(crate: Crate, wanted: Callable[[Backup], bool] = lambda _: True) -> list[Backup]:
    """The backups whose files the catalogue has now, the newest first; what cannot be read is left out."""
    found, backups = [], [b for lane in crate.lanes() for b in lane.backups if wanted(b)]
    for backup in sorted(backups, key=lambda b: b.kept_at, reverse=True):
        with suppress(MossError):
            crate.catalogue.note(backup.listed, partial(_all_rows_of, backup))
            found.append(backup)
    return found


def _held(crate: Crate, backups: Iterable[Backup], wanted: dict[int, Row]) -> Iterator[KeptFile]:
    """Some files of the catalogue in every backup that holds them."""
    numbers = np.array(sorted(wanted), np.int64)
    for backup in backups:
        held = crate.catalogue.held_by(backup.listed)
        for number in held[np.isin(held, numbers)].tolist():
            yield KeptFile(backup, *wanted[number])


def _all_rows_of(backup: Backup) -> list[Row]:
    return list(_rows_of(backup))


def _rows_of(backup: Backup) -> Iterator[Row]:
    if not backup.is_in_chunks:
        yield from _rows_of_image(backup)
        return
    manifest = manifest_at(backup.path)
    for row, contents in zip(manifest.files, manifest.contents(), strict=True):
        modified = int(row["modified"])
        kind = KINDS[row["role"]] if row["role"] < len(KINDS) else FileKind.OTHER
        yield Row(int(row["volume"]), manifest.paths[row["path"]], kind, int(row["size"]),
                  None if modified == NO_TIME else modified, contents)


def _rows_of_image(backup: Backup) -> Iterator[Row]:
    with backup.open() as image:
        for look in survey(image).with_contents:
            if look.volume is None or look.volume.used is None:
                continue
            volume = open_partition(image, look.index)
            for entry in volume.tree().entries:
                if entry.kind == Kind.FILE:
                    yield Row(look.index, entry.path, kind_of(entry), entry.size, entry.modified,
                              contents_of(volume.read_file(entry)))
