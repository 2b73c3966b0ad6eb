"""What the station has to find out beside the window, and what will happen in a sentence. No Qt."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.fill.lists import lists_at
from mosscrate.core.fill.overlay import AS_IT_IS
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.said import said_of
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.choosing import choose_plan, home_of
from mosscrate.core.sheet.planning.filling import Filling, Regrouping, Sources, fill, lay_over, regroup_under
from mosscrate.core.sheet.steps import MakeFolders, RemoveFiles
from mosscrate.core.sizes import counted, listed
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Errand:
    """The card, what is brought in, the id of the plan ("" for the card's own), and what was said."""

    card: Medium
    sources: Sources
    wanted: str
    answers: dict[str, str]
    plans: dict[str, FolderPlan]
    bench: Bench

    def sorted(self) -> Filling | Regrouping:
        """What goes where; with nothing brought in, the card's own files under the plan. Raises MossError."""
        home, plan = home_of(self.card), self.plans.get(self.wanted)
        if self.wanted == AS_IT_IS.id:
            return lay_over(self.card, self.sources, Watch(), partition=home, answers=self.answers)
        if plan is not None and not self.sources.names:
            return regroup_under(self.card, plan, partition=home, plans=self.bench.state / "plans",
                                 answers=self.answers, said=said_of(self.bench.state, self.card.key))
        choice = plan or choose_plan(self.card, home, self.plans, self.bench.state, answers=self.answers,
                                     like=self.sources.card)
        return fill(self.card, self.sources, choice, Watch(), partition=home, answers=self.answers,
                    lists=lists_at(self.bench.state / "lists"), gallery=gallery_at(self.bench.state), bench=self.bench)


def gallery_at(state: Path) -> Gallery:
    """Where pictures are kept that were scaled or fetched."""
    return Gallery(state / "pictures")


def what_happens(found: Filling) -> str:
    """In a sentence or two."""
    if not found.sorted.fits:
        return "It does not fit; say what is left out."
    if found.sheet is None:
        return "Nothing is to be written."
    removed = sum(len(step.paths) for step in found.sheet.steps if isinstance(step, RemoveFiles))
    folders = sum(len(step.paths) for step in found.sheet.steps if isinstance(step, MakeFolders))
    parts = [f"{counted(number, noun)} {verb}" for number, noun, verb in (
        (len(found.sorted.coming), "file", "written"), (len(found.sorted.renamed), "file", "renamed on the card"),
        (len(found.sorted.seeming), "file", "compared"), (folders, "folder", "made"), (removed, "item", "removed"))
        if number]
    return f"To be done: {listed(parts)}. What is there already stays."
