"""What is brought in: files of folders, archives and other cards, each with what it is and the reason for it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property
from pathlib import Path, PurePosixPath

from blake3 import blake3

from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.members import BETWEEN, Member, archive_of, is_archive, members, members_within
from mosscrate.core.contents.transfer import SKIPPED
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.fill.folders import Use, use_of
from mosscrate.core.fill.headers import FRONT, Reading, read_header
from mosscrate.core.fill.learning import learn
from mosscrate.core.fill.lists import NO_LISTS, Lists
from mosscrate.core.fill.litter import is_litter
from mosscrate.core.fill.origins import LocalFile, OnCard, Origin, Packed, ReadAt
from mosscrate.core.fill.systems import systems
from mosscrate.core.fill.tops import Tops
from mosscrate.core.volumes import Entry, Kind, Volume
from mosscrate.core.watch import Watch

OF_A_STATE = ".png"                      # behind the whole name of a state: how it looked
STATE_ENDINGS = ("state", "st", "ss", "oops")
CLOCKS, PATCHES, MANUALS = {"rtc"}, {"ips", "bps", "ups", "ppf", "xdelta"}, {"pdf", "cbz"}
SAVES = {"sav", "srm", "sra", "eep", "fla", "nv", "ram", "dsv", "mcr", "mcd", "gme", "mpk", "vmu"}
DEEPEST = 3                              # archives within one another that are opened, the outermost left aside
PACKED = ("zip", "7z", "chd", "cue", "gdi", "ccd", "mds", "m3u")
UNKNOWN = "unknown "                     # in front of a group, in the key of a question about it; the answers to it:
GAMES_OF, PICTURES, SYSTEM_FILES, AS_THEY_LIE = "games of ", "pictures", "system files", "put them as they lie"
NOTHING_TELLS = "nothing tells what it is for"
TEXTS = {"txt", "nfo", "diz", "md", "htm", "html", "url"}


class Role(StrEnum):
    """What becomes of a file that is brought in."""

    GAME = "game"
    SAVE = "save"
    STATE = "save state"
    PICTURE = "picture"
    CLOCK = "clock"
    PATCH = "patch"
    MANUAL = "manual"
    SYSTEM = "system file"
    LITTER = "litter"
    UNKNOWN = "unknown"


@dataclass(frozen=True)
class Brought:
    """One file.

    Attributes:
        path: as people see it, from the top of what was brought in.
        origin: where its bytes are.
        group: the folder that was brought in, and the one in it, as people see it.
        size: bytes.
        modified: seconds since 1970.
        role: what it is.
        system: short code; "" where that is not known.
        reason: why it is taken for that.
        sure: 3 by checksum or sizes, 2 by header, 1 by ending or folder, 0 unknown.
        saves: bytes that a save of it may have, where its header says so.
        packed: of an archive with one game in it, that one.
        print: size and first bytes as one number; files of one print seem the same.
        lead: of a part of a set, the path of the sheet or list that names it.
        is_lead: whether it names others.
        title: as a list of checksums calls it.
        below: of a file of the card that is filled, the folders in that of its system.
        entry: of such a file, its place in the tree.
        fault: why it cannot be used at all.
    """

    path: PurePosixPath
    origin: Origin
    group: str
    size: int
    modified: int
    role: Role
    system: str = ""
    reason: str = ""
    sure: int = 0
    saves: tuple[int, ...] = ()
    packed: Packed | None = None
    print: bytes = b""
    lead: str = ""
    is_lead: bool = False
    title: str = ""
    below: str = ""
    entry: Entry | None = None
    fault: str = ""

    @cached_property
    def name(self) -> str:
        """The last part of its path."""
        return self.path.name

    @cached_property
    def ending(self) -> str:
        """Without the dot, in small letters."""
        stem, dot, ending = self.name.rpartition(".")
        return ending.strip().casefold() if stem and dot else ""


def bring(folders: Sequence[Path], watch: Watch, lists: Lists = NO_LISTS) -> list[Brought]:
    """Look at every file below some folders, and in archives. Raises MediumError where one is not there, Stopped."""
    return _brought(folders, watch, lists, _with_contents)


def bring_unpacked(folders: Sequence[Path], watch: Watch, lists: Lists = NO_LISTS) -> list[Brought]:
    """The same, but of every archive what is in it and not the archive, whatever that holds."""
    return _brought(folders, watch, lists, _unpacked)


def _brought(folders: Sequence[Path], watch: Watch, lists: Lists,
             contents: Callable[[_File, Lists, Tops], list[Brought]]) -> list[Brought]:
    found, tops, done = list[Brought](), Tops(), set[Path]()
    for folder in dict.fromkeys(folders):
        if not os.path.exists(folder):
            raise MediumError(f"There is no {folder} to bring in. Nothing was changed.")
        top = tops.of_folder(folder) if folder.is_dir() else tops.of_loose_files(folder.parent)
        unread = list[OSError]()
        for each in _files(folder, unread):
            watch.check()
            archive = _archive_of(each)
            if archive in done:
                continue                                     # another part of it
            if archive is not None:
                done.add(archive)
            path = archive or each
            within = path.relative_to(folder) if each != folder else Path(path.name)
            try:
                status = path.stat()
            except OSError:
                continue                                     # gone meanwhile
            found += contents(_File(top, PurePosixPath(within), LocalFile(path), status.st_size,
                                    int(status.st_mtime)), lists, tops)
        found += [_unread(_File(top, PurePosixPath(Path(error.filename).relative_to(folder)), LocalFile(
            Path(error.filename)), 0, 0), f"The folder {error.filename} cannot be read: {error.strerror}.")
            for error in unread if Path(error.filename).name not in SKIPPED]
    return found


def bring_from_volume(name: str, volume: Volume, partition: int, watch: Watch,
                      lists: Lists = NO_LISTS) -> list[Brought]:
    """Look at every file of an open volume of another card, which people call by a name. Raises FormatError, Stopped.

    They are read in the order in which they lie, and told in the order of their paths.
    """
    tree = volume.tree()
    files = [entry for entry in tree.entries if entry.kind == Kind.FILE]
    found = [_unread(_File(PurePosixPath(name), PurePosixPath(f.where or name), OnCard(volume, Entry(
        f.where, Kind.FOLDER, 0, None, 0), partition), 0, 0), f.sentence) for f in tree.unread()]
    for entry in sorted(files, key=lambda each: each.node):
        watch.check()
        found.append(_known(_File(PurePosixPath(name), PurePosixPath(entry.path), OnCard(volume, entry, partition),
                                  entry.size, entry.modified or 0), lists))
    taught = {line.folder: line.system for line in learn(tree.entries, volume.read_at).lines if line.is_certain}
    return sorted((_as_taught(each, taught) for each in found), key=lambda each: str(each.path))


def _as_taught(own: Brought, taught: Mapping[str, str]) -> Brought:
    """A file whose folder's name says nothing, in one of which the card's other files do."""
    if own.system or own.role not in (Role.SAVE, Role.STATE, Role.CLOCK):
        return own
    above = ("/".join(own.path.parts[1:k]) for k in range(len(own.path.parts) - 1, 1, -1))
    system = next((taught[folder] for folder in above if folder in taught), "")
    return replace(own, system=system, reason=f"{own.reason}, and the games beside it") if system else own


def _archive_of(path: Path) -> Path | None:
    try:
        return archive_of(path)
    except MediumError:
        return path                                          # opening it tells what is missing


@dataclass(frozen=True)
class _File:
    """A file before it is known: what was brought in, its path in there, its bytes."""

    top: PurePosixPath
    within: PurePosixPath
    origin: Origin
    size: int
    modified: int

    @property
    def group(self) -> str:
        return self.within.parts[0] if len(self.within.parts) > 1 else str(self.top.name or self.within.name)


def _files(folder: Path, unread: list[OSError]) -> Iterator[Path]:
    """In order; links are not followed, folders that may not be read are noted."""
    if os.path.isfile(folder):
        yield folder
        return
    for base, folders, names in os.walk(folder, onerror=unread.append):
        folders.sort()
        for name in sorted(names):
            path = Path(base, name)
            if not os.path.islink(path) and os.path.isfile(path):
                yield path


def _inside(file: _File) -> list[Member] | None:
    """What is in an archive; None for other files, and for one that lies too deep. Raises MediumError."""
    if isinstance(file.origin, Packed):
        member = file.origin.member
        is_open = is_archive(PurePosixPath(member.name)) and member.name.count(BETWEEN) < DEEPEST
        return members_within(member) if is_open else None
    assert isinstance(file.origin, LocalFile), "archives are opened where they lie on this computer"
    return members(file.origin.path) if is_archive(file.origin.path) else None


def _with_contents(file: _File, lists: Lists, tops: Tops) -> list[Brought]:
    """A file; of an archive with more than one game, or with folders, what is in it."""
    try:
        inside = _inside(file)
    except MediumError as error:
        return [replace(_known(file, lists), role=Role.UNKNOWN, reason=str(error), fault=str(error))]
    if inside is None:
        return [_known(file, lists)]
    known = systems()
    endings = [_ending(each.name) for each in inside]
    games = [each for each, ending in zip(inside, endings, strict=True) if ending in known.own]
    others = any(ending not in known.own and ending not in TEXTS for ending in endings)
    if len(games) == 1 and not others:
        own, game = _known(file, lists), games[0]
        system = known.own[_ending(game.name)]
        return [replace(own, role=Role.GAME, system=system, reason="the ending of what is packed in it",
                        sure=1, packed=Packed(game))]
    if len(inside) > 1 and (set_ := _listed_set(file, inside, lists)) is not None:
        return [set_]
    is_flat = not any("/" in each.own_name or is_archive(PurePosixPath(each.own_name)) for each in inside)
    if not games and is_flat and file.within.suffix != ".tar":
        return [_alone(_known(file, lists), inside[0], lists) if len(inside) == 1 else _known(file, lists)]
    return [each for inner in _members(file, inside, tops) for each in _with_contents(inner, lists, tops)]


def _unpacked(file: _File, lists: Lists, tops: Tops) -> list[Brought]:
    """A file; of an archive all that is in it, as it is."""
    try:
        inside = _inside(file)
        files = [file] if inside is None else _members(file, inside, tops)
        return [_known(each, lists) for each in files]
    except MediumError as error:
        return [replace(_known(file, lists), role=Role.UNKNOWN, reason=str(error), fault=str(error))]


def _members(file: _File, inside: Sequence[Member], tops: Tops) -> list[_File]:
    top = tops.of_archive(file.top / file.within, file.origin)
    return [_File(top, PurePosixPath(*_inner(each.own_name)), Packed(each), each.size, each.modified)
            for each in inside if _inner(each.own_name)]


def _listed_set(file: _File, inside: Sequence[Member], lists: Lists) -> Brought | None:
    """An archive that a list of checksums knows by what is in it."""
    found = lists.set_of(file.within.stem, inside) if len(lists) else None
    return None if found is None else replace(_known(file, lists), role=Role.GAME, system=found.system,
                                              title=found.title, reason=found.reason, sure=3 if found.is_whole else 1)


def _alone(own: Brought, member: Member, lists: Lists) -> Brought:
    """An archive with one file in it that its ending does not tell: by a list, else by its header."""
    listed = lists.find(member.size, member.crc, member.read)
    if listed is not None:
        return replace(own, role=Role.GAME, system=listed.system, sure=3, title=listed.title, packed=Packed(member),
                       reason=f"{listed.source} lists what is in it as “{listed.title}”")
    try:
        with Packed(member).opened() as read:
            reading, _ = look_at(member.size, read, _ending(member.name))
    except MossError:
        return own
    return replace(own, role=Role.GAME, system=reading.system, sure=reading.sure, packed=Packed(member),
                   saves=reading.saves, reason=f"what is packed in it: {reading.reason}") if reading.sure else own


def _inner(name: str) -> list[str]:
    """The parts of a name in an archive; what would climb out of it goes."""
    return [part for part in name.replace("\\", "/").split("/") if part not in ("", ".", "..")]


def _unread(folder: _File, why: str) -> Brought:
    path = folder.top / folder.within
    return Brought(path, folder.origin, path.name, 0, 0, Role.UNKNOWN, reason=why, fault=why)


def _known(file: _File, lists: Lists) -> Brought:
    path = file.top / file.within
    own = Brought(path, file.origin, file.group, file.size, file.modified, Role.UNKNOWN)
    ending = own.ending
    if is_litter(file.within.parts):
        return replace(own, role=Role.LITTER, reason="desktops leave it")
    folders = (file.within if isinstance(file.origin, OnCard) else path).parts[:-1]     # also the one that was dropped
    by_folder, uses = _system_of_folders(folders), {use_of(part) for part in folders}
    is_picture = kind_of(Entry(path.name, Kind.FILE, 0, None, 0)) == FileKind.PICTURE
    for role, reason, is_it in (
            (Role.SAVE, "its ending", ending in SAVES),
            (Role.CLOCK, "its ending", ending in CLOCKS),
            (Role.PATCH, "its ending", ending in PATCHES and not _is_usual(ending, by_folder)),
            (Role.MANUAL, "its ending", ending in MANUALS),
            (Role.STATE, "its ending", is_state(path.name) and not _is_usual(ending, by_folder)),
            (Role.SYSTEM, "the folder of system files", Use.SYSTEM in uses),
            (Role.PICTURE, "the folder of pictures", Use.PICTURES in uses and is_picture)):
        if is_it:
            return replace(own, role=role, system=by_folder, reason=reason, sure=1)
    return _game(own, by_folder, lists)


def _game(own: Brought, by_folder: str, lists: Lists) -> Brought:
    """By its header, by its contents, by its ending, by its folder, in this order."""
    if not own.size:
        return replace(own, reason=f"{own.name} is empty.")
    try:
        with own.origin.opened() as read:
            reading, print_ = look_at(own.size, read, own.ending)
            is_text = own.ending in TEXTS and _is_text(read(0, min(FRONT, own.size)))
        listed = lists.find(own.size, own.origin.member.crc if isinstance(own.origin, Packed) else None,
                            own.origin.read) if not reading.sure else None
    except MossError as error:
        return replace(own, reason=str(error), fault=str(error))
    own, known = replace(own, print=print_), systems()
    if reading.sure:
        return replace(own, role=Role.GAME, system=reading.system, reason=reading.reason, sure=reading.sure,
                       saves=reading.saves)
    if listed is not None:
        return replace(own, role=Role.GAME, system=listed.system, sure=3, title=listed.title,
                       reason=f"{listed.source} lists its contents as “{listed.title}”")
    if is_text:
        return replace(own, reason="it is a text")
    by_ending = known.own.get(own.ending, "")
    if by_ending and (not by_folder or known.are_kin(by_ending, by_folder) or own.ending in known.alone):
        return replace(own, role=Role.GAME, system=by_ending, reason="its ending", sure=1)
    if _is_usual(own.ending, by_folder) or (by_folder and own.ending in PACKED):
        return replace(own, role=Role.GAME, system=by_folder, reason="its folder and ending", sure=1)
    return replace(own, reason=NOTHING_TELLS)


def _is_usual(ending: str, system: str) -> bool:
    """Whether games of a system have such an ending, also where others have it too."""
    own = systems().by_code.get(system)
    return own is not None and ending in (*own.shared, *own.endings)


def _is_text(first: bytes) -> bool:
    """Whether a file begins with nothing but letters, signs and line ends."""
    try:
        text = first.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.start < len(first) - 3:                     # not only the last letter, which is cut
            return False
        text = first[:error.start].decode("utf-8-sig")
    return all(letter.isprintable() or letter in "\r\n\t\f" for letter in text)


def as_said(file: Brought, answers: Mapping[str, str]) -> Brought:
    """A file of which nothing tells what it is for, as a person has said it."""
    is_open = file.role == Role.UNKNOWN and file.size and not file.fault
    word = answers.get(f"{UNKNOWN}{file.group}", "") if is_open else ""
    role, system = {PICTURES: Role.PICTURE, SYSTEM_FILES: Role.SYSTEM}.get(word), ""
    if word.startswith(GAMES_OF):
        role, system = Role.GAME, word.removeprefix(GAMES_OF)
    return file if role is None else replace(file, role=role, system=system, reason="you said so", sure=1)


def is_state(name: str) -> bool:
    """Whether a file is a save state by its ending, or the picture beside one."""
    return _ending(name.removesuffix(OF_A_STATE)).rstrip("0123456789") in STATE_ENDINGS


def look_at(size: int, read: ReadAt, ending: str) -> tuple[Reading, bytes]:
    """What a header says, and the print of a file: its first bytes with its size."""
    first = read(0, min(FRONT, size))

    def held(at: int, count: int) -> bytes:
        return first[at:at + count] if at + count <= len(first) else read(at, count)

    return read_header(size, held, ending), print_of(size, first)


def print_of(size: int, first: bytes) -> bytes:
    """Of a file: files of one print seem the same."""
    return blake3(size.to_bytes(8, "little") + first[:FRONT]).digest(16)


def _system_of_folders(parts: Sequence[str]) -> str:
    """The system that the nearest folder stands for, where its name means one only."""
    return next((code for part in reversed(parts) if (code := systems().called(part))), "")


def _ending(name: str) -> str:
    stem, _, ending = name.rpartition("/")[2].rpartition(".")
    return ending.casefold() if stem else ""
