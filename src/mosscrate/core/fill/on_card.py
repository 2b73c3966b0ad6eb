"""What lies on a card, as the plan has it by which it is filled: games in folders of systems, what belongs to them
where the plan's patterns say so.

Only places tell here, never words: what lies anywhere else is untouched.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from fnmatch import fnmatch
from functools import cached_property
from pathlib import PurePosixPath

from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import CLOCKS, MANUALS, PACKED, PATCHES, SAVES, TEXTS, Brought, Role, is_state
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.households import OTHERS, Household, Leads, Rule, forms_of, gather
from mosscrate.core.fill.origins import Origin
from mosscrate.core.fill.placed import Game
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.saves import ALIKE
from mosscrate.core.fill.sets import SHEETS
from mosscrate.core.fill.systems import systems
from mosscrate.core.fill.wanted import places_of
from mosscrate.core.volumes import Entry, Facts, Kind

_WORD = re.compile(r"\{(stem|file|slot|ending)\}")
_NAMES = {"stem": r"(?P<name>.+)", "file": r"(?P<name>.+)", "slot": r"\d*", "ending": r"[^.]*"}
_OF_A_SYSTEM = re.compile(r"\{(folder|code|CODE|name|number)\b")
_ANY_ENDING = re.compile(r"\\\.\w+$")


@dataclass(frozen=True)
class _Spot:
    """A name that says whose a file in its folder is; `system` is "" where games of all share the folder."""

    role: Role
    system: str
    name: re.Pattern[str]


class PlanPlaces:
    """A plan read backwards: from a path to what it is."""

    def __init__(self, plan: FolderPlan, facts: Facts) -> None:
        self.plan, self.facts = plan, facts
        self._systems = {facts.folded(f"{plan.root}/{folder}".strip("/")): code
                         for code, system in plan.systems.items() for folder in system.folders}
        self._spots = defaultdict[str, list[_Spot]](list)
        for code, system in plan.systems.items():
            for role, part in ((Role.SAVE, system.saves or plan.saves), (Role.STATE, system.states or plan.states),
                               (Role.PICTURE, system.pictures or plan.pictures)):
                for pattern in (part.place, *getattr(part, "also", ())) if part is not None else ():
                    for folder in system.folders:
                        self._note(role, code, folder, pattern)
        self._wanted = {facts.folded(place) for want in plan.wants for place in places_of(plan, want)}
        self._system_files = {facts.folded(plan.fill_in(plan.system_files, code, "x").rpartition("/")[0]): code
                              for code in plan.systems} if "/" in plan.system_files else {}

    def _note(self, role: Role, code: str, folder: str, pattern: str) -> None:
        above, _, name = pattern.rpartition("/")
        if "{stem}" in above or "{file}" in above or not _WORD.search(name):
            return
        words = {**self.plan.words_of(code), "folder": folder, "stem": "{stem}", "file": "{file}", "slot": "{slot}",
                 "ending": "{ending}"}
        where = self.facts.folded(re.sub("/+", "/", above.format(**words)).strip("/"))
        spot = _Spot(role, code if _OF_A_SYSTEM.search(pattern) else "", _pattern(name.format(**words), role))
        if spot not in self._spots[where]:
            self._spots[where].append(spot)

    def system_of(self, path: str) -> tuple[str, str]:
        """The system in whose folder a path lies, and that folder; "" and "" where it lies elsewhere."""
        above = path.rpartition("/")[0]
        while above:
            if code := self._systems.get(self.facts.folded(above)):
                return code, above
            above = above.rpartition("/")[0]
        return "", ""

    def said(self, path: str) -> Iterator[tuple[Role, str, str]]:
        """What the place of a file says: its role, the system ("" for any) and the name of its game."""
        above, _, name = path.rpartition("/")
        for spot in self._spots.get(self.facts.folded(above), ()):
            if found := spot.name.fullmatch(name):
                yield spot.role, spot.system, found["name"]

    def wanting(self, path: str) -> str | None:
        """The system ("" for any) that a system file is for by its place; None for what is none."""
        above = self.facts.folded(path.rpartition("/")[0])
        if above in self._system_files and above not in self._systems:
            return self._system_files[above] if _OF_A_SYSTEM.search(self.plan.system_files) else ""
        return "" if self.facts.folded(path) in self._wanted else None

    def is_reserved(self, path: str) -> bool:
        """Whether the card keeps a file for itself."""
        return any(fnmatch(path.casefold(), pattern.casefold()) for pattern in self.plan.reserved)


def _pattern(name: str, role: Role) -> re.Pattern[str]:
    """Of a name in a plan's pattern; whatever saves or pictures may end with."""
    form = re.escape(name).replace(r"\{", "{").replace(r"\}", "}")
    if role in (Role.SAVE, Role.PICTURE):
        form = _ANY_ENDING.sub(r"\\.\\w+", form)
    form = _WORD.sub(lambda word: _NAMES[word[1]], form)
    return re.compile(f"{form}(?:\\.png)?" if role == Role.STATE else form, re.IGNORECASE)


