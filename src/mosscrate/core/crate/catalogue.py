"""An index of what a crate holds, so that looking for a file opens no backup.

It says nothing that the crate does not: it may be deleted at any time; a damaged one is, and is made again. A file that
many backups hold stands in it once; each backup has the numbers of its files.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple, TypeAlias, TypeVar

import msgspec
import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.crate.record import BackupRecord
from mosscrate.core.errors import CrateError

FORMAT = 2
AT_ONCE = 30_000                         # values in one question
SCHEMA = """
create table backups (path text primary key, stamp text not null, record blob, files blob);
create table files (id integer primary key, partition integer, path blob, folded text, stem text, kind text,
                    size integer, modified integer, contents blob);
create index by_stem on files (stem);
create index saves on files (kind) where kind = 'save';
"""
COLUMNS = "id, partition, path, kind, size, modified, contents"
Numbers: TypeAlias = NDArray[np.int64]
NONE = np.zeros(0, np.int64)
T = TypeVar("T")
_RECORDS = msgspec.msgpack.Decoder(BackupRecord)


class Row(NamedTuple):
    """A file as the catalogue has it; `modified` in seconds since 1970, `contents` by what they are known again."""

    partition: int
    path: str
    kind: str
    size: int
    modified: int | None
    contents: bytes

    @property
    def number(self) -> int:
        """The same for the same file, 63 bits."""
        own = msgspec.msgpack.encode(self._replace(path=_bytes(self.path).hex()))
        return int.from_bytes(blake3(own).digest(8), "little") >> 1


@dataclass(frozen=True)
class Listed:
    """The file that stands for a backup, and what is another when it changes."""

    path: Path
    stamp: str


@dataclass
class Catalogue:
    """Where it lies; None keeps it in memory. Safe to use from several threads and by several programs."""

    path: Path | None = None
    _lock: threading.RLock = field(default_factory=threading.RLock, repr=False)
    _open: sqlite3.Connection | None = field(default=None, repr=False)
    _numbers: dict[Listed, Numbers] = field(default_factory=dict, repr=False)

    def records(self, listed: Iterable[Listed], read: Callable[[Path], BackupRecord]) -> dict[Path, BackupRecord]:
        """Records of backups, read where they are not known or have changed.

        `read` raises CrateError where a record cannot be used; it is left out then.
        """
        known = self._ask(lambda db: {(path, stamp): record for path, stamp, record in db.execute(
            "select path, stamp, record from backups where record is not null")})
        found, new = dict[Path, BackupRecord](), list[tuple[Listed, BackupRecord]]()
        for one in listed:
            packed = known.pop((str(one.path), one.stamp), b"")
            with suppress(ValueError):
                found[one.path] = _RECORDS.decode(packed)
                continue
            with suppress(CrateError):
                found[one.path] = read(one.path)
                new.append((one, found[one.path]))
        if new or known:
            self._change(lambda db: _put_records(db, new, list(known)))
        return found

    def note(self, listed: Listed, read: Callable[[], Sequence[Row]]) -> None:
        """See to it that the files of a backup are in it. Raises what reading them raises."""
        if listed in self._numbers:
            return
        where = (str(listed.path), listed.stamp)
        held = self._ask(lambda db: db.execute("select files from backups where path = ? and stamp = ?",
                                               where).fetchone())
        if held is None or held[0] is None or len(held[0]) % 8:
            rows = read()
            numbers = np.array([row.number for row in rows], "<i8")
            self._change(lambda db: _put_files(db, listed, rows, numbers))
            self._numbers[listed] = numbers
        else:
            self._numbers[listed] = np.frombuffer(held[0], "<i8")

    def held_by(self, listed: Listed) -> Numbers:
        """Of the files of a backup that was noted, in its order; none where it has changed since."""
        return self._numbers.get(listed, NONE)

    def named(self, words: Sequence[str]) -> dict[int, Row]:
        """Files whose path holds all of some words, by their numbers."""
        return self._rows(" and ".join(["instr(folded, ?)"] * len(words)) or "1", [word.casefold() for word in words])

    def called(self, stem: str, kind: str) -> dict[int, Row]:
        """Files of a kind with a name without folder and ending, by their numbers."""
        return self._rows("stem = ? and kind = ?", [stem, kind])

    def of_sizes(self, sizes: Sequence[int]) -> dict[int, Row]:
        """Files of some sizes, by their numbers."""
        return self._rows(f"size in ({','.join('?' * len(sizes))})", list(sizes))

    def saves(self) -> dict[int, Row]:
        """All saves by their numbers."""
        return self._rows("kind = 'save'", [])

    def rows(self, numbers: Numbers) -> dict[int, Row]:
        """Files by their numbers."""
        found, wanted = dict[int, Row](), np.unique(numbers).tolist()
        for at in range(0, len(wanted), AT_ONCE):
            part = wanted[at:at + AT_ONCE]
            found |= self._rows(f"id in ({','.join('?' * len(part))})", part)
        return found

    def contents(self, numbers: Numbers) -> set[bytes]:
        """By what the contents of some files are known again."""
        wanted = set(numbers.tolist())
        return self._ask(lambda db: {what for number, what in db.execute("select id, contents from files")
                                     if number in wanted})

    def _rows(self, where: str, values: Sequence[Any]) -> dict[int, Row]:
        question = f"select {COLUMNS} from files where {where}"           # conditions are ours, values are bound
        return self._ask(lambda db: {number: Row(partition, _text(path), kind, size, modified, contents) for
                                     number, partition, path, kind, size, modified, contents
                                     in db.execute(question, values)})

    def _change(self, work: Callable[[sqlite3.Connection], T]) -> T:
        def within(db: sqlite3.Connection) -> T:
            with _transaction(db):
                return work(db)
        return self._ask(within)

    def _ask(self, work: Callable[[sqlite3.Connection], T]) -> T:
        """Do some work; on a catalogue that is damaged, again on a new one, at last in memory."""
        with self._lock:
            for _ in range(2):
                with suppress(sqlite3.Error, OSError):
                    return work(self._connection())
                self._begin_again()
            self.path = None
            return work(self._connection())

    def _connection(self) -> sqlite3.Connection:
        if self._open is None:
            self._open = _opened(self.path)
        return self._open

    def _begin_again(self) -> None:
        if self._open is not None:
            self._open.close()
        self._open, self._numbers = None, {}
        if self.path is not None:
            with suppress(OSError):
                self.path.unlink(missing_ok=True)


def stem_of(path: str) -> str:
    """A name without its folder and ending, as different programs write it."""
    last = path.rpartition("/")[2].casefold()
    return last.rpartition(".")[0] or last


def _opened(path: Path | None) -> sqlite3.Connection:
    if path is not None:
        path.parent.mkdir(parents=True, exist_ok=True)
    db = sqlite3.connect(path or ":memory:", timeout=30, isolation_level=None, check_same_thread=False)
    try:
        db.execute("pragma synchronous = off")            # it can be made again
        if db.execute("pragma user_version").fetchone()[0] != FORMAT:
            with _transaction(db):
                _lay_out(db)
    except sqlite3.Error:
        db.close()
        raise
    return db


def _lay_out(db: sqlite3.Connection) -> None:
    if db.execute("pragma user_version").fetchone()[0] == FORMAT:
        return                                            # another program has just done it
    for (name,) in db.execute("select name from sqlite_master where type = 'table'").fetchall():
        db.execute(f'drop table "{name}"')
    for line in filter(str.strip, SCHEMA.split(";")):
        db.execute(line)
    db.execute(f"pragma user_version = {FORMAT}")


@contextmanager
def _transaction(db: sqlite3.Connection) -> Iterator[None]:
    db.execute("begin immediate")
    try:
        yield
    except BaseException:
        db.execute("rollback")
        raise
    db.execute("commit")


def _put_records(db: sqlite3.Connection, new: list[tuple[Listed, BackupRecord]], gone: list[tuple[str, str]]) -> None:
    """Of backups that are new or another; those that are gone go."""
    db.executemany("delete from backups where path = ? and stamp = ?", gone)
    db.executemany("insert into backups (path, stamp, record) values (?1, ?2, ?3) on conflict (path) do update set "
                   "files = iif(stamp = ?2, files, null), stamp = ?2, record = ?3",
                   [(str(one.path), one.stamp, msgspec.msgpack.encode(record)) for one, record in new])


def _put_files(db: sqlite3.Connection, listed: Listed, rows: Sequence[Row], numbers: Numbers) -> None:
    db.executemany("insert or ignore into files values (?, ?, ?, ?, ?, ?, ?, ?, ?)", (
        (number, row.partition, _bytes(row.path), _bytes(row.path).decode(errors="replace").casefold(),
         _bytes(stem_of(row.path)).decode(errors="replace"), row.kind, row.size, row.modified, row.contents)
        for number, row in zip(numbers.tolist(), rows, strict=True)))
    db.execute("insert into backups (path, stamp, files) values (?1, ?2, ?3) on conflict (path) do update set "
               "record = iif(stamp = ?2, record, null), stamp = ?2, files = ?3",
               (str(listed.path), listed.stamp, numbers.tobytes()))


def _bytes(path: str) -> bytes:
    """Names of cards need not be text."""
    return path.encode("utf-8", "surrogateescape")


def _text(path: bytes) -> str:
    return path.decode("utf-8", "surrogateescape")
