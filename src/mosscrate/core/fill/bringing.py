"""What is brought in: files of folders, each with what it is and the reason for it."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path

from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.members import Member, members
from mosscrate.core.errors import MediumError
from mosscrate.core.fill.folders import Use, use_of
from mosscrate.core.fill.headers import read_header
from mosscrate.core.fill.systems import MAYBE, systems
from mosscrate.core.volumes import Entry, Kind
from mosscrate.core.watch import Watch

LITTER = {".ds_store", "thumbs.db", "desktop.ini", ".directory", "ehthumbs.db", "folder.jpg.tmp"}
LITTER_FOLDERS = {"__macosx", ".spotlight-v100", ".trashes", ".fseventsd", "$recycle.bin", "system volume information"}
STATE_ENDINGS = ("state", "st", "ss", "oops")
SAVES = {"sav", "srm", "sra", "eep", "fla", "nv", "ram", "dsv", "mcr", "mcd", "gme", "mpk", "vmu"}
PACKED = ("zip", "7z", "chd", "cue", "m3u")


class Role(StrEnum):
    """What becomes of a file that is brought in."""

    GAME = "game"
    SAVE = "save"
    STATE = "save state"
    PICTURE = "picture"
    SYSTEM = "system file"
    LITTER = "litter"
    UNKNOWN = "unknown"


@dataclass(frozen=True)
class Brought:
    """One file.

    Attributes:
        path: on this computer.
        group: the folder that was brought in, and the one in it, as people see it.
        size: bytes.
        modified: seconds since 1970.
        role: what it is.
        system: short code; "" where that is not known.
        reason: why it is taken for that.
        sure: 3 by checksum or sizes, 2 by header, 1 by ending or folder, 0 unknown.
        saves: bytes that a save of it may have, where its header says so.
        member: of an archive with one game in it, that one.
    """

    path: Path
    group: str
    size: int
    modified: int
    role: Role
    system: str = ""
    reason: str = ""
    sure: int = 0
    saves: tuple[int, ...] = ()
    member: Member | None = None

    @property
    def ending(self) -> str:
        """Without the dot, in small letters."""
        return self.path.suffix[1:].casefold()


def bring(folders: Sequence[Path], watch: Watch) -> list[Brought]:
    """Look at every file below some folders. Raises MediumError where one is not there, Stopped."""
    found = list[Brought]()
    for folder in folders:
        if not os.path.exists(folder):
            raise MediumError(f"There is no {folder} to bring in. Nothing was changed.")
        for path in _files(folder):
            watch.check()
            found.append(_known(path, folder))
    return found


def _files(folder: Path) -> Iterator[Path]:
    """In order; links are not followed, folders that may not be read are passed over."""
    if os.path.isfile(folder):
        yield folder
        return
    for base, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = Path(base, name)
            if not os.path.islink(path) and os.path.isfile(path):
                yield path


def _known(path: Path, brought: Path) -> Brought:
    within = path.relative_to(brought) if path != brought else Path(path.name)
    group = within.parts[0] if len(within.parts) > 1 else brought.name
    try:
        status = path.stat()
    except OSError as error:
        return Brought(path, group, 0, 0, Role.UNKNOWN, reason=f"it cannot be read: {error.strerror}")
    own = Brought(path, group, status.st_size, int(status.st_mtime), Role.UNKNOWN)
    names, ending = [part.casefold() for part in within.parts], own.ending
    if names[-1] in LITTER or names[-1].startswith("._") or LITTER_FOLDERS & set(names):
        return replace(own, role=Role.LITTER, reason="desktops leave it")
    by_folder = _system_of_folders([brought.name, *within.parts[:-1]] if brought != path else [])
    uses = {use_of(part) for part in within.parts[:-1]}
    is_picture = kind_of(Entry(path.name, Kind.FILE, 0, None, 0)) == FileKind.PICTURE
    for role, reason, is_it in (
            (Role.SAVE, "its ending", ending in SAVES),
            (Role.STATE, "its ending", ending.rstrip("0123456789") in STATE_ENDINGS),
            (Role.SYSTEM, "the folder of system files", Use.SYSTEM in uses),
            (Role.PICTURE, "the folder of pictures", Use.PICTURES in uses and is_picture)):
        if is_it:
            return replace(own, role=role, system=by_folder, reason=reason, sure=1)
    return _game(own, by_folder)


def _game(own: Brought, by_folder: str) -> Brought:
    """By its header, by what is packed in it, by its ending, by its folder, in this order."""
    try:
        with own.path.open("rb") as file:
            def read(at: int, count: int) -> bytes:
                file.seek(at)
                return file.read(count)

            reading = read_header(own.size, read, own.ending)
    except OSError as error:
        return replace(own, reason=f"it cannot be read: {error.strerror}")
    if reading.sure:
        return replace(own, role=Role.GAME, system=reading.system, reason=reading.reason, sure=reading.sure,
                       saves=reading.saves)
    games = _games_in_zip(own.path) if own.ending == "zip" else {}
    packed = next(iter(set(games.values())), "") if len(set(games.values())) == 1 else ""
    known = systems()
    by_ending = known.own.get(own.ending, "")
    if packed:
        return replace(own, role=Role.GAME, system=packed, reason="the endings of what is packed in it", sure=1,
                       member=next(iter(games)) if len(games) == 1 else None)
    if by_ending and (not by_folder or known.are_kin(by_ending, by_folder) or own.ending in known.alone):
        return replace(own, role=Role.GAME, system=by_ending, reason="its ending", sure=1)
    usual = (*known.by_code[by_folder].shared, *known.by_code[by_folder].endings, *PACKED) if by_folder else ()
    if own.ending in usual:
        return replace(own, role=Role.GAME, system=by_folder, reason="its folder and ending", sure=1)
    return replace(own, reason="nothing tells what it is for")


def _system_of_folders(parts: Sequence[str]) -> str:
    """The system that the nearest folder stands for, where its name means one only."""
    for part in reversed(parts):
        named = systems().named(part)
        best = max(named, key=lambda code: named[code], default="")
        if best and named[best] > MAYBE:
            return best
    return ""


def _games_in_zip(path: Path) -> dict[Member, str]:
    """Files whose endings mean one system, with it; none for sets of parts, and for what cannot be read."""
    try:
        found = members(path)
    except MediumError:
        return {}
    known = systems()
    return {member: known.own[ending] for member in found
            if (ending := member.name.rpartition(".")[2].casefold()) in known.own}