def files_on(entries: Iterable[Entry], places: PlanPlaces, card: OnTheCard) -> list[Brought]:
    """The files of a card, each with what it is there; those that the card keeps for itself are left out."""
    found = list[Brought]()
    for entry in entries:
        if entry.kind != Kind.FILE or places.is_reserved(entry.path):
            continue
        system, folder = places.system_of(entry.path)
        role, code = _known(entry, places, system)
        below = entry.path.removeprefix(f"{folder}/").rpartition("/")[0] if folder else ""
        found.append(Brought(PurePosixPath(entry.path), card.origin(entry), "the card", entry.size,
                             entry.modified or 0, role, code, below=below, entry=entry))
    return found


def _known(entry: Entry, places: PlanPlaces, system: str) -> tuple[Role, str]:
    """What a file is by its place and ending, and whose system's."""
    name = entry.name
    stem, _, ending = name.rpartition(".")
    ending = ending.casefold() if stem else ""
    if (wanting := places.wanting(entry.path)) is not None:
        return Role.SYSTEM, wanting
    if system and ending in places.plan.opens(system) and ending not in SAVES:     # what most of them are
        return Role.GAME, system
    said = {role for role, _, _ in places.said(entry.path)}
    by_ending = next((role for role, is_it in (
        (Role.SAVE, ending in SAVES), (Role.CLOCK, ending in CLOCKS), (Role.PATCH, ending in PATCHES),
        (Role.STATE, is_state(name)), (Role.PICTURE, kind_of(entry) == FileKind.PICTURE),
        (Role.MANUAL, ending in MANUALS or ending in TEXTS)) if is_it), None)
    if by_ending in said or (by_ending is None and Role.STATE in said):
        return by_ending or Role.STATE, system
    if system and _is_game(ending, places.plan, system, is_sure=by_ending is None):
        return Role.GAME, system
    own = systems().own.get(ending, "")
    if not system and by_ending is None and own:
        return Role.GAME, own
    return by_ending or Role.UNKNOWN, system


def _is_game(ending: str, plan: FolderPlan, system: str, *, is_sure: bool) -> bool:
    """Whether a file in the folder of a system is a game; by its plan alone where the ending says something else."""
    if ending in plan.opens(system) or ending in plan.packings(system):
        return True
    own = systems().by_code[system]
    return is_sure and (ending in own.endings or ending in own.shared or ending in systems().own or ending in PACKED
                        or ending in SHEETS)


def by_place(places: PlanPlaces) -> tuple[Rule, ...]:
    """Whose a file of a card is: of the game beside it that is called so, else of that which its place names."""
    def beside(file: Brought, leads: Leads) -> list[Household]:
        if file.role not in OTHERS and (file.role != Role.UNKNOWN or not places.system_of(str(file.path))[0]):
            return []
        return [each for each in leads.called(file) if each.lead.path.parent == file.path.parent]

    def where_it_belongs(file: Brought, leads: Leads) -> list[Household]:
        for role, system, name in places.said(str(file.path)):
            if role != (Role.SAVE if file.role == Role.CLOCK else file.role):
                continue
            whole = next((form for form, day in forms_of(file) if day and name.startswith(form)), name)
            for form in dict.fromkeys((name, whole)):
                found = [each for each in leads.named(form) if system in ("", each.lead.system)
                         and places.system_of(str(each.lead.path))[0]]
                if found:
                    return found
        return []

    return beside, where_it_belongs


