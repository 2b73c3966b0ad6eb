"""Single files in archives of this computer, said as ARCHIVE//NAME: their sizes, times and bytes."""

from __future__ import annotations

import time
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.errors import MediumError

BETWEEN = "//"
PIECE = 1 << 20
DAMAGES = (OSError, zipfile.BadZipFile, NotImplementedError, ValueError, EOFError, RuntimeError, zlib.error)
MOST = 20_000                            # members of an archive that are looked at


@dataclass(frozen=True)
class Member:
    """A file in a zip; `size` as its directory says, bytes beyond that are an error."""

    archive: Path
    name: str
    size: int
    modified: int

    @property
    def path(self) -> str:
        """As it is said in a sheet."""
        return f"{self.archive}{BETWEEN}{self.name}"

    def read(self) -> Iterator[bytes]:
        """Its bytes in pieces. Raises MediumError where they are damaged, or others than its directory says."""
        with _opened(self.archive) as packed, packed.open(self.name) as file:
            left = self.size
            while piece := file.read(min(PIECE, left + 1)):
                left -= len(piece)
                if left < 0:
                    break
                yield piece
            if left:
                raise MediumError(f"“{self.name}” in {self.archive.name} is not as long as its directory says.")


def is_member(text: str) -> bool:
    """Whether a path means a file in an archive."""
    return BETWEEN in text


def member_at(text: str) -> Member:
    """The file that ARCHIVE//NAME means. Raises MediumError."""
    archive, _, name = text.partition(BETWEEN)
    found = next((member for member in members(Path(archive)) if member.name == name), None)
    if found is None:
        raise MediumError(f"There is no “{name}” in {archive}. Nothing was changed.")
    return found


def members(archive: Path) -> list[Member]:
    """The files of a zip, encrypted ones left out. Raises MediumError where it cannot be read."""
    with _opened(archive) as packed:
        return [Member(archive, info.filename, info.file_size, _seconds(info.date_time))
                for info in packed.infolist()[:MOST] if not info.is_dir() and not info.flag_bits & 1]


@contextmanager
def _opened(archive: Path) -> Iterator[zipfile.ZipFile]:
    try:
        with zipfile.ZipFile(archive) as packed:
            yield packed
    except DAMAGES as error:
        raise MediumError(f"{archive.name} cannot be unpacked: {error}") from error


def _seconds(date: tuple[int, int, int, int, int, int]) -> int:
    try:
        return int(time.mktime((*date, 0, 0, -1)))
    except (OverflowError, ValueError):
        return 0
