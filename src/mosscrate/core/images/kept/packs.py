"""The packs of a crate: where each chunk lies, by its name, and its bytes.

The tables at the ends of packs are read once for each pack; a pack without a sound end is gone through frame by frame.
"""

from __future__ import annotations

import mmap
import os
import threading
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

import numpy as np
from backports import zstd
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.blocks.runs import distinct
from mosscrate.core.errors import CrateError
from mosscrate.core.images.kept.frames import (
    FRAME,
    FRAME_MAGIC,
    LONGEST_CHUNK,
    NAME,
    PACK_END,
    PACK_HEAD,
    PACK_MAGIC,
    PLACE_BITS,
    ROW,
    TABLE_MAGIC,
    ZSTD,
    check_of,
)
from mosscrate.core.there import entries

OPEN_AT_ONCE = 64
PREFIX = np.dtype(">u8")                 # the first bytes of a name, as they sort
Names = NDArray[np.uint8]                # shape (n, 32)


@dataclass(frozen=True)
class Found:
    """Where a chunk lies: pack, byte of its frame, codec, bytes as they are stored and as they are."""

    pack: Path
    offset: int
    codec: int
    stored: int
    raw: int


class _Index(NamedTuple):
    """Every row of every table, by its name; exchanged whole, so that nobody sees half of a new one.

    Attributes:
        paths: packs.
        rows: ROW, pack by pack.
        starts: the first row of each pack.
        prefixes: first bytes of the names, ascending.
        order: the row of each of these.
    """

    paths: tuple[Path, ...]
    rows: NDArray[np.void]
    starts: NDArray[np.int64]
    prefixes: NDArray[np.uint64]
    order: NDArray[np.int32]

    def pack_of(self, row: int) -> Path:
        """The pack that a row is of."""
        return self.paths[int(self.starts.searchsorted(row, side="right")) - 1]

    def with_packs(self, paths: list[Path], tables: list[NDArray[np.void]]) -> _Index:
        """The index with more packs and their tables, which are let go of while they are put together."""
        tables.insert(0, self.rows)
        ends = np.cumsum([len(table) for table in tables])
        rows, at = np.empty(int(ends[-1]), ROW), 0
        while tables:
            table = tables.pop(0)
            rows[at:at + len(table)] = table
            at += len(table)
        prefixes = prefixes_of(rows.view(np.uint8).reshape(-1, ROW.itemsize))
        order = np.argsort(prefixes, kind="stable").astype(np.int32)
        return _Index((*self.paths, *paths), rows, np.concatenate([self.starts, ends[:-1]]), prefixes[order], order)


_NOTHING = _Index((), np.zeros(0, ROW), np.zeros(0, np.int64), np.zeros(0, np.uint64), np.zeros(0, np.int32))


