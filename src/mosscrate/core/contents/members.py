"""Single files in archives of this computer, said as ARCHIVE//NAME: their sizes, times and bytes."""

from __future__ import annotations

import lzma
import os
import re
import tarfile
import threading
import time
import weakref
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache
from pathlib import Path, PurePosixPath
from stat import S_ISLNK
from tempfile import TemporaryFile

from mosscrate.core.blocks import Blocks, FileBlocks
from mosscrate.core.errors import MediumError
from mosscrate.core.images.packing import ARCHIVES
from mosscrate.core.images.packing.members import Member as Listed
from mosscrate.core.images.packing.members import Wrapping
from mosscrate.core.images.packing.parts import head_of, join_with, may_be_part
from mosscrate.core.images.packing.seven_zip_rar import InOrder
from mosscrate.core.images.packing.zip import IS_ENCRYPTED, name_of
from mosscrate.core.sizes import binary

BETWEEN = "//"
PIECE = 1 << 20
FIRST = 512
DAMAGES = (OSError, zipfile.BadZipFile, tarfile.TarError, NotImplementedError, ValueError, EOFError, RuntimeError,
           zlib.error, lzma.LZMAError)
MOST = 1_000_000                         # members of an archive that are looked at
OTHERS = ("7z", "rar", "tar")
IN_ORDER = ("7z", "rar")                 # kinds whose members are best read as they lie
PACKED_TARS = (".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz")
MOST_COPIED = 4 << 30                    # bytes of an archive in an archive that is looked into
HELD = 4                                 # archives that stay open, so that their lists are read once


@dataclass(frozen=True)
class Member:
    """A file in an archive; `size` as its directory says, bytes beyond that are an error.

    One in an archive that lies in an archive itself is called INNER//NAME.

    `crc` is the CRC-32 of its bytes, where the archive's directory has it; `number` is its place in an archive that is
    best read in order, 0 in all others.
    """

    archive: Path
    name: str
    size: int
    modified: int
    crc: int | None = None
    number: int = 0
    within: str = ""                                          # of one in an INNER archive, that one
    held: _Archive | None = field(default=None, repr=False, compare=False)

    @property
    def path(self) -> str:
        """As it is said in a sheet."""
        return f"{self.archive}{BETWEEN}{self.name}"

    @property
    def own_name(self) -> str:
        """As the archive calls it in which it lies."""
        return self.name.removeprefix(f"{self.within}{BETWEEN}") if self.within else self.name

    def read(self) -> Iterator[bytes]:
        """Its bytes in pieces. Raises MediumError where they are damaged, or others than its directory says."""
        held, left = self.held or _holding(self), self.size
        for piece in held.pieces(self.own_name, self.size):
            left -= len(piece)
            if left < 0:
                break
            yield piece
        if left:
            raise MediumError(f"“{self.name}” in {self.archive.name} is not as long as its directory says.")

    def first(self, count: int) -> bytes:
        """Its first bytes, fewer where it ends before. Raises MediumError."""
        pieces, found = self.read(), b""
        while len(found) < min(count, self.size):
            found += next(pieces, b"")
        return found[:count]


def is_archive(path: Path | PurePosixPath) -> bool:
    """Whether a file is an archive, or the first part of one, by its ending."""
    return _ending_of(path) in ("zip", *OTHERS) or path.name.casefold().endswith(PACKED_TARS)


def archive_of(path: Path) -> Path | None:
    """The file by which the archive goes that a file is, or is a part of; None for other files.

    Raises MediumError where a part is missing.
    """
    is_numbered = path.suffix[1:].isdecimal()
    return head_of(path) if is_archive(path) or (not is_numbered and may_be_part(path)) else None


def _ending_of(path: Path | PurePosixPath) -> str:
    """Its ending; of a part with a number, the one in front of that."""
    whole = path.with_suffix("") if path.suffix[1:].isdecimal() else path
    return whole.suffix[1:].casefold()


def is_member(text: str) -> bool:
    """Whether a path means a file in an archive."""
    return BETWEEN in text


def member_at(text: str) -> Member:
    """The file that ARCHIVE//NAME means. Raises MediumError."""
    archive, _, name = text.partition(BETWEEN)
    found = _found(_archive(Path(archive)).by_name, name)
    if found is None:
        raise MediumError(f"There is no “{name}” in {archive}. Nothing was changed.")
    return found


