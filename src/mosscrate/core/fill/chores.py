"""What can be done on the card itself: folders made, litter swept, preinstalled things taken away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fnmatch import fnmatch

from mosscrate.core.fill.litter import litter_on
from mosscrate.core.fill.placed import Question, asked, some_of
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Entry, Facts, Kind

SWEEP, MAKE, TAKE_AWAY, LEAVE = "sweep them", "make them", "take them away", "leave them"


@dataclass(frozen=True)
class Chores:
    """What is asked, and by the answers that were given what is removed and which folders are made."""

    questions: tuple[Question, ...]
    removed: tuple[str, ...]
    folders: tuple[str, ...]


def chores(entries: Sequence[Entry], plan: FolderPlan, facts: Facts, answers: dict[str, str]) -> Chores:
    """What a card itself could do with. Nothing is done that nobody has asked for."""
    litter = litter_on(entries, plan.litter, plan.reserved)
    preinstalled = [entry for entry in entries if entry.kind == Kind.FILE and any(
        fnmatch(entry.path.casefold(), pattern.casefold()) for pattern in plan.preinstalled)]
    missing = missing_folders(entries, plan, facts)
    found = list[Question]()
    if litter:
        size = sum(entry.size for entry in entries if entry in litter or entry.path.startswith(tuple(
            f"{each.path}/" for each in litter)))
        names = some_of([each.name for each in litter])
        found.append(asked("litter there", f"{counted(len(litter), 'piece')} of litter that desktops have left on the "
                           f"card, {binary(size)}: {names}.", (LEAVE, SWEEP), 1, len(litter)))
    if preinstalled:
        size = sum(entry.size for entry in preinstalled)
        names = some_of([each.name for each in preinstalled])
        found.append(asked("preinstalled", f"{counted(len(preinstalled), 'file')} came preinstalled, {binary(size)}: "
                           f"{names}.", (LEAVE, TAKE_AWAY), 2, len(preinstalled)))
    if missing:
        found.append(asked("skeleton", f"{counted(len(missing), 'folder')} of this plan "
                           f"{'is' if len(missing) == 1 else 'are'} not on the card yet.",
                           ("make what is needed", MAKE), 2, len(missing)))
    removed = [*(litter if answers.get("litter there") == SWEEP else ()),
               *(preinstalled if answers.get("preinstalled") == TAKE_AWAY else ())]
    return Chores(tuple(found), tuple(dict.fromkeys(entry.path for entry in removed)),
                  tuple(missing) if answers.get("skeleton") == MAKE else ())


def missing_folders(entries: Sequence[Entry], plan: FolderPlan, facts: Facts) -> list[str]:
    """Folders of a plan that are not on a card, for every system that it names."""
    there = {facts.folded(entry.path) for entry in entries if entry.kind == Kind.FOLDER}
    wanted = dict.fromkeys(folder for code in plan.systems for folder in plan.skeleton_of(code))
    return [folder for folder in wanted if facts.folded(folder) not in there]
