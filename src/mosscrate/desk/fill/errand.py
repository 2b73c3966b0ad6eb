"""What the station has to find out beside the window, and what will happen in a sentence. No Qt."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.errors import FitError
from mosscrate.core.fill.lists import lists_at
from mosscrate.core.fill.overlay import AS_IT_IS
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import Act
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.said import plan_of, said_of
from mosscrate.core.fill.tree_home import TreeHome
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.choosing import Choice, choose_for_tree, choose_plan, home_of
from mosscrate.core.sheet.planning.filling import (
    Filling,
    Regrouping,
    Sources,
    TreeFilling,
    fill,
    fill_tree,
    lay_over,
    regroup_under,
)
from mosscrate.core.sheet.running.pouring import pour
from mosscrate.core.sheet.steps import MakeFolders, PutFiles, RemoveFiles
from mosscrate.core.sizes import counted, listed
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Wish:
    """What is brought in, the id of the plan ("" for the card's own), what was said, and what there is for it."""

    sources: Sources
    wanted: str
    answers: dict[str, str]
    plans: dict[str, FolderPlan]
    bench: Bench

    @property
    def plan(self) -> FolderPlan | None:
        """The plan that was chosen; None for the card's own."""
        return self.plans.get(self.wanted)


@dataclass(frozen=True)
class Errand:
    """A card, and what is wished for it."""

    card: Medium
    wish: Wish

    def sorted(self) -> Filling | Regrouping:
        """What goes where; with nothing brought in, the card's own files under the plan. Raises MossError."""
        wish, home, state = self.wish, home_of(self.card), self.wish.bench.state
        if wish.wanted == AS_IT_IS.id:
            return lay_over(self.card, wish.sources, Watch(), partition=home, answers=wish.answers,
                            plan=wish.plans.get(plan_of(state, self.card.key)))
        if wish.plan is not None and not wish.sources.names:
            return regroup_under(self.card, wish.plan, partition=home, plans=state / "plans", answers=wish.answers,
                                 said=said_of(state, self.card.key))
        choice = wish.plan or choose_plan(self.card, home, wish.plans, state, answers=wish.answers,
                                          like=wish.sources.card)
        return fill(self.card, wish.sources, choice, Watch(), partition=home, answers=wish.answers,
                    lists=lists_at(state / "lists"), gallery=gallery_at(state), bench=wish.bench)


@dataclass(frozen=True)
class TreeErrand:
    """The same for a folder of this computer, or of a running device."""

    home: TreeHome
    wish: Wish

    def sorted(self) -> TreeFilling:
        """What goes where. Raises MossError."""
        with self._opened(Watch()) as found:
            return found

    def poured(self, shown: TreeFilling, watch: Watch) -> str:
        """Do what was shown; says what was done. Raises MossError, FitError where things are otherwise by now."""
        with self._opened(watch) as found:
            if [(p.to, p.act) for p in found.sorted.placed] != [(p.to, p.act) for p in shown.sorted.placed]:
                raise FitError(f"Something in {self.home.name} or in what is brought in has changed meanwhile. Look "
                               "again; nothing was written.")
            return pour(self.home, found.sorted, watch)

    @contextmanager
    def _opened(self, watch: Watch) -> Iterator[TreeFilling]:
        wish, state = self.wish, self.wish.bench.state
        choice = Choice(wish.plan) if wish.plan is not None else choose_for_tree(
            self.home, wish.plans, state, answers=wish.answers, like=wish.sources.card)
        with fill_tree(self.home, wish.sources, choice, watch, answers=wish.answers, bench=wish.bench,
                       lists=lists_at(state / "lists"), gallery=gallery_at(state)) as found:
            yield found


def gallery_at(state: Path) -> Gallery:
    """Where pictures are kept that were scaled or fetched."""
    return Gallery(state / "pictures")


def what_happens(found: Filling | TreeFilling) -> str:
    """In a sentence or two."""
    if not found.sorted.fits:
        return "It does not fit; say what is left out."
    steps = found.sheet.steps if isinstance(found, Filling) and found.sheet is not None else ()
    if not steps and (isinstance(found, Filling) or not found.is_something):
        return "Nothing is to be written."
    elsewhere = sum(len(step.places) for step in steps if isinstance(step, PutFiles) and isinstance(found, Filling)
                    and step.partition != found.partition)
    removed = sum(len(step.paths) for step in steps if isinstance(step, RemoveFiles))
    folders = sum(len(step.paths) for step in steps if isinstance(step, MakeFolders))
    parts = [f"{counted(number, noun)} {verb}" for number, noun, verb in (
        (len(found.sorted.coming), "file", "written"), (len(found.sorted.renamed), "file", "renamed on the card"),
        (len(found.sorted.seeming), "file", "compared"), (folders, "folder", "made"), (removed, "item", "removed"),
        (elsewhere, "boot file", "put in its place"))
        if number]
    return f"To be done: {listed(parts)}. What is there already stays."


def names_that_change(found: Filling | TreeFilling) -> dict[str, str]:
    """What comes, or is on the card, under one name → the place where it goes under another."""
    return {each.was or str(each.file.path): each.to for each in found.sorted.placed
            if each.to and each.act not in (Act.LEAVE, Act.SKIP, Act.SEEMS)
            and (each.was or each.to.rpartition("/")[2] not in (each.file.name, each.origin.said.rpartition("/")[2]))}


def what_moves(found: Regrouping) -> str:
    """What a card laid out by another plan means for what is on it."""
    moves, gone, stay = found.found.moves, found.found.emptied, found.found.met
    left = [f"{code} has no folder there" for code in found.found.homeless]
    left += [f"it is not known whose “{folder}” is" for folder in found.unsure[:3]]
    left += [f"{counted(len(stay), 'file')} without a place there"] if stay else []
    made = sum(len(step.paths) for step in found.sheet.steps if isinstance(step, MakeFolders)) if found.sheet else 0
    gone_ = f", and {counted(len(gone), 'emptied folder')} would go" if gone else ""
    parts = [f"{counted(len(moves), 'file')} would get another place, each game with all that belongs to it"
             f"{gone_}." if moves else "",
             f"Left as it is: {listed(left)}." if left else "",
             f"{counted(made, 'folder')} will be made." if made else ""]
    return " ".join(filter(None, parts)) or "Everything lies as that plan wants it."
