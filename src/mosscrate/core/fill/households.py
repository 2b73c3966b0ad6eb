"""Households: a game and all that belongs to it, formed from any tree by one function.

Who belongs to whom: what a sheet or list names; then the name of the game letter by letter, the nearest folder first;
then its words. Several answers of one rule are a question, never the first of them.
"""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import takewhile

from mosscrate.core.contents.comparing import are_equal
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import NOTHING_TELLS, OF_A_STATE, Brought, Role
from mosscrate.core.fill.saves import ALIKE, stem_of, words_of
from mosscrate.core.fill.sets import Lacking, sets_of
from mosscrate.core.fill.systems import systems
from mosscrate.core.sizes import MIB

DISCS = ("cue", "gdi", "ccd", "mds", "chd", "pbp", "iso", "cso", "cdi")
OTHERS = frozenset((Role.SAVE, Role.STATE, Role.CLOCK, Role.PICTURE, Role.PATCH, Role.MANUAL))
PICTURE_ENDINGS = ("png", "jpg", "jpeg", "bmp")
TAILS = ("-image", "-thumb", "-boxart")  # what stands behind the game's name in that of a picture
WHOSE = "whose "                         # in front of a path, in the key of a question about it
COMPARED = 64 * MIB                      # bytes up to which two files of one name are compared to tell whose a save is
_DATED = re.compile(r" \(?\d{4}-\d\d-\d\d\)?(?: \(?\d+\)?)?$")
_NO_TITLE = re.compile(r"(game|disc|disk|image|cd|track|untitled|rom)[ _-]*\d*", re.IGNORECASE)


@dataclass(frozen=True)
class Household:
    """A game's file, or its sheet; what that names, in turn; saves, states, clocks, pictures, patches and manuals."""

    lead: Brought
    parts: tuple[Brought, ...] = ()
    others: tuple[Brought, ...] = ()

    @property
    def files(self) -> tuple[Brought, ...]:
        """All of them."""
        return self.lead, *self.parts, *self.others

    @cached_property
    def stem(self) -> str:
        """The name of the game: that of the file without its ending, or of the folder where the file's says nothing."""
        lead = self.lead
        if lead.entry is not None:                           # it is called so on the card that is filled
            return stem_of(lead.name)
        if lead.packed is not None and _NO_TITLE.fullmatch(stem_of(lead.name)):
            return stem_of(lead.packed.member.name.rpartition("/")[2])
        if lead.ending in DISCS and _NO_TITLE.fullmatch(stem_of(lead.name)) and len(lead.path.parts) > 1:
            return lead.path.parts[-2]
        return stem_of(lead.name)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """What others may call it: the names of its files, and their stems; the likeliest first."""
        packed = (self.lead.packed.member.name.rpartition("/")[2],) if self.lead.packed is not None else ()
        files = (self.lead.name, *packed)
        return tuple(dict.fromkeys((*files, *map(stem_of, files), self.stem)))


@dataclass(frozen=True)
class Unsure:
    """A file that may belong to any of several."""

    file: Brought
    among: tuple[Household, ...]

    @property
    def labels(self) -> tuple[str, ...]:
        """The games by their names; by their paths where they have one name."""
        stems = [each.stem for each in self.among]
        return tuple(stems if len(set(stems)) == len(stems) else [str(each.lead.path) for each in self.among])


@dataclass(frozen=True)
class Gathered:
    """A tree as households, what belongs to none of them, what may belong to several, and sheets that lack files.

    `adopted` are files that belong to a household of another tree, with it.
    """

    households: tuple[Household, ...]
    loose: tuple[Brought, ...]
    unsure: tuple[Unsure, ...] = ()
    lacking: tuple[Lacking, ...] = ()
    adopted: tuple[tuple[Brought, Household], ...] = ()


Rule = Callable[[Brought, "Leads"], list[Household]]


def gather(files: Sequence[Brought], rules: Sequence[Rule] | None = None, *, beside: Sequence[Household] = (),
           answers: Mapping[str, str] | None = None) -> Gathered:
    """Form households.

    Args:
        files: of one tree.
        rules: by which it is told whose a file is, the surest first; by its name where left out.
        beside: households of another tree, which each rule asks where this one has none.
        answers: what a person has said of files that may belong to several, by WHOSE and their paths.
    """
    together, lacking = sets_of(files)
    games = list(_leads(together))
    trees = [Leads(each) for each in (games, beside) if each]
    own = {id(each) for each in games}
    others, adopted = defaultdict[int, list[Brought]](list), list[tuple[Brought, Household]]()
    loose, unsure = list[Brought](), list[Unsure]()
    for file in together:
        if file.role == Role.GAME:
            continue
        file = _as_picture(file, trees[0]) if games else file
        among = _one_of(next((found for rule in rules or BY_NAME for tree in trees if (found := rule(file, tree))), []),
                        file)
        if len(among) > 1:
            among = _as_said(Unsure(file, tuple(among)), answers or {})
        if not among:
            loose.append(file)
        elif len(among) > 1:
            unsure.append(Unsure(file, tuple(among)))
        elif id(among[0]) in own:
            others[id(among[0])].append(file)
        else:
            adopted.append((file, among[0]))
    return Gathered(tuple(replace(each, others=tuple(others[id(each)])) if id(each) in others else each
                          for each in games), tuple(loose), tuple(unsure), tuple(lacking), tuple(adopted))


def _as_picture(file: Brought, leads: Leads) -> Brought:
    """A picture of which nothing else tells what it is for, beside a game that is called so."""
    if file.role != Role.UNKNOWN or file.reason != NOTHING_TELLS or file.ending not in PICTURE_ENDINGS:
        return file
    own = replace(file, role=Role.PICTURE, reason="it lies beside its game and is called so", sure=1)
    return own if any(each.lead.path.parent == file.path.parent for each in leads.called(own)) else file