def _found(known: Mapping[str, Member], name: str) -> Member | None:
    """A member of an archive, or of one that lies in it."""
    if name in known:
        return known[name]
    ends = (found.start() for found in re.finditer(BETWEEN, name))
    inner = (known[name[:end]] for end in ends if name[:end] in known)
    return next((found for each in inner if is_archive(Path(each.name))
                 and (found := _found(_unpacked(each).by_whole_name, name)) is not None), None)


def members(archive: Path) -> list[Member]:
    """The files of an archive, encrypted ones and links left out. Raises MediumError where it cannot be read."""
    return list(_archive(archive).by_name.values())


def members_within(member: Member) -> list[Member]:
    """The same of an archive that is a member itself."""
    return list(_unpacked(member).by_whole_name.values())


class _Archive:
    """An archive that stays open; where it is a member of another one, `path` is its unpacked copy."""

    def __init__(self, path: Path, holder: Member | None = None) -> None:
        self.path, self._holder = path, holder
        self.called = holder.name.rpartition("/")[2] if holder else path.name

    @cached_property
    def by_whole_name(self) -> dict[str, Member]:
        """The members of an archive that is one itself, as the outermost archive's."""
        assert self._holder is not None, "it lies in another one"
        outer, found = self._holder, dict[str, Member]()
        for each in self.by_name.values():
            name = f"{outer.name}{BETWEEN}{each.name}"
            found[name] = replace(each, archive=outer.archive, name=name, within=outer.name, held=None)
        return found

    @cached_property
    def by_name(self) -> dict[str, Member]:
        raise NotImplementedError

    def pieces(self, name: str, size: int) -> Iterator[bytes]:
        raise NotImplementedError


class _Zip(_Archive):
    @cached_property
    def by_name(self) -> dict[str, Member]:
        return {name: Member(self.path, name, info.file_size, _seconds(info.date_time), info.CRC, held=self)
                for name, info in self._listed.items()}

    @cached_property
    def _listed(self) -> dict[str, zipfile.ZipInfo]:
        return {name_of(info): info for info in self._packed.infolist()[:MOST]
                if not info.is_dir() and not info.flag_bits & IS_ENCRYPTED and not S_ISLNK(info.external_attr >> 16)}

    @cached_property
    def _packed(self) -> zipfile.ZipFile:
        with _damage_told(self.called):
            return zipfile.ZipFile(self.path)

    def pieces(self, name: str, size: int) -> Iterator[bytes]:
        with _damage_told(self.called), self._packed.open(self._listed[name]) as file:
            left = size
            while piece := file.read(min(PIECE, left + 1)):
                left -= len(piece)
                yield piece
                if left < 0:
                    return


class _Other(_Archive):
    def __init__(self, path: Path, holder: Member | None = None) -> None:
        super().__init__(path, holder)
        self._of_thread = threading.local()

    @cached_property
    def by_name(self) -> dict[str, Member]:
        modified = int(self.path.stat().st_mtime)
        return {each.name: Member(self.path, each.name, each.size, modified, None,
                                  number if self._is_in_order else 0, held=self)
                for number, each in enumerate(self._listed[:MOST]) if each.size is not None}

    @cached_property
    def _is_in_order(self) -> bool:
        return self._kind.kind in IN_ORDER

    @cached_property
    def _listed(self) -> list[Listed]:
        with _damage_told(self.called):
            return list(self._kind.members(self._blocks))

    @cached_property
    def _by_its_name(self) -> dict[str, Listed]:
        """Of several that have one name the last: it is what unpacking all of it leaves."""
        return {each.name: each for each in self._listed}

    @cached_property
    def _kind(self) -> Wrapping:
        blocks = self._blocks
        kind = next((each for each in ARCHIVES if each.probe(blocks.read(0, min(FIRST, blocks.size)))), None)
        if kind is None:
            raise MediumError(f"{self.called} cannot be unpacked: it is no archive, or damaged at its front.")
        return kind

    @cached_property
    def _blocks(self) -> Blocks:
        with _damage_told(self.called):
            blocks = join_with(FileBlocks(os.open(self.path, os.O_RDONLY | os.O_CLOEXEC), self.path, writable=False))
        weakref.finalize(self, blocks.close)
        return blocks

    def _in_order(self) -> InOrder:
        """One for each thread: what they read lies at different places."""
        if not hasattr(self._of_thread, "reader"):
            self._of_thread.reader = InOrder(self._blocks)
        reader: InOrder = self._of_thread.reader
        return reader

    def pieces(self, name: str, size: int) -> Iterator[bytes]:
        with _damage_told(self.called):
            if self._is_in_order:
                try:
                    yield from self._in_order().read(self.by_name[name].number, size, PIECE)
                except DAMAGES:
                    self._in_order().close()
                    raise
                return
            blocks = self._by_its_name[name].open()
            for at in range(0, size, PIECE):
                yield blocks.read(at, min(PIECE, size - at))


