"""The same games under another plan: where each file of a card would go, by renaming alone.

Households of the card under the one plan are placed under the other as if they were brought in; each moves as a whole.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import chain

from mosscrate.core.contents.naming import folders_above
from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.companions import ALL_THE_SAME
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.households import WHOSE, Gathered, Household, Unsure
from mosscrate.core.fill.on_card import TheCard, tops_of
from mosscrate.core.fill.placed import Act, Cause, Placed, Question, asked, some_of
from mosscrate.core.fill.placing import Placing
from mosscrate.core.fill.plans import FolderPlan, SystemPlan
from mosscrate.core.fill.swapping import BRING_TOO, RENAMES
from mosscrate.core.fill.using import changes_of, questions_about_saves
from mosscrate.core.fill.ways import LEAVE_OUT
from mosscrate.core.sizes import counted, listed
from mosscrate.core.volumes import Entry, Facts, Kind

STAY = "leave them where they are"
FREELY = ("states ", "ending ", "save size ", "manuals ")      # keys of what is not asked of files that are there


@dataclass(frozen=True)
class Regrouped:
    """What changes places.

    Attributes:
        moves: paths and their new places.
        homeless: systems that the other plan has no folder for.
        staying: files that have no place under the other plan, with why.
        emptied: folders that hold nothing any more.
        questions: with the keys of answers that change this.
    """

    moves: dict[str, str]
    homeless: tuple[str, ...] = ()
    staying: tuple[Placed, ...] = ()
    emptied: tuple[str, ...] = ()
    questions: tuple[Question, ...] = ()

    @property
    def met(self) -> tuple[str, ...]:
        """Files that stay where they are, though their games or systems have a place."""
        return tuple(sorted(str(each.file.path) for each in self.staying if each.cause != Cause.FOLDER))


def regroup(entries: Sequence[Entry], now: FolderPlan, then: FolderPlan, facts: Facts, card: OnTheCard,
            answers: Mapping[str, str] | None = None) -> Regrouped:
    """Where files go when a card that is laid out by one plan is to be laid out by another.

    Games keep what folders they stand in below that of their system; all that belongs to them goes along.
    """
    answers = answers or {}
    own = _with_folders_made(now, entries)
    there = TheCard(entries, own, card, facts, answers)
    about_saves, used = questions_about_saves(there), changes_of(there, answers)
    if used:
        entries = [replace(each, path=used.get(each.path, each.path)) for each in entries]
        there = TheCard(entries, own, card, facts, answers)
    homes = [each for each in there.games if not there.is_contested(each)]
    loose = [each for each in there.gathered.loose if each.role == Role.SYSTEM]
    left = [Placed(each.lead, Act.LEAVE, cause=Cause.NONE) for each in there.games if there.is_contested(each)]
    while True:
        placed = _placed(entries, homes, loose, then, facts, card, answers)
        stay = {str(each.file.path): each for each in placed if each.act != Act.COPY}
        if not stay:
            break
        left += stay.values()
        homes = list(_without(homes, stay))
        loose = [each for each in loose if str(each.path) not in stay]
    moves = {str(each.file.path): each.to for each in placed
             if facts.folded(each.to) != facts.folded(str(each.file.path))}
    homeless = tuple(dict.fromkeys(each.file.system for each in left if each.cause == Cause.FOLDER))
    questions = (*_questions(left, homeless), *(_about_whose(each) for each in there.gathered.unsure), *about_saves)
    return Regrouped(_behind(used, moves), homeless, tuple(left), _emptied(entries, moves), questions)


def _behind(first: Mapping[str, str], then: Mapping[str, str]) -> dict[str, str]:
    """Moves behind other moves, as one."""
    one = {path: then.get(place, place) for path, place in first.items()}
    return one | {path: place for path, place in then.items() if path not in first.values() and path not in one}


def _placed(entries: Sequence[Entry], homes: Sequence[Household], loose: Sequence[Brought], then: FolderPlan,
            facts: Facts, card: OnTheCard, answers: Mapping[str, str]) -> list[Placed]:
    """Households in their places under the other plan, on a card that holds all the rest."""
    moving = {str(file.path) for file in chain(loose, *(each.files for each in homes))}
    rest = [entry for entry in entries if entry.path not in moving]
    ground = Ground(facts, {facts.folded(entry.path): entry for entry in rest if entry.kind == Kind.FILE})
    placing = Placing(then, ground, card, _Freely(answers), TheCard(rest, then, card, facts))
    found = placing.place_all(Gathered(tuple(homes), tuple(loose)))
    once = {str(each.file.path): each for each in reversed(found)}       # a system file may be wanted in many places
    return list(once.values())


class _Freely(Mapping[str, str]):
    """Answers; what is asked of files that are brought in only is answered by taking them along."""

    def __init__(self, answers: Mapping[str, str]) -> None:
        self._answers = answers

    def __getitem__(self, key: str) -> str:
        if key == RENAMES:
            return BRING_TOO
        return ALL_THE_SAME if key.startswith(FREELY) else self._answers[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._answers)

    def __len__(self) -> int:
        return len(self._answers)


def _without(homes: Sequence[Household], stay: Mapping[str, Placed]) -> Iterator[Household]:
    """Households whose game can move, without those of their files that have no place."""
    for home in homes:
        if not any(str(each.path) in stay for each in (home.lead, *home.parts)):
            yield replace(home, others=tuple(each for each in home.others if str(each.path) not in stay))


def _with_folders_made(plan: FolderPlan, entries: Sequence[Entry]) -> FolderPlan:
    """With folders beside those of the plan that are called like systems which it does not name."""
    held = {other for system in plan.systems.values() for other in system.holds}
    used = {folder.casefold() for system in plan.systems.values() for folder in system.folders}
    made = {code: SystemPlan(name) for path, code in sorted(tops_of(entries, plan).items())
            if (name := path.rpartition("/")[2]).casefold() not in used
            and code and code not in plan.systems and code not in held}
    return replace(plan, systems={**plan.systems, **made})


def _emptied(entries: Sequence[Entry], moves: Mapping[str, str]) -> tuple[str, ...]:
    """Folders in which files were and none are then, without those in other such folders."""
    before = folders_above(entry.path for entry in entries if entry.kind != Kind.FOLDER)
    after = folders_above(moves.get(entry.path, entry.path) for entry in entries if entry.kind != Kind.FOLDER)
    gone = {folder for folder in before - after if folder.casefold() not in {each.casefold() for each in after}}
    kept = {entry.path for entry in entries if entry.kind == Kind.FOLDER} - gone
    gone = {folder for folder in gone if not any(other.startswith(f"{folder}/") for other in kept)}
    return tuple(sorted(folder for folder in gone if folder.rpartition("/")[0] not in gone))


def _questions(left: Sequence[Placed], homeless: Sequence[str]) -> Iterator[Question]:
    for code in homeless:
        files = [each for each in left if each.cause == Cause.FOLDER and each.file.system == code]
        yield asked(f"folder {code}", f"{code} has no folder in that plan: {counted(len(files), 'game')} with all that "
                    f"belongs to {'it' if len(files) == 1 else 'them'} would stay.", (STAY, "make one"), 6, len(files))
    met = [each for each in left if each.cause not in (Cause.FOLDER, Cause.NONE)]
    for why in dict.fromkeys(each.why for each in met):
        same = [each for each in met if each.why == why]
        stays, names = "stays" if len(same) == 1 else "stay", some_of([each.file.name for each in same])
        yield asked(f"stays {same[0].cause} {why}", f"{counted(len(same), 'file')} {stays}: {names}; {why}.", (STAY,),
                    5, len(same))


def _about_whose(unsure: Unsure) -> Question:
    return asked(f"{WHOSE}{unsure.file.path}", f"“{unsure.file.path}” may be of {listed(list(unsure.labels))}; "
                 "they stay where they are.", (LEAVE_OUT, *unsure.labels), 7, 1)
