"""Forgetting a backup, and giving back the room of chunks that no other one needs.

Forgetting removes a list. Giving room back copies what is still needed of half-empty packs into a new one, takes their
names away, and removes them only if nobody has begun to keep anything meanwhile: who keeps puts a lease before he looks
which packs there are, so he sees either the old pack under its name or none of it.
"""

from __future__ import annotations

import fcntl
from collections.abc import Callable, Iterator, Sequence
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
from mosscrate.core.images.kept.packs import names_of, prefixes_of, table_of
from mosscrate.core.images.kept.proving import stored_chunks
from mosscrate.core.watch import Watch

DEAD = 1 / 3                             # share of a pack from which on it is worth copying the rest
MAY_STAY = 0.1                           # share of the crate that may be dead
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
    """Remove what no backup needs.

    Raises:
        InUse: somebody keeps a card in it; nothing was removed.
        CrateError: a list of chunks cannot be read, so that nobody knows what it needs; nothing was removed.
        Stopped: nothing was removed.
    """
    with _only_one(crate):
        return _give_back(crate, watch)


def _give_back(crate: Path, watch: Watch) -> GivenBack:
    _must_be_alone(crate)
    for doomed in crate.glob(f"packs/*/*{DOOMED}"):             # of a giving back that did not live to its end
        doomed.rename(doomed.with_suffix(".pack"))
    lists = _lists(crate)
    live = _needed(lists)
    victims, writer = list[Path](), PackWriter(crate, verify=True)
    try:
        for path in _worth_it({path: _room_in(path, live) for path in sorted(crate.glob("packs/*/*.pack"))}):
            watch.progress("Looking for room", len(victims), None)
            if _goes(path, live, writer):
                victims.append(path)
        writer.finish()
    except BaseException:
        writer.abandon()
        raise
    removed = sum(path.stat().st_size for path in victims)
    _remove(victims, lambda: _must_be_unchanged(crate, lists))
    return GivenBack(removed, writer.added)


class _Room(NamedTuple):
    """Bytes of chunks in a pack, and of those that nobody needs."""

    stored: int
    dead: int

    @property
    def share(self) -> float:
        return self.dead / max(1, self.stored)


def _room_in(path: Path, live: NDArray[np.uint64]) -> _Room:
    """All of it counts as needed where it cannot be read: somebody has to look at it."""
    rows = table_of(path)
    is_live = np.isin(prefixes_of(names_of(rows["name"])), live)
    return _Room(int(rows["stored"].sum()), int(rows["stored"][~is_live].sum()))


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


def _goes(path: Path, live: NDArray[np.uint64], writer: PackWriter) -> bool:
    """Whether a pack can be done away with; what is needed of it is in the writer then."""
    rows = table_of(path)
    needed = list(stored_chunks(path, rows[np.isin(prefixes_of(names_of(rows["name"])), live)]))
    if not all(chunk.is_proven for chunk in needed):
        return False                                          # a damaged pack is left for mending
    for chunk in needed:
        if writer.claim(chunk.name):
            writer.add(chunk.name, chunk.codec, chunk.stored, chunk.raw)
    return True


def _remove(victims: list[Path], must_be_unchanged: Callable[[], None]) -> None:
    """Take the names of packs away, see that nobody has begun or ended meanwhile, and remove them."""
    must_be_unchanged()
    doomed = list[Path]()
    try:
        for path in victims:
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


def _lists(crate: Path) -> list[Path]:
    return sorted(crate.glob("backups/*/*.kept"))


def _needed(lists: list[Path]) -> NDArray[np.uint64]:
    """First bytes of the names of all chunks that any list needs: a false match only keeps a chunk longer."""
    found = [np.zeros(0, np.uint64)]
    for path in lists:
        try:
            names = manifest_at(path).names
        except CrateError as error:
            if not path.exists():
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
        except OSError:
            pass                                              # a network folder without locks: leases tell as well
        yield


def _must_be_unchanged(crate: Path, lists: list[Path]) -> None:
    """Whoever began before the names of packs went is at work, or has put his list: in this order."""
    _must_be_alone(crate)
    if set(_lists(crate)) - set(lists):
        raise InUse("A backup was made meanwhile. No room was given back; ask again.")


def _must_be_alone(crate: Path) -> None:
    if busy := at_work(crate):
        raise InUse(f"Somebody is at work on this crate ({busy[0]}). No room was given back; ask again later.")
