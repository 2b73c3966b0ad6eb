"""Image files that somebody opened, or named; also disks in packed files and archives."""

from __future__ import annotations

import os
import stat
from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

from blake3 import blake3

from mosscrate.core.blocks import FileBlocks
from mosscrate.core.contents.unpacking import suppose_size
from mosscrate.core.errors import MediumError, NotReadYet
from mosscrate.core.images import ContainedDisk, Packing, Reach, Remembered, disk_in, open_image, packed_in
from mosscrate.core.images.kept import kept_in
from mosscrate.core.images.packing.parts import parts_of
from mosscrate.core.slots.kernel_tree import Tree
from mosscrate.core.slots.medium import Access, Medium, Source
from mosscrate.core.slots.uses import is_swap_file
from mosscrate.core.volumes.tables import looks_like_tables

_WRITE_BITS = 0o222
MOST_SAVED = 100                       # files of which something is remembered


@dataclass
class Memory:
    """What is remembered of packed files, each for as long as its file does not change; saved in a folder if any."""

    folder: Path | None = None
    lists: list[Path] = field(default_factory=list)          # of published checksums, besides those beside a file
    _known: dict[str, Remembered] = field(default_factory=dict, repr=False)

    def of(self, path: Path, member: str) -> Remembered:
        """What is known of a disk in a file. Raises OSError."""
        about = [part.stat() for part in parts_of(path)]
        state = [f"{s.st_dev} {s.st_ino} {s.st_size} {s.st_mtime_ns}" for s in about]
        key = blake3("\n".join((*state, member)).encode()).hexdigest()[:32]
        if key not in self._known:
            self._forget_the_oldest()
            self._known[key] = Remembered(self.folder / key if self.folder else None, looks_like_tables)
        return self._known[key]


    def _forget_the_oldest(self) -> None:
        """So that the folder does not grow with every file that was ever opened."""
        if self.folder is None or not self.folder.is_dir():
            return
        with suppress(OSError):
            saved = sorted(self.folder.iterdir(), key=lambda path: path.stat().st_mtime)
            for path in saved[:-MOST_SAVED]:
                path.unlink()


@dataclass(frozen=True)
class ImageFiles:
    """Those that are open on the bench; every other file is found by its path, also one within an archive."""

    paths: list[Path]
    memory: Memory = field(default_factory=Memory)
    tree: Tree = field(default_factory=Tree, repr=False)

    def media(self) -> list[Medium]:
        """See Slot."""
        return [self.medium_at(path) for path in self.paths if file_on(path)]

    def medium_at(self, path: Path) -> Medium:
        """See Slot."""
        outer = file_on(path)
        if outer is None or not outer.is_file():
            raise MediumError(f"{path} is {_what_is(path)}, not a card image.")
        member = "" if outer == path else path.relative_to(outer).as_posix()
        first = parts_of(outer)[0]
        about = first.stat()
        remembered = self.memory.of(first, member)
        found = _disk_at(first, member, about.st_size, about.st_mtime_ns, remembered, len(remembered.way.pieces))
        name = found.packing.name if found.packing else Path(member or first).name
        return Medium(found.name or _stem(name), first, remembered.size or found.size, Source.IMAGE,
                      reader=f"{found.kind} image file".strip(),
                      in_use="used as swap" if is_swap_file(first, self.tree) else "",
                      is_write_protected=bool(found.kind) or not may_be_written(first), slot=self, member=member,
                      packing=found.packing, is_size_known=found.is_size_known or bool(remembered.size),
                      lists=tuple(self.memory.lists),
                      remembered=remembered if found.packing or remembered.nothing else None)

    def open(self, medium: Medium, access: Access) -> FileBlocks:
        """See Slot."""
        return open_image(medium.path, writable=access == Access.WRITE)


@dataclass(frozen=True)
class _Found:
    """What a file turned out to be: bytes of the disk in it, the container as people write it, how it is packed.

    `name` is of a kept card, with its date.
    """

    size: int
    kind: str = ""
    packing: Packing | None = None
    name: str = ""
    is_size_known: bool = True


@lru_cache(64)
def _disk_at(path: Path, member: str, size: int, _changed: int, remembered: Remembered, _way: int) -> _Found:
    try:
        with disk_in(open_image(path), member, remembered, Reach()) as disk:
            suppose_size(disk)
            packed = packed_in(disk)
            inner = disk.kind if isinstance(disk, ContainedDisk) and disk is not packed else ""
            kinds = [*filter(None, (inner,)), *((packed.packing.sentence,) if packed else ())]
            kept = kept_in(disk)
            about = kept.manifest.about if kept else None
            return _Found(disk.size, " in ".join(kinds), packed.packing if packed else None,
                          f"{about.card.name}, {about.kept_at[:10]}" if about else "",
                          packed is None or packed.is_size_known)
    except (MediumError, NotReadYet):
        return _Found(size)                  # what is wrong is said when somebody opens it


def file_on(path: Path) -> Path | None:
    """The file or device that a path leads to, or the file into which it leads on, as into a folder; None for none.

    Raises MediumError where that may not be seen.
    """
    try:
        if path.exists():
            return None if path.is_dir() else path
        return next((parent for parent in path.parents if parent.is_file()), None)
    except OSError as error:
        raise MediumError(f"{path} cannot be reached: {error.strerror}.") from error


def _what_is(path: Path) -> str:
    """What stands at a path that is no file."""
    try:
        mode = path.stat().st_mode
    except OSError as error:
        return f"out of reach ({error.strerror})"
    return {stat.S_IFDIR: "a folder", stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket",
            stat.S_IFCHR: "a device that holds nothing"}.get(stat.S_IFMT(mode), "no ordinary file")


def _stem(name: str) -> str:
    """A name without the endings that say how it is packed."""
    path = Path(name)
    while path.suffix and len(path.suffix) <= 8 and not path.suffix[1:].isspace() and path.stem:
        path = Path(path.stem)
    return path.name


def may_be_written(path: Path) -> bool:
    """Whether somebody may write to a file by its own permission bits, which also bind those who could pass over them.
    """
    return bool(path.stat().st_mode & _WRITE_BITS) and os.access(path, os.W_OK)