class TheCard:
    """A card's households, and where they are once files changed places."""

    def __init__(self, entries: Sequence[Entry], plan: FolderPlan, card: OnTheCard, facts: Facts,
                 answers: Mapping[str, str] | None = None) -> None:
        self.places, self._card, self._facts = PlanPlaces(plan, facts), card, facts
        self.gathered = gather(files_on(entries, self.places, card), by_place(self.places), answers=answers)
        self.games = tuple(each for each in self.gathered.households if self.places.system_of(str(each.lead.path))[0])
        self._contested = {id(home.lead) for each in self.gathered.unsure for home in each.among}
        self._unsure = {str(each.file.path) for each in self.gathered.unsure}
        self._now: dict[str, str] = {}
        self._at = {facts.folded(str(file.path)): each for each in self.gathered.households for file in each.files}
        self._folders = tops_of(entries, plan)
        self._prints: dict[int, dict[bytes, list[Household]]] = {}
        self._twins = defaultdict[int, list[Household]](list)
        alone = (Household(each) for each in self.gathered.loose if each.role == Role.UNKNOWN)
        for each in (*self.gathered.households, *alone):
            if not each.parts:
                self._twins[each.lead.size].append(each)

    @property
    def tops(self) -> list[str]:
        """Names of the folders in which folders of systems lie."""
        return [path.rpartition("/")[2] for path in self._folders]

    def folder_called(self, system: str) -> str:
        """The folder of the card whose name stands for a system; "" where there is none."""
        return next((path for path, code in self._folders.items() if code == system), "")

    def is_contested(self, home: Household) -> bool:
        """Whether it is not known of a file whether it belongs to a household: that must not lose it."""
        return id(home.lead) in self._contested

    def is_anothers(self, entry: Entry, home: Household | None) -> bool:
        """Whether a file belongs to another household than one, or may do so."""
        owner = self.at(entry.path)
        return (owner is not None and owner is not home) or entry.path in self._unsure

    def at(self, path: str) -> Household | None:
        """The household to which the file at a place belongs."""
        return self._at.get(self._facts.folded(path))

    def is_in_place(self, file: Brought) -> bool:
        """Whether a file belongs to one of its households and lies where the plan has such files."""
        home = self._at.get(self._facts.folded(self.now(file))) if file.entry is not None else None
        return home is not None and any(each is file for each in home.files) and any(
            role == file.role for role, _, _ in self.places.said(str(file.path)))

    def now(self, file: Brought) -> str:
        """Where one of its files is, or is going to be."""
        return self._now.get(str(file.path), str(file.path))

    def game_of(self, home: Household) -> Game:
        """A household as it is called there now."""
        folder, _, name = self.now(home.lead).rpartition("/")
        return Game(home.lead.system, name, folder, home.lead.saves, home)

    def moved(self, moves: dict[str, str]) -> None:
        """Note that files change places."""
        homes = {place: self._at.pop(self._facts.folded(path), None) for path, place in moves.items()}
        self._at |= {self._facts.folded(place): home for place, home in homes.items() if home is not None}
        self._now |= moves

    def usual_ending(self, system: str) -> str:
        """What most plain saves of a system end with there; "" where there are none."""
        return self._usual.get(system, "")

    @cached_property
    def _usual(self) -> dict[str, str]:
        counts = defaultdict[str, Counter[str]](Counter)
        for home in self.games:
            counts[home.lead.system].update(each.ending for each in home.others if each.role == Role.SAVE
                                            and each.ending in ALIKE)
        return {system: each.most_common(1)[0][0] for system, each in counts.items() if each}

    def twin_of(self, origin: Origin, size: int, print_: Callable[[], bytes], is_free: Callable[[str], bool]) -> \
            Household | None:
        """A game of one file that holds the same as another file, and whose place nothing else has."""
        if size not in self._twins:
            return None
        try:
            for each in self._alike(size).get(print_(), ()):
                entry = each.lead.entry
                if entry is not None and str(each.lead.path) not in self._now and is_free(entry.path) \
                        and self._card.is_equal(origin, entry):
                    return each
        except MossError:
            return None
        return None

    def _alike(self, size: int) -> dict[bytes, list[Household]]:
        """Games of one file of a size, by their prints; what cannot be read is like nothing."""
        if size not in self._prints:
            found = self._prints[size] = defaultdict[bytes, list[Household]](list)
            for each in self._twins[size]:
                with suppress(MossError):
                    if each.lead.entry is not None:
                        found[self._card.print(each.lead.entry)].append(each)
        return self._prints[size]


def tops_of(entries: Iterable[Entry], plan: FolderPlan) -> dict[str, str]:
    """The folders in which a plan has those of systems: their paths, and the systems that their names stand for."""
    root = f"{plan.root}/" if plan.root else ""
    return {each.path: systems().called(each.name) for each in entries if each.kind == Kind.FOLDER
            and each.path.startswith(root) and "/" not in each.path.removeprefix(root)}
