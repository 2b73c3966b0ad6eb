"""From what is brought in to a sheet that puts it onto a card, and the plan that fits the card best."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, PlanError
from mosscrate.core.fill.bringing import bring
from mosscrate.core.fill.learning import Learnt, learn
from mosscrate.core.fill.plans import FolderPlan, own_plans, shipped
from mosscrate.core.fill.regrouping import Regrouped, regroup
from mosscrate.core.fill.sorting import Sorted, equal_by_contents, local_paths, sort
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import PutFiles, RegroupFiles
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import facts_of
from mosscrate.core.watch import Watch

FEW = 3                                  # folders that a card must have for its own plan to be taken


@dataclass(frozen=True)
class Filling:
    """What a card would be filled with: its partition, the plan, everything sorted, and the sheet; None for nothing."""

    partition: int
    plan: FolderPlan
    sorted: Sorted
    sheet: JobSheet | None


def plans_at(folder: Path) -> dict[str, FolderPlan]:
    """Those that ship and a person's own, by id; own ones that cannot be used are left out."""
    return shipped() | {plan.id: plan for plan in own_plans(folder) if not isinstance(plan, PlanError)}


def learn_from(card: Medium, partition: int, answers: dict[str, str] | None = None) -> Learnt:
    """What a card itself teaches. Raises MediumError, FormatError."""
    with card.open() as blocks:
        volume = open_partition(blocks, partition)
        return learn(volume.tree().entries, volume.read_at, answers)


def nearest(learnt: FolderPlan, plans: dict[str, FolderPlan]) -> FolderPlan:
    """The plan whose folders are most like those of a card."""
    def likeness(plan: FolderPlan) -> float:
        same = sum(plan.folder_of(code).casefold() == learnt.folder_of(code).casefold() for code in learnt.systems)
        return same / max(1, len(learnt.systems))

    return max(plans.values(), key=likeness)


def usual_plan(learnt: Learnt, plans: dict[str, FolderPlan]) -> FolderPlan:
    """The card's own where it has taught enough, else the nearest that is known."""
    return learnt.plan if len(learnt.plan.systems) >= FEW else nearest(learnt.plan, plans)


def home_of(card: Medium) -> int:
    """The partition that takes files: the one with the most free room. Raises FitError, MediumError."""
    with card.open() as blocks:
        open_ = [look for look in survey(blocks).partitions
                 if look.volume and look.volume.free is not None and look.volume.facts and look.volume.facts.is_written]
    if not open_:
        raise FitError(f"{card.name} has no volume that takes files. Format one first.")
    return max(open_, key=lambda look: (look.volume.free or 0) if look.volume else 0).index


@dataclass(frozen=True)
class Regrouping:
    """What would change places on a card, and the sheet for it; None for nothing."""

    found: Regrouped
    now: FolderPlan
    sheet: JobSheet | None


def regroup_under(card: Medium, plan: FolderPlan, *, partition: int, now: FolderPlan | None = None) -> Regrouping:
    """Lay the files of a card out by another plan. Raises MediumError, FitError, FormatError.

    `now` is the plan by which they lie; what the card teaches where it is left out.
    """
    with card.open() as blocks:
        volume = open_partition(blocks, partition)
        facts, entries = facts_of(volume.variant), volume.tree().entries
        if facts is None or not facts.is_written:
            raise FitError(f"Files on partition {partition} of {card.name} cannot be changed.")
        own = now or learn(entries, volume.read_at).plan
        found = regroup(entries, own, plan, facts)
    step = RegroupFiles(partition, tuple(found.moves), tuple(found.moves.values()))
    return Regrouping(found, own, JobSheet((step,), None, reference(card)) if found.moves else None)


def fill(card: Medium, folders: Sequence[Path], plan: FolderPlan, watch: Watch, *, partition: int,
         answers: dict[str, str] | None = None) -> Filling:
    """Sort folders of this computer onto a card. Raises MediumError, FitError, FormatError, Stopped."""
    brought = bring(folders, watch)
    with card.open() as blocks:
        look = next((look for look in survey(blocks).partitions if look.index == partition), None)
        if look is None or look.volume is None or look.volume.free is None or look.volume.facts is None:
            raise FitError(f"{card.name} has no partition {partition} that takes files.")
        volume = open_partition(blocks, partition)
        found = sort(brought, plan, volume.tree().entries, look.volume.facts, block=look.volume.block,
                     free=look.volume.free, is_equal=equal_by_contents(volume.read_file), answers=answers)
    paths, places = local_paths(found)
    step = PutFiles(partition, paths, existing=Existing.KEEP_BOTH, places=places)
    return Filling(partition, plan, found, JobSheet((step,), None, reference(card)) if paths and found.fits else None)
