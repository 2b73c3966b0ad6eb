"""Which plan a card is filled by: its own where it teaches one, what a person has said of it, else the nearest."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from math import log2
from pathlib import Path

from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, PlanError
from mosscrate.core.fill.learning import Learnt, learn
from mosscrate.core.fill.placed import Question
from mosscrate.core.fill.plans import FolderPlan, SystemPlan, own_plans, shipped
from mosscrate.core.fill.said import remember, said_of
from mosscrate.core.fill.tree_home import TreeHome
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry

ReadEntry = Callable[[Entry, int, int], bytes]

ALIKE = 0.8                              # share of a card's folders that a plan names, to be taken for the card's
ASKED = "folder is "                     # in front of a folder, in the key of a question about it
LATER, NONE = "ask me later", "none"
CANDIDATES = 3
PLAN = "plan"                            # key of the question which plan a card follows of which nothing tells it


@dataclass(frozen=True)
class Choice:
    """A plan, and what has to be asked about the folders of the card."""

    plan: FolderPlan
    questions: tuple[Question, ...] = ()


def plans_at(folder: Path | None) -> dict[str, FolderPlan]:
    """Those that ship and a person's own, by id; own ones that cannot be used are left out."""
    own = own_plans(folder) if folder is not None else iter(())
    return shipped() | {plan.id: plan for plan in own if not isinstance(plan, PlanError)}


def wrong_plans(folder: Path) -> list[str]:
    """What is wrong with a person's own plans that cannot be used."""
    return [str(each) for each in own_plans(folder) if isinstance(each, PlanError)]


def learn_from(card: Medium, partition: int, answers: dict[str, str] | None = None) -> Learnt:
    """What a card itself teaches. Raises MediumError, FormatError."""
    with card.open() as blocks:
        volume = open_partition(blocks, partition)
        return learn(volume.tree().entries, volume.read_at, answers)


def choose_plan(card: Medium, partition: int, plans: dict[str, FolderPlan], state: Path, *,
                answers: dict[str, str] | None = None, like: Medium | None = None) -> Choice:
    """The card's own plan where it has taught enough, else that of a card which is brought in, else the nearest.

    Answers to what was asked of folders are noted for the card. Raises MediumError, FormatError, PlanError.
    """
    _note(card.key, answers, state)
    return _chosen(learn_from(card, partition, said_of(state, card.key)), plans, state, card.key, like, answers or {})


def choose_for_tree(home: TreeHome, plans: dict[str, FolderPlan], state: Path, *,
                    answers: dict[str, str] | None = None, like: Medium | None = None) -> Choice:
    """The same for a folder, which is known by its name. Raises MediumError, PlanError."""
    _note(home.name, answers, state)
    learnt = learn(home.entries(), home.read_at, said_of(state, home.name))
    return _chosen(learnt, plans, state, home.name, like, answers or {})


def choose_for_fresh(entries: Sequence[Entry], read_at: ReadEntry, plans: dict[str, FolderPlan], state: Path,
                     like: Medium) -> FolderPlan:
    """For a volume that a sheet is going to write: its own, else that of the card whose files go onto it.

    Raises MediumError, FormatError.
    """
    learnt = learn(entries, read_at)
    try:
        return _chosen(learnt, plans, state, "", like, {}).plan
    except FitError:                                         # nothing can be learnt from the other one
        return _chosen(learnt, plans, state, "", None, {}).plan


def _note(key: str, answers: dict[str, str] | None, state: Path) -> None:
    said = {folder.removeprefix(ASKED): "" if word == NONE else word for folder, word in (answers or {}).items()
            if folder.startswith(ASKED) and word != LATER}
    if said:
        remember(state, key, said)


def _chosen(learnt: Learnt, plans: dict[str, FolderPlan], state: Path, key: str, like: Medium | None,
            answers: Mapping[str, str]) -> Choice:
    if learnt.plan.systems:
        own, near = completed(learnt, plans), nearest(learnt, plans)
        if likeness(near, learnt) < ALIKE * len(learnt.lines):           # where its saves would go is another's guess
            own = replace(own, saves=learnt.plan.saves, pictures=learnt.plan.pictures)
        return Choice(own, questions_of(learnt, own))
    other = learn_from(like, home_of(like), said_of(state, like.key)) if like is not None else None
    if other is not None and other.plan.systems:
        assert like is not None, "it was learnt from"
        return Choice(replace(other.plan, name=f"as {like.name} has it"))
    near = nearest(learnt, plans)
    if likeness(near, learnt):
        return Choice(near, questions_of(learnt, near))
    said = next((plan for plan in plans.values() if plan.name == answers.get(PLAN)), near)
    return Choice(said, (_about_plan(near, plans), *questions_of(learnt, said)))


def _about_plan(near: FolderPlan, plans: dict[str, FolderPlan]) -> Question:
    """Where nothing on a card tells which plan it follows, a person says it; what is shown follows the answer."""
    names = dict.fromkeys((near.name, *(plan.name for plan in plans.values())))
    return Question(PLAN, "No folder of this card tells which plan it follows. What is shown is laid out by this one.",
                    tuple(names), 9900.0, 0)


def questions_of(learnt: Learnt, plan: FolderPlan) -> tuple[Question, ...]:
    """One for each folder of which it is not known whose it is, and which the plan does not call so either."""
    named = {f"{plan.root}/{folder}".strip("/").casefold() for system in plan.systems.values()
             for folder in system.folders}
    return tuple(Question(f"{ASKED}{line.folder}", f"Which system is the folder “{line.folder}” for? "
                          f"{line.why_not[:1].upper()}{line.why_not[1:]}.",
                          (LATER, *(g.system for g in line.guesses[:CANDIDATES]), NONE),
                          3000 + 100 * log2(1 + line.files), line.files) for line in learnt.asked
                 if line.folder.casefold() not in named)


def nearest(learnt: Learnt, plans: dict[str, FolderPlan]) -> FolderPlan:
    """The plan that calls most folders of a card as they are called, those that would be asked too."""
    return max(plans.values(), key=lambda plan: likeness(plan, learnt))


def likeness(plan: FolderPlan, learnt: Learnt) -> int:
    """How many folders of a card a plan calls as they are called."""
    return sum(any(plan.folder_of(guess.system).casefold() == line.folder.casefold() for guess in line.guesses)
               for line in learnt.lines)


def completed(learnt: Learnt, plans: dict[str, FolderPlan]) -> FolderPlan:
    """What a card has taught, and of what would be asked those folders that the nearest plan calls the same."""
    near, own = nearest(learnt, plans), learnt.plan
    more = {code: SystemPlan(line.folder.removeprefix(f"{near.root}/") if near.root else line.folder)
            for line in learnt.asked for code in [guess.system for guess in line.guesses]
            if near.folder_of(code).casefold() == line.folder.casefold() and code not in own.systems}
    root = own.root if own.systems else near.root
    fits = {code: system for code, system in more.items() if root == near.root}
    return replace(own, root=root, systems=own.systems | fits, saves=own.saves or near.saves,
                   pictures=own.pictures or near.pictures)


def home_of(card: Medium) -> int:
    """The partition that takes files: the one with the most free room. Raises FitError, MediumError."""
    with card.open() as blocks:
        open_ = [look for look in survey(blocks).partitions
                 if look.volume and look.volume.free is not None and look.volume.facts and look.volume.facts.is_written]
    if not open_:
        raise FitError(f"{card.name} has no volume that takes files. Format one first.")
    return max(open_, key=lambda look: (look.volume.free or 0) if look.volume else 0).index

