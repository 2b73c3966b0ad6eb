"""Lists of checksums that a person has: files are known by their contents, whatever they are called.

Open XML lists (a `datafile` of `game` or `machine` elements with `rom` elements that have name, size, crc and sha1),
and our own TOML: `system`, and `[[files]]` with `name`, `size` and one of `crc32`, `sha1`, `blake3`.
"""

from __future__ import annotations

import tomllib
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

import msgspec

from mosscrate.core.contents.members import Member
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.digests import digest_of
from mosscrate.core.fill.systems import systems
from mosscrate.core.sizes import listed

ENDINGS = (".xml", ".dat", ".toml")
LARGEST = 512 << 20                      # bytes of a list
SHOWN = 3                                # files of a set that are named
KINDS = ("crc32", "sha1", "blake3")


@dataclass(frozen=True)
class Listed:
    """A file that a list names."""

    system: str
    title: str
    file: str
    digests: tuple[tuple[str, str], ...]
    source: str


@dataclass(frozen=True)
class ListedSet:
    """A game of several files that a list has, and what an archive of it lacks, by names of the list."""

    system: str
    title: str
    source: str
    missing: tuple[str, ...]
    wrong: tuple[str, ...]

    @property
    def is_whole(self) -> bool:
        """Whether everything is there."""
        return not self.missing and not self.wrong

    @property
    def reason(self) -> str:
        """In words."""
        lacks = [*(f"{each} is missing" for each in self.missing[:SHOWN]),
                 *(f"{each} has other contents" for each in self.wrong[:SHOWN])]
        return f"{self.source} lists what is in it as “{self.title}”{f', of which {listed(lacks)}' if lacks else ''}"


class Lists:
    """Everything that is listed, by size."""

    def __init__(self, paths: Sequence[Path] = ()) -> None:
        """Raises PlanError where a list cannot be used."""
        self._by_size = defaultdict[int, list[Listed]](list)
        self._sets = defaultdict[tuple[str, str], dict[str, tuple[int, Listed]]](dict)     # by list and title
        for path in paths:
            self._read(path)

    def __len__(self) -> int:
        return sum(map(len, self._by_size.values()))

    @property
    def games(self) -> int:
        """How many games they name."""
        return len(self._sets)

    @property
    def systems(self) -> tuple[str, ...]:
        """Whose games these are."""
        return tuple(sorted({each.system for files in self._sets.values() for _, each in files.values()}))

    def find(self, size: int, crc: int | None, read: Callable[[], Iterable[bytes]]) -> Listed | None:
        """What a file is by its contents; they are read only where a listed file has the same size."""
        held: dict[str, str] = {} if crc is None else {"crc32": f"{crc:08x}"}
        for each in self._by_size.get(size, ()):
            if each.digests and all(_held(held, kind, read) == wanted for kind, wanted in each.digests[:1]):
                return each
        return None

    def set_of(self, stem: str, members: Sequence[Member]) -> ListedSet | None:
        """The game of several files that an archive holds: the one of which it has most; of equals that of its name.

        A file that is there under the right name with other contents is wrong, one that is nowhere is missing.
        """
        held = {id(each): dict[str, str]() if each.crc is None else {"crc32": f"{each.crc:08x}"} for each in members}
        found = defaultdict[tuple[str, str], set[str]](set)
        for member in members:
            for each in self._by_size.get(member.size, ()):
                if each.digests and all(_held(held[id(member)], kind, member.read) == wanted
                                        for kind, wanted in each.digests[:1]):
                    found[each.source, each.title].add(each.file.casefold())
        if not found:
            return None
        best = max(found, key=lambda key: (len(found[key]), len(found[key]) - len(self._sets[key]),
                                           key[1].casefold() == stem.casefold()))
        files, names = self._sets[best], {each.name.rpartition("/")[2].casefold() for each in members}
        lost = [name for name in files if name not in found[best]]
        if len(files) < 2 or 2 * len(found[best]) < len(files):
            return None
        first = next(iter(files.values()))[1]
        return ListedSet(first.system, first.title, first.source,
                         tuple(files[name][1].file for name in lost if name not in names),
                         tuple(files[name][1].file for name in lost if name in names))

    def _read(self, path: Path) -> None:
        try:
            if path.stat().st_size > LARGEST:
                raise PlanError(f"{path.name} is too large for a list of checksums.")
            found = _from_toml(path) if path.suffix == ".toml" else _from_xml(path)
            for size, each in found:
                self._by_size[size].append(each)
                self._sets[each.source, each.title][each.file.casefold()] = size, each
        except OSError as error:
            raise PlanError(f"{path.name} cannot be read: {error.strerror}.") from error


NO_LISTS = Lists()


def lists_at(folder: Path, more: Sequence[Path] = ()) -> Lists:
    """Those that a person has in a folder, and more. Raises PlanError."""
    return Lists([*sorted(path for path in folder.glob("*") if path.suffix in ENDINGS), *more])


def _held(held: dict[str, str], kind: str, read: Callable[[], Iterable[bytes]]) -> str:
    if kind not in held:
        held[kind] = digest_of(kind, read())
    return held[kind]


class _File(msgspec.Struct, forbid_unknown_fields=True):
    name: str
    size: int
    crc32: str = ""
    sha1: str = ""
    blake3: str = ""


class _List(msgspec.Struct, forbid_unknown_fields=True):
    system: str
    files: list[_File]
    name: str = ""


def _from_toml(path: Path) -> Iterator[tuple[int, Listed]]:
    try:
        told = msgspec.convert(tomllib.loads(path.read_text("utf-8")), _List)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise PlanError(f"{path.name}: this is no TOML: {error}.") from error
    except msgspec.ValidationError as error:
        raise PlanError(f"{path.name}: {error}.") from error
    if told.system not in systems().by_code:
        raise PlanError(f"{path.name}: system: found {told.system}, expected a code; `plans systems` lists them.")
    for each in told.files:
        digests = tuple((kind, getattr(each, kind).casefold()) for kind in KINDS if getattr(each, kind))
        yield each.size, Listed(told.system, each.name.rpartition(".")[0] or each.name, each.name, digests, path.name)


def _from_xml(path: Path) -> Iterator[tuple[int, Listed]]:
    """Lists may have a hundred thousand games: one element at a time."""
    system, title, is_list = "", "", False
    try:
        for event, element in ElementTree.iterparse(path, ("start", "end")):
            if event == "start":
                is_list = is_list or element.tag in ("datafile", "softwarelist")
                if element.tag in ("game", "machine", "software"):
                    title = element.get("name", "")
                continue
            if element.tag == "name" and not system and not title:
                system = systems().called(element.text or "")
            if element.tag == "rom":
                yield from _rom(element, system or systems().called(path.stem), title, path.name)
            if element.tag in ("game", "machine", "software"):
                element.clear()
    except ElementTree.ParseError as error:
        raise PlanError(f"{path.name}: this is no XML, or it is cut: {error}.") from error
    if not is_list:
        raise PlanError(f"{path.name}: found no list of files with checksums in it.")


def _rom(element: ElementTree.Element, system: str, title: str, source: str) -> Iterator[tuple[int, Listed]]:
    size = element.get("size", "")
    digests = tuple((kind, value.casefold()) for kind, value in (("crc32", element.get("crc", "").zfill(8)),
                    ("sha1", element.get("sha1", ""))) if value.strip("0"))
    if size.isdecimal() and digests and system:
        yield int(size), Listed(system, title, element.get("name", ""), digests, source)
