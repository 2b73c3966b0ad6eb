"""The place of each file that is brought in, and what stands against it."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import count
from pathlib import PurePosixPath

from mosscrate.core.contents.naming import menu_name, proposed_name
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import NOTHING_TELLS, Brought, Role
from mosscrate.core.fill.companions import Companions
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.origins import Origin
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import BETWEEN, GROUP, Act, Cause, Placed, Target
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.saves import Game, Games
from mosscrate.core.fill.systems import systems
from mosscrate.core.fill.wanted import is_wanted, places_of
from mosscrate.core.sizes import listed
from mosscrate.core.volumes import Entry, Kind

MET, LEAVE_OUT = "met", "leave out"
_NUMBER = re.compile(r"\d+")
DISCS = ("cue", "gdi", "ccd", "mds", "chd", "pbp", "iso", "cso", "cdi")


@dataclass(frozen=True)
class Way:
    """Of a system: its folder on the card, what it opens, and whether each set has a folder of its own."""

    folder: str
    opens: tuple[str, ...]
    packed: tuple[str, ...]
    has_folders: bool


class Placing:
    """Places files one set after the other; games come before what belongs to them."""

    def __init__(self, plan: FolderPlan, ground: Ground, card: OnTheCard, answers: dict[str, str],
                 gallery: Gallery | None = None) -> None:
        self.plan, self.ground, self.card, self.answers = plan, ground, card, answers
        self._companions = Companions(self, gallery)
        self.games = Games()
        self.waiting = Counter[str]()                      # games of each system that are on the card
        self.renamed: dict[str, str] = {}                  # wanted places and what they had to become
        self._folders: dict[str, str] = {}                 # folders as they can stand there
        self._out = {group for key, word in answers.items() if key.startswith(GROUP) and word == "leave out"
                     for group in key.removeprefix(GROUP).split(BETWEEN)}
        self._ways: dict[str, Way] = {}
        self._made = 0                                     # folders of systems that the plan does not name
        self._discs: dict[tuple[str, str], Brought] = {}   # system and stem → the form that is brought in

    def place_all(self, brought: Sequence[Brought]) -> list[Placed]:
        """Where everything goes: games with their sets, then what belongs to games."""
        self._note_games_there()
        found, parts = list[Placed](), defaultdict[str, list[Brought]](list)
        games = [each for each in brought if each.role == Role.GAME]
        for each in games:
            if each.lead:
                parts[each.lead].append(each)
        for each in _by_liking([each for each in games if not each.lead], self.plan):
            found += self._set(each, parts)
        if parts:
            done = {str(each.file.path) for each in found}
            for each in games:
                if each.lead and str(each.path) not in done:      # lists that name each other
                    found += self._set(replace(each, lead=""), {})
        for each in brought:
            if each.role != Role.GAME:
                found += self._other(each)
        return found

    def _note_games_there(self) -> None:
        folders = {self.ground.facts.folded(f"{self.plan.root}/{folder}".strip("/")): code
                   for code, system in self.plan.systems.items() for folder in system.folders}
        depths = sorted({folder.count("/") + 1 for folder in folders})
        for path, entry in self.ground.there.items():
            parts = path.split("/")
            code = next((folders[above] for depth in depths if depth < len(parts)
                         for above in ["/".join(parts[:depth])] if above in folders), "")
            if code and entry.kind == Kind.FILE and _is_game(entry.name):
                self.games.add(Game(code, entry.name))
                self.waiting[code] += 1

    def _set(self, lead: Brought, parts: dict[str, list[Brought]]) -> list[Placed]:
        """A game, with the files that it names."""
        below = _below(lead, parts) if lead.is_lead else []
        wanted = self._wanted(lead)
        if not below:
            return wanted or [self._game(lead)]
        target = self._target(lead, has_parts=True)
        if not wanted and target.path:
            return self._together(lead, below, PurePosixPath(self.stands(target.path, keeps_name=True)).parent)
        first = wanted or [self.leave(lead, target.why, target.cause)]
        if lead.ending == "m3u":                           # its discs stand for themselves
            discs = [each for each in below if each.lead == str(lead.path)]
            return first + [placed for disc in discs for placed in self._set(replace(disc, lead=""), parts)]
        return first + [self.leave(each, first[0].why, first[0].cause) for each in below]

    def _together(self, lead: Brought, parts: list[Brought], folder: PurePosixPath) -> list[Placed]:
        """A set in one folder under its own names; in another one where a different one of that name is or comes."""
        every = [lead, *parts]
        inner = {id(each): _within(each, lead) for each in every}
        for number in range(1, 100):
            base = folder if number == 1 else folder.parent / f"{folder.name} ({number})" \
                if folder.name == lead.path.stem else folder / f"{lead.path.stem} ({number})"
            places = [str(base / inner[id(each)]) for each in every]
            if not any(self._differs(each, to) for each, to in zip(every, places, strict=True)):
                break
        rival = self.ground.taken.get(self.ground.facts.folded(str(folder / lead.name))) if number > 1 else None
        if rival is not None and self.answers.get(MET) == LEAVE_OUT:
            return [self.leave(each, _meets(rival, "goes there already"), Cause.MET) for each in every]
        placed = [self.at(each, to, keeps_name=True) for each, to in zip(every, places, strict=True)]
        if rival is not None:
            placed[0] = replace(placed[0], why=_meets(rival, "has its name"))
        if placed[0].to:
            self.games.add(Game(lead.system, placed[0].to.rpartition("/")[2], lead.saves), lead.name)
        return placed

    def _differs(self, file: Brought, to: str) -> bool:
        folded = self.ground.facts.folded(to)
        if folded in self.ground.taken:
            return self.card.are_same(file, self.ground.taken[folded]) is False
        entry = self.ground.there.get(folded)
        if entry is None:
            return False
        return entry.kind != Kind.FILE or entry.size != file.size or self.card.is_equal(file.origin, entry) is False

    def _target(self, file: Brought, *, has_parts: bool) -> Target:
        if file.group in self._out:
            return Target("", "its group is left out", Cause.GROUP)
        target = self._of_game(file, has_parts=has_parts)
        if target.path and file.ending in DISCS:
            other = self._discs.setdefault((file.system, file.path.stem.casefold()), file)
            if other.ending != file.ending:
                return Target("", f"“{other.name}” of the same disc is brought in")
        return target

    def _game(self, file: Brought) -> Placed:
        target = self._target(file, has_parts=False)
        if not target.path:
            return self.leave(file, target.why, target.cause)
        placed = self.at(file, target.path)
        if placed.to:
            self.games.add(Game(file.system, placed.to.rpartition("/")[2], file.saves), file.name)
        return placed

    def _wanted(self, file: Brought) -> list[Placed]:
        """Places of a file that the plan wants as a system file; none where it does not."""
        if not self.plan.wants:
            return []
        wants = [want for want in self.plan.wants if is_wanted(want, file)]
        why = f"it is {listed([want.file for want in wants])}, which this card wants"
        return [self.at(replace(file, role=Role.SYSTEM, reason=why, packed=None), place)
                for want in wants for place in places_of(self.plan, want)]

    def _other(self, file: Brought) -> list[Placed]:
        if file.group in self._out:
            return [self.leave(file, "its group is left out", Cause.GROUP)]
        if file.role != Role.LITTER and (wanted := self._wanted(file)):
            return wanted
        match file.role:
            case Role.LITTER:
                return [self.leave(file, "desktops leave it behind", Cause.LITTER)]
            case Role.SYSTEM:
                return [self._system_file(file)]
            case Role.SAVE | Role.STATE | Role.PICTURE:
                return [self._companions.place(file)]
        return [self.leave(file, file.reason, Cause.UNKNOWN if file.reason == NOTHING_TELLS else Cause.UNREADABLE)]

    def _system_file(self, file: Brought) -> Placed:
        pattern = self.plan.system_files
        if not pattern:
            return self.leave(file, "this plan says nothing of system files", Cause.SYSTEM)
        if ("{code}" in pattern.casefold() or "{folder}" in pattern) and not file.system:
            return self.leave(file, "it is not known which system wants it", Cause.SYSTEM)
        return self.at(file, self.plan.fill_in(pattern, file.system, file.name))

    def _of_game(self, file: Brought, *, has_parts: bool) -> Target:
        way = self._way(file.system)
        if not way.folder:
            return Target("", f"this plan has no folder for {file.system}", Cause.FOLDER)
        if self.is_unpacked(file) and file.packed is not None:
            return Target(f"{way.folder}/{PurePosixPath(file.packed.member.name).name}")
        if way.opens and file.ending not in way.opens and file.ending not in way.packed and self.answers.get(
                f"ending {file.system} {file.ending}".rstrip()) != "bring in all the same":
            some = listed([*way.opens[:4], *way.packed])
            return Target("", f"this card opens {some} for {file.system}, not {file.ending or 'one without an ending'}",
                          Cause.ENDING)
        return Target(f"{way.folder}/{file.path.stem}/{file.name}" if has_parts and way.has_folders else
                      f"{way.folder}/{file.name}")

    def _way(self, code: str) -> Way:
        if code not in self._ways:
            plan, system = self.plan, self.plan.systems.get(code)
            folder = plan.folder_of(code)
            if not folder and self.answers.get(f"folder {code}") == "make one":
                folder = f"{plan.root}/{self._fresh(code)}".strip("/")
            self._ways[code] = Way(folder, plan.opens(code), plan.packings(code),
                                   system is not None and system.sets == "folder")
        return self._ways[code]

    def is_unpacked(self, file: Brought) -> bool:
        """Whether what is packed is brought in, and not the archive: where the plan does not open such archives."""
        if file.packed is None or file.role != Role.GAME:
            return False
        way = self._way(file.system)
        return file.ending not in way.opens and file.ending not in way.packed

    def leave(self, file: Brought, why: str, cause: Cause, to: str = "") -> Placed:
        """A file that does not come."""
        return Placed(file, Act.LEAVE, to, why, cause=cause)

    def at(self, file: Brought, to: str, *, keeps_name: bool = False) -> Placed:
        """A file at its place."""
        wanted, is_unpacked, ground = to, self.is_unpacked(file), self.ground
        to = self.stands(to, keeps_name=keeps_name)
        if to != wanted:
            self.renamed[wanted] = to
        folded = ground.facts.folded(to)
        entry = ground.there.get(folded)
        if folded in ground.taken:
            other = ground.taken[folded]
            is_same = self.card.are_same(file, other)
            if is_same is not False:
                same = "the same" if is_same else "what seems the same, by its size and some places,"
                return self.leave(file, f"{same} comes from {other.group} already", Cause.NONE, to)
            if keeps_name or file.role not in (Role.GAME, Role.SAVE) or self.answers.get(MET) == LEAVE_OUT:
                return self.leave(file, _meets(other, "goes there already"), Cause.MET, to)
            return replace(self.at(file, self._numbered(to)), why=_meets(other, "has its name"))
        if entry is not None and entry.kind != Kind.FILE:
            return self.leave(file, "a folder of that name is there", Cause.IN_THE_WAY, to)
        if entry is None and ground.is_full(to):
            return self.leave(file, "its folder has no room for more names", Cause.FULL)
        ground.take(to, file)
        if entry is None:
            return Placed(file, Act.COPY, to, file.reason, is_unpacked)
        act, why = self._beside_it(file, entry, is_unpacked=is_unpacked)
        return Placed(file, act, to, why, is_unpacked)

    def _numbered(self, path: str) -> str:
        """A place with a number behind its name that nothing else of what is brought in has."""
        folder, slash, name = path.rpartition("/")
        stem, dot, ending = name.rpartition(".")
        for number in count(2):
            fresh = f"{folder}{slash}{stem or ending} ({number}){dot}{ending if stem else ''}"
            if self.ground.facts.folded(fresh) not in self.ground.taken:
                return fresh
        raise AssertionError("numbers do not end")

    def _beside_it(self, file: Brought, entry: Entry, *, is_unpacked: bool) -> tuple[Act, str]:
        """What becomes of a file whose place another one has."""
        packed = file.packed if is_unpacked else None
        size = packed.member.size if packed is not None else file.size
        is_same = entry.size == size and self._is_equal(packed or file.origin, entry)
        if is_same is None:
            return Act.SEEMS, "it seems to be there; the job compares it"
        if is_same:
            return Act.SKIP, "it is there with the same contents"
        return Act.KEEP_BOTH, "another one of that name is there; it stays under a dated name"

    def _is_equal(self, origin: Origin, entry: Entry) -> bool | None:
        try:
            return self.card.is_equal(origin, entry)
        except MossError:
            return False                                     # what cannot be read here tells itself when it is copied

    def stands(self, to: str, *, keeps_name: bool = False) -> str:
        """A place as the file system and the card's menu take it."""
        folder, slash, name = to.rpartition("/")
        if folder not in self._folders:
            self._folders[folder] = "/".join(self._possible(part) for part in folder.split("/"))
        possible = f"{self._folders[folder]}{slash}{self._possible(name)}"
        return possible if keeps_name else self._suited(possible)

    def _possible(self, name: str) -> str:
        """A name as this file system takes it."""
        why_not = self.ground.facts.why_not
        return proposed_name(name, set(), why_not) if why_not(name) else name

    def _suited(self, path: str) -> str:
        """A place whose name the card's menu takes too; two names that become one are told apart by a number."""
        rules = self.plan.names
        folder, slash, name = path.rpartition("/")
        most = min([length for length in (rules.most, rules.path - len(folder) - 1 if rules.path else 0) if length > 0],
                   default=0)
        if (not most or len(name) <= most) and (not rules.ascii or name.isascii()):
            return path
        taken = self.ground.names[self.ground.facts.folded(folder)]
        return f"{folder}{slash}{menu_name(name, most, taken, is_plain=rules.ascii)}"

    def _fresh(self, code: str) -> str:
        """A folder for a system that the plan does not name; numbers go on where those of the plan end."""
        names, own = systems().by_code[code].names, [folder for each in self.plan.systems.values()
                                                     for folder in each.folders]
        numbers = [int(found[0]) for folder in own if (found := _NUMBER.match(folder))]
        self._made += 1
        return self.plan.fresh.format(name=names[0] if names else code, code=code, CODE=code.upper(),
                                      number=max(numbers, default=len(self.plan.systems)) + self._made)