class Packs:
    """All packs below the folder of a crate."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = threading.Lock()
        self._known: dict[Path, int] = {}                 # bytes of each
        self._index = _NOTHING
        self._files: OrderedDict[Path, int] = OrderedDict()
        self.unread: dict[Path, str] = {}                 # packs and folders of such, and why

    def refresh(self) -> None:
        """Take in packs that are new, here or from another computer, and forget those that are gone or were cut.

        What cannot be read is passed over and asked again the next time: `unread` says so until then.
        """
        with self._lock:
            self.unread = {}
            there = self._there()
            if any(there.get(path) != size for path, size in self._known.items()):
                self._known, self._index = {}, _NOTHING
                while self._files:
                    os.close(self._files.popitem()[1])
            paths, tables = list[Path](), list[NDArray[np.void]]()
            for path in sorted(there.keys() - self._known.keys()):
                try:
                    tables.append(table_of(path))
                    paths.append(path)
                except FileNotFoundError:
                    continue
                except OSError as error:
                    self.unread[path] = error.strerror or str(error)
            if paths:
                self._index = self._index.with_packs(paths, tables)
                self._known |= {path: there[path] for path in paths}

    def _there(self) -> dict[Path, int]:
        """Bytes of each pack; of a folder or pack that cannot be asked, it is noted why."""
        found = dict[Path, int]()
        try:
            folders = entries(self.folder / "packs")
        except OSError as error:
            raise CrateError(f"The crate {self.folder} cannot be read: {error.strerror}.") from error
        for folder in folders:
            try:
                paths = entries(folder, ".pack")
            except OSError as error:
                self.unread[folder] = error.strerror or str(error)
                continue
            for path in paths:
                try:
                    found[path] = path.stat().st_size
                except FileNotFoundError:
                    continue
                except OSError as error:
                    self.unread[path] = error.strerror or str(error)
        return found

    def __len__(self) -> int:
        return len(self._index.rows)

    def find(self, name: bytes) -> Found | None:
        """Where a chunk lies, as far as was taken in."""
        return next(self.all_of(name), None)

    def all_of(self, name: bytes) -> Iterator[Found]:
        """Everywhere where it lies."""
        index, prefix = self._index, np.frombuffer(name[:8], PREFIX)[0].astype(np.uint64)
        at = int(np.searchsorted(index.prefixes, prefix))
        while at < len(index.prefixes) and index.prefixes[at] == prefix:
            number = int(index.order[at])
            row = index.rows[number]
            if row["name"].tobytes() == name:
                place = int(row["place"])
                yield Found(index.pack_of(number), place & ((1 << PLACE_BITS) - 1), place >> PLACE_BITS,
                            int(row["stored"]), int(row["raw"]))
            at += 1

    def has(self, names: Names) -> NDArray[np.bool_]:
        """Which of many names are there; shape (n,)."""
        index = self._index
        if not len(index.rows) or not len(names):
            return np.zeros(len(names), bool)
        wanted = prefixes_of(names)
        at = np.minimum(np.searchsorted(index.prefixes, wanted), len(index.rows) - 1)
        same: NDArray[np.bool_] = (names_of(index.rows["name"][index.order[at]]) == names).all(axis=1)
        for number in np.flatnonzero(~same & (index.prefixes[at] == wanted)).tolist():      # names that begin alike
            same[number] = self.find(names[number].tobytes()) is not None
        return same

    def holders(self, names: Names) -> list[Path]:
        """Packs in which chunks lie that are there; of a chunk that lies in several, one of them."""
        index = self._index
        if not len(index.rows) or not len(names):
            return []
        at = np.minimum(np.searchsorted(index.prefixes, prefixes_of(names)), len(index.rows) - 1)
        packs = distinct(index.starts.searchsorted(index.order[at], side="right") - 1)
        return [index.paths[number] for number in packs.tolist()]

    def read(self, name: bytes) -> bytes:
        """The bytes of a chunk, proven by its name. Raises CrateError that says what is wrong with it."""
        try:
            return self._read(name)
        except CrateError:
            self.refresh()                                # its pack may have been exchanged for another one
            return self._read(name)

    def _read(self, name: bytes) -> bytes:
        wrong = "it is in no pack" + "".join(
            f"; {path.name} cannot be read ({why})" for path, why in [*self.unread.items()][:1])
        for found in self.all_of(name):
            try:
                data = self._unpacked(found)
            except (OSError, zstd.ZstdError, ValueError) as error:
                wrong = str(error)
                continue
            if blake3(data).digest() == name:
                return data
            wrong = f"{found.pack.name} holds something else at byte {found.offset:,}"
        raise CrateError(f"Chunk {name.hex()[:12]} cannot be read: {wrong}.")

    def can_be_read(self, name: bytes, *, but: Path) -> bool:
        """Whether a chunk can be read from another pack than one. Raises OSError."""
        for found in self.all_of(name):
            if found.pack != but:
                with suppress(zstd.ZstdError, ValueError):
                    if blake3(self._unpacked(found)).digest() == name:
                        return True
        return False

    def close(self) -> None:
        """Let go of files; they are opened again when they are wanted."""
        with self._lock:
            while self._files:
                os.close(self._files.popitem()[1])

    def _unpacked(self, found: Found) -> bytes:
        if found.raw > LONGEST_CHUNK or found.stored > LONGEST_CHUNK:
            raise ValueError(f"{found.pack.name} names a chunk that is too long")
        with self._lock:
            fd = self._file(found.pack)
            start = found.offset + FRAME.itemsize
            data = os.pread(fd, found.stored, start)
        if len(data) != found.stored:
            raise ValueError(f"{found.pack.name} is cut")
        return zstd.ZstdDecompressor().decompress(data, found.raw + 1) if found.codec == ZSTD else data

    def _file(self, path: Path) -> int:
        fd = self._files.pop(path, -1)
        if fd < 0:
            fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        self._files[path] = fd
        if len(self._files) > OPEN_AT_ONCE:
            os.close(self._files.popitem(last=False)[1])
        return fd


@lru_cache(8)
def packs_of(folder: Path) -> Packs:
    """The packs of a crate; what was taken in of them stays known while the program runs."""
    return Packs(folder)


def table_of(path: Path) -> NDArray[np.void]:
    """What is in a pack, as ROW: as its table says, else as its frames say. Raises OSError."""
    with path.open("rb") as file:
        size = os.fstat(file.fileno()).st_size
        rows = _table_at_end(file.fileno(), size)
        return rows if rows is not None else _walked(file.fileno(), size)


def sound_table(path: Path) -> NDArray[np.void] | None:
    """What the table at the end of a pack says, as ROW; None where it is not as it was written. Raises OSError."""
    with path.open("rb") as file:
        return _table_at_end(file.fileno(), os.fstat(file.fileno()).st_size)


def _table_at_end(fd: int, size: int) -> NDArray[np.void] | None:
    """None where the end is not sound."""
    if size < PACK_HEAD.itemsize + PACK_END.itemsize:
        return None
    data = os.pread(fd, PACK_END.itemsize, size - PACK_END.itemsize)
    end = np.frombuffer(data, PACK_END, 1)[0]
    if end["magic"].tobytes() != TABLE_MAGIC or check_of(data[:-8]) != end["check"].tobytes():
        return None
    start, length = int(end["table"]), int(end["rows"]) * ROW.itemsize
    if start + length != size - PACK_END.itemsize:
        return None
    table = os.pread(fd, length, start)
    return np.frombuffer(table, ROW) if blake3(table).digest() == end["digest"].tobytes() else None


def _walked(fd: int, size: int) -> NDArray[np.void]:
    """From frame to frame; after one whose head is damaged the next sound one is looked for."""
    if size < PACK_HEAD.itemsize or os.pread(fd, 8, 0) != PACK_MAGIC:
        return np.zeros(0, ROW)
    rows, at = [], PACK_HEAD.itemsize
    with mmap.mmap(fd, size, prot=mmap.PROT_READ) as data:
        while 0 <= at <= size - FRAME.itemsize:
            head = data[at:at + FRAME.itemsize]
            frame = np.frombuffer(head, FRAME, 1)[0]
            stored, raw = int(frame["stored"]), int(frame["raw"])
            is_sound = head[:4] == FRAME_MAGIC and check_of(head[:-4], 4) == frame["head_check"].tobytes()
            if not is_sound or at + FRAME.itemsize + stored > size or raw > LONGEST_CHUNK:
                at = data.find(FRAME_MAGIC, at + 1)
                continue
            rows.append((frame["name"], at | int(frame["codec"]) << PLACE_BITS, stored, raw))
            at += FRAME.itemsize + stored
    return np.array(rows, ROW)


def names_of(column: NDArray[np.void]) -> Names:
    """The names of ROW rows, as rows of bytes."""
    return np.ascontiguousarray(column).view(np.uint8).reshape(-1, NAME)


def prefixes_of(names: Names) -> NDArray[np.uint64]:
    """The first bytes of names, as they sort."""
    return np.ascontiguousarray(names[:, :8]).view(PREFIX).reshape(-1).astype(np.uint64)


def as_names(names: Iterable[bytes]) -> Names:
    """Names as rows."""
    return np.frombuffer(b"".join(names), np.uint8).reshape(-1, NAME)
