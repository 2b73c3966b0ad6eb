"""Which files of a card are in no backup: by name, size and time first, then by contents across all cards."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.survey import open_partition, open_volumes
from mosscrate.core.crate.crate import Backup, Crate
from mosscrate.core.crate.library import contents_in_chunks, contents_of
from mosscrate.core.errors import MossError
from mosscrate.core.sizes import counted, days_ago
from mosscrate.core.volumes import Entry, Kind, Volume

MOST_READ = 16 << 20                     # bytes of files that are compared with what is kept before anybody asks for it
RECENT = 60                              # days that people count
Filed = tuple[int, Entry]                # partition, file


@dataclass(frozen=True)
class Unkept:
    """What of a card is in no backup.

    Attributes:
        files: in none, or too large to be compared beside other things.
        elsewhere: not in the newest backup of this card as they are, but their contents are in one.
        uncompared: how many of `files` may be in one after all.
    """

    files: tuple[Filed, ...] = ()
    elsewhere: int = 0
    uncompared: int = 0

    @property
    def saves(self) -> tuple[Entry, ...]:
        """Saves that are in no backup."""
        return tuple(entry for _, entry in self.files if kind_of(entry) == FileKind.SAVE)

    @property
    def count(self) -> str:
        """Saves and other files, counted in words; "" for none."""
        saves = len(self.saves)
        others = len(self.files) - saves
        return " and ".join(filter(None, (counted(saves, "save") if saves else "", counted(
            others, "other file" if saves else "file") if others else "")))

    @property
    def short(self) -> str:
        """Saves where there are any, else files; "" for none."""
        return counted(len(self.saves), "save") if self.saves else self.count

    def newest(self, now: datetime) -> str:
        """When the newest save, else the newest file of them was written, as people say it; "" where none says so."""
        times = [entry.modified for entry in self.saves or tuple(entry for _, entry in self.files) if entry.modified]
        if not times:
            return ""
        last = datetime.fromtimestamp(max(times), now.tzinfo)
        return days_ago(last, now) if (now - last).days < RECENT else f"{last:%d %B %Y}"


def files_on(card: Blocks, layout: Layout) -> list[Filed]:
    """Every file of every volume that can be opened, with its partition. Raises MediumError, FormatError."""
    return _files_of(open_volumes(card, layout))


def not_in(backup: Backup | None, now: Sequence[Filed]) -> list[Filed]:
    """Files that a backup does not hold under the same name, with the same size and time."""
    if backup is None:
        return list(now)
    try:
        with backup.open() as image:
            kept = {(index, e.path, e.size, e.modified) for index in {i for i, _ in now}
                    for e in open_partition(image, index).tree().entries}
    except MossError:
        return list(now)
    return [(index, e) for index, e in now if (index, e.path, e.size, e.modified) not in kept]


def unkept_on(card: Blocks, layout: Layout, latest: Backup | None, crate: Crate) -> Unkept:
    """What of a card is in no backup, its own newest one looked at first. Raises MediumError, FormatError."""
    volumes = open_volumes(card, layout)
    new = not_in(latest, _files_of(volumes))
    known = contents_in_chunks(crate) if new else set()
    if not known:
        return Unkept(tuple(new))
    order = sorted(new, key=lambda filed: (kind_of(filed[1]) != FileKind.SAVE, filed[1].size))
    found, elsewhere, uncompared, read = list[Filed](), 0, 0, 0
    for index, entry in order:
        read += entry.size
        if read > MOST_READ:
            uncompared += 1
        elif not entry.size or contents_of(volumes[index].read_file(entry)) in known:
            elsewhere += 1
            continue
        found.append((index, entry))
    return Unkept(tuple(found), elsewhere, uncompared)


def _files_of(volumes: dict[int, Volume]) -> list[Filed]:
    return [(index, entry) for index, volume in volumes.items() for entry in volume.tree().entries
            if entry.kind == Kind.FILE]
