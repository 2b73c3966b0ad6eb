"""Where the games of each system go, and what is opened there."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from mosscrate.core.fill.on_card import TheCard
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.systems import systems

FOLDERS, MAKE_ONE, MAKE_ALL = "folders", "make one", "make all of them"      # key of a question, and answers
LEAVE_OUT = "leave out"
_NUMBER = re.compile(r"\d+")


@dataclass(frozen=True)
class Way:
    """Of a system: its folder on the card, what it opens, and whether each set has a folder of its own."""

    folder: str
    opens: tuple[str, ...]
    packed: tuple[str, ...]
    has_folders: bool


class Ways:
    """By the codes of systems: as the plan has it, else as the card has it, else in a folder that is made."""

    def __init__(self, plan: FolderPlan, there: TheCard, answers: Mapping[str, str]) -> None:
        self.plan, self.there, self.answers = plan, there, answers
        self._ways: dict[str, Way] = {}
        self._made = 0                                     # folders of systems that the plan does not name

    def of(self, code: str) -> Way:
        """That of a system; its folder is "" where there is none."""
        if code not in self._ways:
            plan, system = self.plan, self.plan.systems.get(code)
            folder = plan.folder_of(code) or self.there.folder_called(code)
            makes = MAKE_ONE if self.answers.get(FOLDERS) == MAKE_ALL else LEAVE_OUT
            if not folder and self.answers.get(f"folder {code}", makes) == MAKE_ONE:
                folder = f"{plan.root}/{self._fresh(code)}".strip("/")
            self._ways[code] = Way(folder, plan.opens(code), plan.packings(code),
                                   system is not None and system.sets == "folder")
        return self._ways[code]

    def _fresh(self, code: str) -> str:
        """A folder for a system that the plan does not name; numbers go on where those of the plan end."""
        names, own = systems().by_code[code].names, [folder for each in self.plan.systems.values()
                                                     for folder in each.folders]
        numbers = [int(found[0]) for folder in (*own, *self.there.tops) if (found := _NUMBER.match(folder))]
        self._made += 1
        return self.plan.fresh.format(name=names[0] if names else code, code=code, CODE=code.upper(),
                                      number=max(numbers, default=len(self.plan.systems)) + self._made)