def _as_said(unsure: Unsure, answers: Mapping[str, str]) -> list[Household]:
    said = answers.get(f"{WHOSE}{unsure.file.path}")
    return [each for each, label in zip(unsure.among, unsure.labels, strict=True) if label == said] or \
        list(unsure.among)


def called(file: Brought, leads: Leads) -> list[Household]:
    """Those whose name a file has letter by letter; nobody's where it is nothing that belongs to games."""
    return leads.called(file) if file.role in OTHERS else []


def sounding_like(file: Brought, leads: Leads) -> list[Household]:
    """Those whose words it has."""
    return leads.sounding_like(file) if file.role in OTHERS else []


BY_NAME: tuple[Rule, ...] = (called, sounding_like)


class Leads:
    """Households, to be found by what others call them."""

    def __init__(self, households: Sequence[Household]) -> None:
        self._households = households

    @cached_property
    def _by_name(self) -> dict[str, list[Household]]:
        found: dict[str, list[Household]] = {}
        for each in self._households:
            for name in each.names:
                found.setdefault(folded(name), []).append(each)
        return found

    @cached_property
    def _by_words(self) -> dict[str, list[Household]]:
        found: dict[str, list[Household]] = {}
        for each in self._households:
            for words in dict.fromkeys(words_of(stem_of(name)) for name in each.names):
                found.setdefault(words, []).append(each)
        return found

    def named(self, name: str, system: str = "") -> list[Household]:
        """Those of a system, or any, that are called so."""
        found = self._by_name.get(folded(name), [])
        exact = [each for each in found if folded(each.lead.name) == folded(name)]
        return _of_system(exact or found, system)

    def called(self, file: Brought) -> list[Household]:
        """Those whose name a file has, letter by letter."""
        return next((hits for form, _ in forms_of(file) if (hits := self.named(form, file.system))), [])

    def sounding_like(self, file: Brought) -> list[Household]:
        """Those whose words a file has."""
        return next((hits for form, _ in forms_of(file)
                     if (hits := _of_system(self._by_words.get(words_of(form), []), file.system))), [])


def folded(name: str) -> str:
    """A name as names are compared here: composed letters, no case."""
    return name.lower() if name.isascii() else unicodedata.normalize("NFC", name).casefold()


def forms_of(file: Brought) -> Iterator[tuple[str, str]]:
    """Names that its game may have by a file's own name, each with the day that stands behind it, if any."""
    base = stem_of(file.name.removesuffix(OF_A_STATE) if file.role == Role.STATE else file.name)
    yield base, ""
    if file.role == Role.PICTURE:
        yield from ((base.removesuffix(tail), "") for tail in TAILS if base.endswith(tail))
    if day := _DATED.search(base):
        yield base[:day.start()], day[0]


def day_of(file: Brought, game: Household) -> str:
    """The day behind the name of a file that is no longer the one in use, such as “ (2026-12-01)”; "" of others."""
    names = {folded(name) for name in game.names}
    return next((day for form, day in forms_of(file) if folded(form) in names), "")


def save_in_use(home: Household, like: Brought) -> Brought | None:
    """The save of a game that is in use, of the kind of another one."""
    alike = ALIKE if like.ending in ALIKE else {like.ending}
    return next((each for each in home.others if each.role == Role.SAVE and each.ending in alike
                 and not day_of(each, home)), None)


def _leads(files: Sequence[Brought]) -> Iterator[Household]:
    """Games with what their sheets name; lists that name each other stand for themselves."""
    parts, done = defaultdict[str, list[Brought]](list), set[str]()
    games = [each for each in files if each.role == Role.GAME]
    for each in games:
        if each.lead:
            parts[each.lead].append(each)
    for each in games:
        if not each.lead:
            below = tuple(_below(each, parts))
            done |= {str(part.path) for part in (each, *below)}
            yield Household(each, below)
    for each in games:
        if str(each.path) not in done:
            yield Household(replace(each, lead=""))


def _below(lead: Brought, parts: Mapping[str, list[Brought]]) -> Iterator[Brought]:
    """Everything that a sheet or list names, and what that names in turn."""
    open_, seen = [lead], {str(lead.path)}
    while open_:
        for each in parts.get(str(open_.pop().path), ()):
            if str(each.path) not in seen:
                seen.add(str(each.path))
                open_.append(each)
                yield each


def _of_system(found: Sequence[Household], system: str) -> list[Household]:
    return [each for each in found if not system or not each.lead.system or systems().are_kin(each.lead.system, system)]


def _one_of(found: list[Household], file: Brought) -> list[Household]:
    """The nearest of some, then the one that is written alike; forms and copies of one game count as one."""
    if len(found) < 2:
        return found
    depth = [sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(
        each.lead.path.parts[:-1], file.path.parts[:-1], strict=False))) for each in found]
    near = [each for each, deep in zip(found, depth, strict=True) if deep == max(depth)]
    forms = {form for form, _ in forms_of(file)}
    alike = [each for each in near if forms & set(each.names)] or near
    return alike[:1] if all(_are_one(alike[0].lead, each.lead) for each in alike[1:]) else alike


def _are_one(game: Brought, other: Brought) -> bool:
    """Whether two files are one disc in two forms, or equal."""
    if game.ending in DISCS and other.ending in DISCS and game.ending != other.ending:
        return game.system == other.system
    if game.size != other.size or game.print != other.print or game.size > COMPARED:
        return False
    try:
        return are_equal(game.origin.read(), other.origin.read())
    except MossError:
        return False
