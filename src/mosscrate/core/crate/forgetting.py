"""Forgetting a backup, and giving back the room of chunks that no other one needs.

Forgetting removes a list. Giving room back copies what is still needed of half-empty packs into a new one, takes their
names away, and removes them only if nobody has begun to keep anything meanwhile: who keeps puts a lease before he looks
which packs there are, so he sees either the old pack under its name or none of it.
"""

from __future__ import annotations

import errno
import fcntl
import os
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.crate.checking import manifest_at
from mosscrate.core.crate.crate import Backup, Crate
from mosscrate.core.crate.leases import at_work
from mosscrate.core.crate.library import KeptFile, all_contents, files_in
from mosscrate.core.crate.packing import PackWriter
from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError, InUse
from mosscrate.core.images.kept.frames import ROW
from mosscrate.core.images.kept.packs import Packs, names_of, prefixes_of, sound_table, table_of
from mosscrate.core.images.kept.proving import prove_pack, stored_chunks
from mosscrate.core.there import below, is_there
from mosscrate.core.watch import Watch

DEAD = 1 / 3                             # share of a pack from which on it is worth copying the rest
MAY_STAY = 0.1                           # share of the crate that may be dead
NO_LOCKS = (errno.ENOLCK, errno.ENOTSUP, errno.ENOSYS, errno.EINVAL)
DOOMED = ".doomed"                       # instead of .pack, between taking its name away and removing it


@dataclass(frozen=True)
class GivenBack:
    """Bytes of packs that were removed, and of those that were made for what is still needed."""

    removed: int
    copied: int

    @property
    def freed(self) -> int:
        """Bytes that the disk has again."""
        return self.removed - self.copied


def only_in_these(backups: Sequence[Backup], crate: Crate) -> list[KeptFile]:
    """Files of some backups whose contents no other one holds, each contents once.

    Raises CrateError, FormatError where one of them cannot be read.
    """
    others = all_contents(crate, but=backups)
    found = {file.contents: file for backup in backups for file in files_in(backup)
             if file.contents and file.contents not in others}
    return list(found.values())


def forget(backup: Backup) -> None:
    """Take a backup off the crate. Raises CrateError; its room is given back by `give_back`."""
    try:
        if not backup.is_in_chunks:
            backup.path.with_suffix(".json").unlink(missing_ok=True)
        backup.path.unlink()
        sync_folder(backup.path.parent)
    except OSError as error:
        raise CrateError(f"The backup {backup.path.stem} cannot be removed: {error.strerror}.") from error


def give_back(crate: Path, watch: Watch) -> GivenBack:
    """Remove what no backup needs; packs of which nothing is needed go first, they ask for no room of their own.

    Raises:
        InUse: somebody keeps a card in it; nothing was removed.
        CrateError: something cannot be read, so that nobody knows what is needed, or what is needed cannot be copied.
            Nothing that any backup needs was removed.
        Stopped: likewise.
    """
    with _alone_in(crate):
        lists = _lists(crate)
        rooms = _rooms_in(crate, lists)
        dead = {path for path, room in rooms.items() if room.stored and room.dead == room.stored}
        removed = _remove(sorted(dead), lambda: _must_be_unchanged(crate, lists))
        rooms = {path: room for path, room in rooms.items() if path not in dead}
        try:
            copied = _copy_and_remove(crate, lists, rooms, _worth_it(rooms), watch)
        except _NoRoom:
            if not removed:
                raise
            return GivenBack(removed, 0)
        return GivenBack(removed + copied.removed, copied.copied)


def put_away(crate: Path, damaged: Collection[Path], watch: Watch) -> bool:
    """Copy what is needed and sound out of damaged packs and remove them, where nothing is needed that is nowhere else.

    Returns whether all of them are gone. Raises what `give_back` does.
    """
    with _alone_in(crate):
        lists = _lists(crate)
        rooms = {path: room for path, room in _rooms_in(crate, lists).items() if path in damaged}
        _copy_and_remove(crate, lists, rooms, sorted(rooms), watch)
        return not any(is_there(path) for path in rooms)


@contextmanager
def _alone_in(crate: Path) -> Iterator[None]:
    """Nobody else is at work on it; what an earlier giving back did not end is as before. Raises InUse, CrateError."""
    try:
        with _only_one(crate):
            _must_be_alone(crate)
            for doomed in below(crate / "packs", DOOMED):
                doomed.rename(doomed.with_suffix(".pack"))
            yield
    except OSError as error:
        where = f" ({Path(str(error.filename)).name})" if error.filename else ""
        raise CrateError(f"The crate {crate} cannot be read or written{where}: {os.strerror(error.errno or 0)}. Nobody "
                         "knows what is needed of it, so no room was given back.") from error


def _rooms_in(crate: Path, lists: list[Path]) -> dict[Path, _Room]:
    live = _needed(lists)
    return {path: _room_in(path, live) for path in below(crate / "packs", ".pack")}


class _NoRoom(CrateError):
    """What is still needed of packs that are mostly dead cannot be copied."""


