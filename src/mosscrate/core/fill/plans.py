"""Folder plans: what a card's firmware expects, as TOML. Six ship; a person adds their own in a folder."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec
import tomli_w

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.systems import systems

WORDS = ("root", "folder", "code", "CODE", "name", "number", "stem", "file", "ending", "slot")
OF_A_FILE = {"stem", "file"}
GAMES_THEMSELVES = ("{folder}", "{root}/{folder}")        # where games lie
SETS, KINDS = ("", "folder", "flat"), ("png", "bmp", "jpg", "jpeg")
_WORD = re.compile(r"\{(\w*)(:[^}]*)?\}")


class Saves(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where saves go; `also` are places that are understood, `card` is where a memory card lies."""

    place: str
    also: tuple[str, ...] = ()
    card: str = ""
    size: str = ""


class States(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where save states go."""

    place: str
    also: tuple[str, ...] = ()


class Pictures(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where pictures go, and how large they are at most: points, 0 for any."""

    place: str
    width: int = 0
    height: int = 0
    kind: str = "png"


class NameRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What names may be beside what the file system allows: letters of a name, of its stem alone, of a path."""

    most: int = 0
    stem: int = 0
    path: int = 0
    ascii: bool = False
    because: str = ""


ANY_NAME = NameRules()


class SystemPlan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One system: its folders (the first is written, the others are understood) and the endings that it opens."""

    folder: str | tuple[str, ...]
    opens: tuple[str, ...] = ()
    packed: tuple[str, ...] | None = None
    holds: tuple[str, ...] = ()
    sets: str = ""
    name: str = ""
    number: int = 0
    saves: Saves | None = None
    states: States | None = None
    pictures: Pictures | None = None

    @property
    def folders(self) -> tuple[str, ...]:
        """All of them."""
        return (self.folder,) if isinstance(self.folder, str) else self.folder


class Want(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A system file: which systems want it, where, and by what it is known."""

    file: str
    systems: tuple[str, ...]
    places: tuple[str, ...] = ()
    need: str = "always"
    digests: tuple[str, ...] = ()
    size: int = 0


class _Head(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str
    about: str = ""
    root: str = ""
    fresh: str = "{code}"
    packed: tuple[str, ...] = ()
    playlists: str = ""
    system_files: str = ""
    reserved: tuple[str, ...] = ()
    litter: tuple[str, ...] = ()
    preinstalled: tuple[str, ...] = ()
    volumes: tuple[str, ...] = ()
    kin: tuple[str, ...] = ()


@dataclass(frozen=True)
class FolderPlan:
    """One plan; fields as in the file, `id` is the name of the file without its ending."""

    id: str
    name: str
    systems: dict[str, SystemPlan]
    about: str = ""
    root: str = ""
    fresh: str = "{code}"
    playlists: str = ""
    system_files: str = ""
    reserved: tuple[str, ...] = ()
    litter: tuple[str, ...] = ()
    preinstalled: tuple[str, ...] = ()
    volumes: tuple[str, ...] = ()
    kin: tuple[str, ...] = ()
    packed: tuple[str, ...] = ()
    saves: Saves | None = None
    states: States | None = None
    pictures: Pictures | None = None
    names: NameRules = ANY_NAME
    wants: tuple[Want, ...] = ()

    def folder_of(self, code: str) -> str:
        """Path on the volume at which files of a system are written; "" where the plan does not name it."""
        system = self.systems.get(code) or next((s for s in self.systems.values() if code in s.holds), None)
        if system is None:
            return ""
        return f"{self.root}/{system.folders[0]}".strip("/")

    def skeleton_of(self, code: str) -> list[str]:
        """Folders that a device makes for a system: its own, and those for its saves, states and pictures."""
        system = self.systems[code]
        parts = (system.saves or self.saves, system.states or self.states, system.pictures or self.pictures)
        beside = (self.fill_in(part.place, code, "x.x").rpartition("/")[0] for part in parts if part is not None)
        return [folder for folder in (self.folder_of(code), *beside) if folder]

    def opens(self, code: str) -> tuple[str, ...]:
        """Endings that it opens for a system, in order of liking; those of systems that its folder holds too."""
        return self._opened.get(code, ())

    @cached_property
    def _opened(self) -> dict[str, tuple[str, ...]]:
        return {code: self._opens(code) for code in self.systems}

    def _opens(self, code: str) -> tuple[str, ...]:
        system = self.systems[code]
        held = (ending for other in system.holds for ending in systems().by_code[other].endings)
        return tuple(dict.fromkeys((*system.opens, *held)))

    def packings(self, code: str) -> tuple[str, ...]:
        """Archives that it opens as they are."""
        system = self.systems.get(code)
        return self.packed if system is None or system.packed is None else system.packed

    def fill_in(self, pattern: str, code: str, path: str, slot: str = "", *, ending: str = "") -> str:
        """A place for a file of a system: pattern with everything put in; `ending` where it is not that of `path`."""
        file = path.rpartition("/")[2]
        stem, dot, own = file.rpartition(".")
        filled = pattern.format(**self.words_of(code), stem=stem if dot else file, file=file,
                                ending=ending or (own if dot else ""), slot=slot)
        return (re.sub("/+", "/", filled) if "//" in filled else filled).strip("/")

    def words_of(self, code: str) -> dict[str, str | int]:
        """What patterns say of a system."""
        if code not in self._words:
            system = self.systems.get(code)
            self._words[code] = {
                "root": self.root, "folder": system.folders[0] if system else code, "code": code, "CODE": code.upper(),
                "name": (system.name if system else "") or code, "number": system.number if system else 0}
        return self._words[code]

    @cached_property
    def _words(self) -> dict[str, dict[str, str | int]]:
        return {}


def shipped() -> dict[str, FolderPlan]:
    """Those that come with the program, by id. Raises PlanError where one is damaged."""
    folder = files("mosscrate.core.fill") / "data" / "plans"
    return {place.name.removesuffix(".toml"): parse_plan(place.read_text("utf-8"), place.name)
            for place in sorted(folder.iterdir(), key=lambda each: each.name) if place.name.endswith(".toml")}


def own_plans(folder: Path) -> Iterator[FolderPlan | PlanError]:
    """A person's own, in order; those that cannot be used as what is wrong with them."""
    for path in sorted(folder.glob("*.toml")):
        try:
            yield read_plan(path)
        except PlanError as error:
            yield error


def read_plan(path: Path) -> FolderPlan:
    """A plan from a file. Raises PlanError that names file, key and what was expected."""
    try:
        return parse_plan(path.read_text("utf-8"), path.name)
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(f"{path.name} cannot be read: {error}") from error


def parse_plan(text: str, file: str) -> FolderPlan:
    """A plan from its text; `file` is named in errors. Raises PlanError."""
    try:
        told = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise PlanError(f"{file}: this is no TOML: {error}.") from error
    parts: dict[str, Any] = {}
    for key, kind in (("saves", Saves), ("states", States), ("pictures", Pictures), ("names", NameRules)):
        if key in told:
            parts[key] = _converted(told.pop(key), kind, file, key)
    wants = told.pop("wants", [])
    parts["wants"] = tuple(_converted(want, Want, file, f"wants[{number}]") for number, want in enumerate(
        wants if isinstance(wants, list) else [wants]))
    own = told.pop("systems", {})
    if not isinstance(own, dict) or not own:
        raise PlanError(f"{file}: systems: found none, expected a table with at least one system.")
    of_systems = {code: _converted(line, SystemPlan, file, f"systems.{code}") for code, line in own.items()}
    head = _converted(told, _Head, file, "")
    plan = FolderPlan(file.removesuffix(".toml"), systems=of_systems, **msgspec.structs.asdict(head), **parts)
    _must_make_sense(plan, file)
    return plan


def save_plan(plan: FolderPlan, path: Path) -> None:
    """Write a plan as a file of a person's own. Raises PlanError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, tomli_w.dumps(plan_as_told(plan)).encode())
    except OSError as error:
        raise PlanError(f"{path} cannot be written: {error.strerror}.") from error


def plan_as_told(plan: FolderPlan) -> dict[str, Any]:
    """A plan as its file has it, for TOML."""
    told = {key: value for key, value in msgspec.to_builtins(plan).items() if key != "id" and value}
    return dict(_without_nothing(told))


def _without_nothing(value: Any) -> Any:  # noqa: ANN401 - whatever TOML holds
    if isinstance(value, dict):
        return {key: _without_nothing(inner) for key, inner in value.items()       # nothing packed is not: as usual
                if inner or (key == "packed" and inner is not None)}
    return [_without_nothing(inner) for inner in value] if isinstance(value, list | tuple) else value


def _converted(told: object, kind: type[Any], file: str, key: str) -> Any:  # noqa: ANN401 - one of `kind`
    try:
        return msgspec.convert(told, kind)
    except msgspec.ValidationError as error:
        said, _, where = str(error).partition(" - at `$")
        place = ".".join(filter(None, (key, where.strip("`.")))) or "the top"
        raise PlanError(f"{file}: {place}: {said}.") from error


def _must_make_sense(plan: FolderPlan, file: str) -> None:
    """Raises PlanError: patterns are put together with names from anywhere, and what is wrong shows only on a card."""
    known = systems().by_code
    for code, system in plan.systems.items():
        for other in (code, *system.holds):
            if other not in known:
                raise PlanError(f"{file}: systems.{code}: {other} is no code of a system; `plans systems` lists them.")
        if not system.folders:
            raise PlanError(f"{file}: systems.{code}.folder: found none, expected at least one.")
        for folder in system.folders:
            _must_stay_inside(folder, file, f"systems.{code}.folder")
        if system.sets not in SETS:
            raise PlanError(f"{file}: systems.{code}.sets: found {system.sets!r}, expected {' or '.join(SETS[1:])}.")
        _must_place(system, file, f"systems.{code}.")
    _must_stay_inside(plan.root, file, "root")
    _must_place(plan, file, "")
    for key, pattern in (("playlists", plan.playlists), ("system_files", plan.system_files)):
        if pattern:
            _must_be_pattern(pattern, file, key)
    _must_know_words(plan.fresh, file, "fresh")
    for want in plan.wants:
        for place in want.places:
            _must_stay_inside(place, file, f"wants.{want.file}.places")
            if place.rpartition("/")[2].casefold() == want.file.casefold():
                raise PlanError(f"{file}: wants.{want.file}.places: {place!r} names the file, expected its folder.")
        _must_stay_inside(want.file, file, "wants.file")
        _must_be_no_less(want.size, file, f"wants.{want.file}.size")
    for key in ("most", "stem", "path"):
        _must_be_no_less(getattr(plan.names, key), file, f"names.{key}")


def _must_place(part: SystemPlan | FolderPlan, file: str, front: str) -> None:
    """What a plan, or one system of it, says of saves, states and pictures. Raises PlanError."""
    for key, told in (("saves", part.saves), ("states", part.states), ("pictures", part.pictures)):
        for name, place in _patterns(told):
            _must_be_pattern(place, file, f"{front}{key}.{name}", needs_file=name != "card")
            if place.rpartition("/")[2] == "{file}" and place.rpartition("/")[0] in GAMES_THEMSELVES:
                raise PlanError(f"{file}: {front}{key}.{name}: {place!r} is the place of the game itself.")
    if part.pictures is not None:
        if part.pictures.kind not in KINDS:
            raise PlanError(f"{file}: {front}pictures.kind: found {part.pictures.kind!r}, expected one of "
                            f"{', '.join(KINDS)}.")
        for key in ("width", "height"):
            _must_be_no_less(getattr(part.pictures, key), file, f"{front}pictures.{key}")


def _patterns(told: Saves | States | Pictures | None) -> Iterator[tuple[str, str]]:
    if told is not None:
        yield "place", told.place
        yield from (("also", place) for place in getattr(told, "also", ()))
        if isinstance(told, Saves) and told.card:
            yield "card", told.card


def _must_be_no_less(number: int, file: str, key: str) -> None:
    if number < 0:
        raise PlanError(f"{file}: {key}: found {number}, expected 0 or more.")


def _must_be_pattern(pattern: str, file: str, key: str, *, needs_file: bool = True) -> None:
    words = _must_know_words(pattern, file, key)
    if needs_file and not words & OF_A_FILE:
        raise PlanError(f"{file}: {key}: {pattern!r} names no file, expected {{stem}} or {{file}} in it.")


def _must_know_words(pattern: str, file: str, key: str) -> set[str]:
    found = _WORD.findall(pattern)
    for word, rule in found:
        if word not in WORDS or (rule and (word != "number" or rule not in (":02", ":03"))):
            raise PlanError(f"{file}: {key} holds {{{word}{rule}}}, expected one of {', '.join(WORDS)}.")
    if "{" in _WORD.sub("", pattern) or "}" in _WORD.sub("", pattern):
        raise PlanError(f"{file}: {key}: {pattern!r} has a bracket that is not closed.")
    _must_stay_inside(pattern, file, key)
    return {word for word, _ in found}


def _must_stay_inside(path: str, file: str, key: str) -> None:
    if path.startswith("/") or "\\" in path or "\0" in path or ".." in path.split("/"):
        raise PlanError(f"{file}: {key}: {path!r} leaves the card, expected a path on it.")
