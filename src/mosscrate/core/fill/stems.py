"""One stem for a household: near the name that it has, as the file system and the menu of the card take it."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from typing import NamedTuple

from mosscrate.core.contents.naming import menu_name, proposed_name
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.volumes import Facts

NO_LETTERS = "Game"                      # what a game is called of whose name a plain menu can show nothing
LONGEST = 255
_BRACKETS = re.compile(r"\([^()]*\)|\[[^\[\]]*\]")
_MARK = "\x01"


class Named(NamedTuple):
    """A stem, and the name of the game's own file with it."""

    stem: str
    name: str


class Stems:
    """Finds them for a plan on a kind of volume."""

    def __init__(self, plan: FolderPlan, facts: Facts) -> None:
        self.plan, self.facts = plan, facts
        self._behind: dict[tuple[str, str], _Behind] = {}

    def near(self, stem: str, ending: str, system: str, folder: str) -> Iterator[Named]:
        """Stems for a game whose file lies in a folder and ends with `ending`, the nearest first; numbers do not end.

        Each has room for the names of saves and states behind it.
        """
        plain, tried = _plain(stem) if self.plan.names.ascii else stem, set[str]()
        behind = self._behind_of(system, ending)
        most, why_not = self._most(folder, ending, behind), self.facts.why_not

        def why_not_all(name: str) -> str:
            return next((why for tail in behind.tails if (why := why_not(_stem(name, ending) + tail))), "")

        while True:
            name = menu_name(plain + ending, most + len(ending) if most else LONGEST, tried, is_plain=False)
            name = name if name.endswith(ending) else f"{name}{ending}"
            if why_not_all(name):
                name = proposed_name(name, tried, why_not_all)
            yield Named(_stem(name, ending), name)
            tried.add(name.lower())

    def _most(self, folder: str, ending: str, behind: _Behind) -> int:
        """Letters that a stem may have, 0 for any."""
        rules = self.plan.names
        longest = max(len(folder) + 1 + len(ending), behind.longest_path)
        found = (rules.stem, rules.most - max(map(len, behind.tails)) if rules.most else 0,
                 rules.path - longest if rules.path else 0)
        return min((max(1, most) for most in found if most), default=0)

    def _behind_of(self, system: str, ending: str) -> _Behind:
        key = system, ending
        if key not in self._behind:
            places = _places(self.plan, system, ending)
            names = (path.rpartition("/")[2] for path in places)
            tails = (ending, *(name.partition(_MARK)[2].replace(_MARK, "") for name in names))
            self._behind[key] = _Behind(tuple(dict.fromkeys(tails)), max((len(path) - 1 for path in places), default=0))
        return self._behind[key]


class _Behind(NamedTuple):
    """What stands behind the stem in names of a household: its own file, saves and states; their longest path else."""

    tails: tuple[str, ...]
    longest_path: int


def _places(plan: FolderPlan, system: str, ending: str) -> list[str]:
    """Where saves and states of a game would lie, with a mark for its stem."""
    own = plan.systems.get(system)
    parts = ((own.saves if own else None) or plan.saves, (own.states if own else None) or plan.states)
    filled = (plan.fill_in(part.place, system, f"{_MARK}{ending}", "0", ending="sav") for part in parts if part)
    return [path for path in filled if _MARK in path]


def _plain(stem: str) -> str:
    """In plain letters; accents off."""
    plain = "".join(c for c in unicodedata.normalize("NFKD", stem) if 31 < ord(c) < 127).strip(" .-_")
    return plain if any(c.isalnum() for c in _BRACKETS.sub("", plain)) else NO_LETTERS


def _stem(name: str, ending: str) -> str:
    if ending and name.endswith(ending):
        return name.removesuffix(ending)
    return name.rpartition(".")[0] or name if ending else name