def _meets(other: Brought, how: str) -> str:
    return f"“{other.name}” of {other.group} {how}"


def _by_liking(games: list[Brought], plan: FolderPlan) -> list[Brought]:
    """Of one disc in several forms the one first that the plan likes best; the others meet its name then."""
    return sorted(games, key=lambda each: _liking(each, plan))


def _liking(file: Brought, plan: FolderPlan) -> int:
    opens = plan.opens(file.system)
    return opens.index(file.ending) if file.ending in DISCS and file.ending in opens else 0


def _below(lead: Brought, parts: dict[str, list[Brought]]) -> list[Brought]:
    """Everything that a sheet or list names, and what that names in turn."""
    found, open_, seen = list[Brought](), [lead], {str(lead.path)}
    while open_:
        for each in parts.get(str(open_.pop().path), ()):
            if str(each.path) not in seen:
                seen.add(str(each.path))
                found.append(each)
                open_.append(each)
    return found


def _within(file: Brought, lead: Brought) -> PurePosixPath:
    """Its path seen from the folder of the sheet; what lies elsewhere comes beside it."""
    base = lead.path.parent
    return file.path.relative_to(base) if file.path.is_relative_to(base) else PurePosixPath(file.name)


def _is_game(name: str) -> bool:
    ending = name.rpartition(".")[2].casefold()
    return ending not in ("txt", "xml", "png", "jpg", "sav", "srm")