def _copy_and_remove(crate: Path, lists: list[Path], rooms: dict[Path, _Room], wanted: list[Path],
                     watch: Watch) -> GivenBack:
    """Copy what is needed out of packs, prove it under its new name, and only then remove them."""
    victims, writer, packs = list[Path](), PackWriter(crate, verify=True), Packs(crate)
    packs.refresh()
    moved = set[bytes]()
    try:
        for path in wanted:
            watch.progress("Looking for room", len(victims), None)
            if (names := _copied(path, rooms[path].needed, writer, packs)) is not None:
                victims.append(path)
                moved |= names
        writer.finish()
    except BaseException as error:
        writer.abandon()
        if isinstance(error, CrateError) and _is_full(error.__cause__):
            raise _NoRoom("The disk of the crate is full: what is still needed of half-empty packs cannot be copied "
                          "on it. No room was given back; what is kept is as before.") from error
        raise
    finally:
        packs.close()
    proven = {name for path in writer.paths for name in prove_pack(path).good}
    if moved - proven:
        raise CrateError("What was copied does not read back as it was: the disk of the crate may be failing. No room "
                         "was given back.")
    return GivenBack(_remove(victims, lambda: _must_be_unchanged(crate, lists)), writer.added)


def _is_full(error: BaseException | None) -> bool:
    return isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)


class _Room(NamedTuple):
    """Bytes of chunks in a pack, and of those that nobody needs; rows of those that somebody does."""

    stored: int
    dead: int
    needed: NDArray[np.void] = np.zeros(0, ROW)

    @property
    def share(self) -> float:
        return self.dead / max(1, self.stored)


def _room_in(path: Path, live: NDArray[np.uint64]) -> _Room:
    """Of one without a sound table all counts as needed: not all that is in it may have been found. Raises OSError."""
    known = sound_table(path)
    rows = table_of(path) if known is None else known
    is_live = np.isin(prefixes_of(names_of(rows["name"])), live)
    dead = int(rows["stored"][~is_live].sum()) if known is not None else 0
    return _Room(int(rows["stored"].sum()), dead, rows[is_live])


def _worth_it(rooms: dict[Path, _Room]) -> list[Path]:
    """Packs of which much is dead, and of the others those with most until little of the whole crate is."""
    left, allowed = sum(room.dead for room in rooms.values()), MAY_STAY * sum(room.stored for room in rooms.values())
    found = list[Path]()
    for path, room in sorted(rooms.items(), key=lambda each: -each[1].share):
        if not room.dead or (room.share < DEAD and left <= allowed):
            break
        found.append(path)
        left -= room.dead
    return sorted(found)


def _copied(path: Path, rows: NDArray[np.void], writer: PackWriter, packs: Packs) -> set[bytes] | None:
    """Copy what is needed of a pack; the names of it. None where it has to stay: a damaged chunk is nowhere else.

    Raises OSError where it cannot be read, CrateError where what is copied cannot be written.
    """
    chunks = list(stored_chunks(path, rows))
    for chunk in chunks:
        if not chunk.is_proven and not packs.can_be_read(chunk.name, but=path):
            return None                                       # a damaged pack is left for mending
    sound = [chunk for chunk in chunks if chunk.is_proven]
    for chunk in sound:
        if writer.claim(chunk.name):
            writer.add(chunk.name, chunk.codec, chunk.stored, chunk.raw)
    return {chunk.name for chunk in sound}


def _remove(victims: list[Path], must_be_unchanged: Callable[[], None]) -> int:
    """Take the names of packs away, see that nobody has begun or ended meanwhile, and remove them; their bytes."""
    must_be_unchanged()
    doomed, size = list[Path](), 0
    try:
        for path in victims:
            size += path.stat().st_size
            doomed.append(path.rename(path.with_suffix(DOOMED)))
        must_be_unchanged()
    except BaseException:
        for gone in doomed:
            gone.rename(gone.with_suffix(".pack"))
        raise
    for gone in doomed:
        gone.unlink()
    for folder in {path.parent for path in victims}:
        sync_folder(folder)
    return size


def _lists(crate: Path) -> list[Path]:
    """Raises OSError: one that may not be seen is not one that is not there."""
    return below(crate / "backups", ".kept")


def _needed(lists: list[Path]) -> NDArray[np.uint64]:
    """First bytes of the names of all chunks that any list needs: a false match only keeps a chunk longer.

    Raises CrateError, OSError.
    """
    found = [np.zeros(0, np.uint64)]
    for path in lists:
        try:
            names = manifest_at(path).names
        except CrateError as error:
            if not is_there(path):
                continue                                      # it has just been forgotten
            raise CrateError(f"{error} No room was given back: nobody knows what it needs.") from error
        found.append(prefixes_of(names))
    return np.unique(np.concatenate(found))


@contextmanager
def _only_one(crate: Path) -> Iterator[None]:
    """Nobody else of this computer gives room back meanwhile. Raises InUse."""
    busy = crate / "busy"
    busy.mkdir(parents=True, exist_ok=True)
    with (busy / "room.lock").open("a") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise InUse("Room is being given back already. Nothing was removed by this.") from error
        except OSError as error:
            if error.errno not in NO_LOCKS:                   # a network folder without locks: leases tell as well
                raise
        yield


def _must_be_unchanged(crate: Path, lists: list[Path]) -> None:
    """Whoever began before the names of packs went is at work, or has put his list: in this order."""
    _must_be_alone(crate)
    if set(_lists(crate)) - set(lists):
        raise InUse("A backup was made meanwhile. No room was given back; ask again.")


def _must_be_alone(crate: Path) -> None:
    """Raises InUse, OSError."""
    if busy := at_work(crate):
        raise InUse(f"Somebody is at work on this crate ({busy[0]}). No room was given back; ask again later.")