class _PackedTar(_Archive):
    """A tar that is packed as a whole: its members are read as they lie, each thread on its own."""

    def __init__(self, path: Path, holder: Member | None = None) -> None:
        super().__init__(path, holder)
        self._of_thread = threading.local()

    @cached_property
    def by_name(self) -> dict[str, Member]:
        with _damage_told(self.called):
            return {info.name: Member(self.path, info.name, info.size, int(info.mtime), None, number, held=self)
                    for number, info in enumerate(self._opened().getmembers()[:MOST], start=1) if info.isfile()}

    def _opened(self) -> tarfile.TarFile:
        if not hasattr(self._of_thread, "tar"):
            self._of_thread.tar = tarfile.open(self.path, "r:*")   # noqa: SIM115 - it stays open, as the others do
            weakref.finalize(self, self._of_thread.tar.close)
        tar: tarfile.TarFile = self._of_thread.tar
        return tar

    def pieces(self, name: str, size: int) -> Iterator[bytes]:
        with _damage_told(self.called):
            tar = self._opened()
            file = tar.extractfile(tar.getmember(name))
            while file is not None and (piece := file.read(min(PIECE, size + 1))):
                yield piece


def _archive(path: Path) -> _Archive:
    try:
        status = path.stat()
    except OSError as error:
        raise MediumError(f"{path} cannot be read: {error.strerror}. Nothing was changed.") from error
    return _held(path, status.st_mtime_ns, status.st_size, status.st_ino)


@lru_cache(maxsize=HELD)
def _held(path: Path, _changed: int, _size: int, _node: int) -> _Archive:
    kind = _kind_of(path.name)
    return _Other(path) if kind is _Zip and may_be_part(path) else kind(path)


def _holding(member: Member) -> _Archive:
    """The archive in which a member lies that does not hold it itself."""
    outer = _archive(member.archive)
    if not member.within:
        return outer
    holder = _found(outer.by_name, member.within)
    if holder is None:
        raise MediumError(f"There is no “{member.within}” in {member.archive} any more.")
    return _unpacked(holder)


class _Copy:
    """The bytes of an archive that is a member of another one, in a file without a name: a kill leaves none behind."""

    def __init__(self, member: Member) -> None:
        if member.size > MOST_COPIED:
            raise MediumError(f"“{member.name}” is an archive in an archive, and larger than {binary(MOST_COPIED)}: "
                              "unpack it first.")
        try:
            self.file = TemporaryFile()                       # noqa: SIM115 - it is closed with this
            for piece in member.read():
                self.file.write(piece)
            self.file.flush()
        except OSError as error:
            raise MediumError(f"“{member.name}” cannot be unpacked to be looked into: {error.strerror}.") from error
        self.path = Path(f"/proc/self/fd/{self.file.fileno()}")


def _unpacked(member: Member) -> _Archive:
    """An archive that is a member of another one, opened. Raises MediumError."""
    status = member.archive.stat()
    return _held_copy(replace(member, held=None), status.st_mtime_ns, status.st_size, status.st_ino)


@lru_cache(maxsize=HELD)
def _held_copy(member: Member, _changed: int, _size: int, _node: int) -> _Archive:
    copy = _Copy(member)
    made = _kind_of(member.name.rpartition("/")[2])(copy.path, member)
    weakref.finalize(made, copy.file.close)
    return made


def _kind_of(name: str) -> type[_Archive]:
    if name.casefold().endswith(PACKED_TARS):
        return _PackedTar
    return _Other if _ending_of(Path(name)) in OTHERS else _Zip


@contextmanager
def _damage_told(archive: str) -> Iterator[None]:
    try:
        yield
    except DAMAGES as error:
        raise MediumError(f"{archive} cannot be unpacked: {error}") from error


def _seconds(date: tuple[int, int, int, int, int, int]) -> int:
    try:
        return int(time.mktime((*date, 0, 0, -1)))
    except (OverflowError, ValueError):
        return 0
