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

    def near(self, stem: str, ending: str, system: str, folder: str) -> Iterator[Named]:
        """Stems for a game whose file lies in a folder and ends with `ending`, the nearest first; numbers do not end.

        Each has room for the names of saves and states behind it.
        """
        plain, tried = _plain(stem) if self.plan.names.ascii else stem, set[str]()
        most, tails = self._most(ending, system, folder), self._tails(ending, system)

        def why_not(name: str) -> str:
            return next((why for tail in tails if (why := self.facts.why_not(_stem(name, ending) + tail))), "")

        while True:
            name = menu_name(plain + ending, most + len(ending) if most else LONGEST, tried, is_plain=False)
            name = name if name.endswith(ending) else f"{name}{ending}"
            if why_not(name):
                name = proposed_name(name, tried, why_not)
            yield Named(_stem(name, ending), name)
            tried.add(name.lower())

    def _most(self, ending: str, system: str, folder: str) -> int:
        """Letters that a stem may have, 0 for any."""
        rules, tails = self.plan.names, self._tails(ending, system)
        paths = [f"{folder}/{ending}", *(path.replace(_MARK, "") for path in _places(self.plan, system, ending))]
        found = (rules.stem, rules.most - max(map(len, tails)) if rules.most else 0,
                 rules.path - max(map(len, paths)) if rules.path else 0)
        return min((max(1, most) for most in found if most), default=0)

    def _tails(self, ending: str, system: str) -> tuple[str, ...]:
        """What stands behind the stem in names of the household: of its own file, and of saves and states."""
        names = (path.rpartition("/")[2] for path in _places(self.plan, system, ending))
        return (ending, *(name.partition(_MARK)[2].replace(_MARK, "") for name in names))


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
