"""From what is brought in to a sheet that puts it onto a card, and the plan that fits the card best."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.roles import SYSTEM_TREE
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, PlanError
from mosscrate.core.fill.bringing import Brought, bring, bring_from_volume
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.learning import Learnt, learn
from mosscrate.core.fill.lists import NO_LISTS, Lists
from mosscrate.core.fill.placed import Act, Flow, Sorted
from mosscrate.core.fill.plans import FolderPlan, SystemPlan, own_plans, shipped
from mosscrate.core.fill.regrouping import Regrouped, regroup
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import AnyStep, CopyFiles, PutFiles, RegroupFiles
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import facts_of
from mosscrate.core.watch import Watch

SYSTEM_FOLDERS = 3                       # of a machine's system at the top of a volume: nothing to be brought in
FEW = 3                                  # folders that a card must have for its own plan to be taken


@dataclass(frozen=True)
class Filling:
    """What a card would be filled with: its partition, the plan, everything sorted, and the sheet; None for nothing."""

    partition: int
    plan: FolderPlan
    sorted: Sorted
    sheet: JobSheet | None


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


def nearest(learnt: Learnt, plans: dict[str, FolderPlan]) -> FolderPlan:
    """The plan that calls most folders of a card as they are called, those that would be asked too."""
    def likeness(plan: FolderPlan) -> int:
        return sum(any(plan.folder_of(guess.system).casefold() == line.folder.casefold() for guess in line.guesses)
                   for line in learnt.lines)

    return max(plans.values(), key=likeness)


def usual_plan(learnt: Learnt, plans: dict[str, FolderPlan]) -> FolderPlan:
    """The card's own where it has taught enough, else the nearest that is known."""
    return learnt.plan if len(learnt.plan.systems) >= FEW else nearest(learnt, plans)


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


@dataclass(frozen=True)
class Regrouping:
    """What would change places on a card, as streams from folder to folder, and the sheet for it; None for nothing.

    `unsure` are folders of which it is not known whose they are; they stay.
    """

    partition: int
    found: Regrouped
    now: FolderPlan
    flows: tuple[Flow, ...]
    unsure: tuple[str, ...]
    sheet: JobSheet | None


def regroup_under(card: Medium, plan: FolderPlan, *, partition: int, now: FolderPlan | None = None,
                  plans: Path | None = None) -> Regrouping:
    """Lay the files of a card out by another plan. Raises MediumError, FitError, FormatError.

    `now` is the plan by which they lie; where it is left out what the card teaches, beside the plans that are known
    (a person's own in `plans`).
    """
    with card.open() as blocks:
        volume = open_partition(blocks, partition)
        facts, entries = facts_of(volume.variant), volume.tree().entries
        if facts is None or not facts.is_written:
            raise FitError(f"Files on partition {partition} of {card.name} cannot be changed.")
        learnt = learn(entries, volume.read_at)
        own = now or completed(learnt, plans_at(plans))
        found = regroup(entries, own, plan, facts)
        unsure = () if now else tuple(line.folder for line in learnt.asked if not any(
            own.folder_of(guess.system) == line.folder for guess in line.guesses))
    step = RegroupFiles(partition, tuple(found.moves), tuple(found.moves.values()))
    files, sizes = Counter[tuple[str, str]](), Counter[tuple[str, str]]()
    for entry in entries:
        if entry.path in found.moves:
            way = (entry.path.rpartition("/")[0], found.moves[entry.path].rpartition("/")[0])
            files[way] += 1
            sizes[way] += entry.size
    flows = tuple(Flow(*way, Act.COPY, files[way], size) for way, size in sizes.most_common())
    sheet = JobSheet((step,), None, reference(card)) if found.moves else None
    return Regrouping(partition, found, own, flows, unsure, sheet)


@dataclass(frozen=True)
class Sources:
    """What is brought in: files and folders of this computer, archives among them, and another card or backup."""

    folders: Sequence[Path] = ()
    card: Medium | None = None

    @property
    def names(self) -> list[str]:
        """As people call them."""
        return [*(folder.name for folder in self.folders), *([self.card.name] if self.card else [])]


def fill(card: Medium, sources: Sources, plan: FolderPlan, watch: Watch, *, partition: int,
         answers: dict[str, str] | None = None, lists: Lists = NO_LISTS) -> Filling:
    """Sort what is brought in onto a card. Raises MediumError, FitError, FormatError, PlanError, Stopped."""
    with ExitStack() as open_, card.open() as blocks:
        brought = bring(sources.folders, watch, lists)
        if sources.card is not None:
            brought += _from_card(sources.card, card, open_.enter_context(sources.card.open()), watch, lists)
        look = next((look for look in survey(blocks).partitions if look.index == partition), None)
        if look is None or look.volume is None or look.volume.free is None or look.volume.facts is None:
            raise FitError(f"{card.name} has no partition {partition} that takes files.")
        volume = open_partition(blocks, partition)
        home = Home(volume.tree().entries, look.volume.facts, look.volume.block, look.volume.free)
        found = sort(brought, plan, home, OnTheCard(volume.read_at, volume.read_file), answers=answers)
    steps = steps_of(found, partition)
    is_carried = any(isinstance(step, CopyFiles) for step in steps)
    sheet = JobSheet(steps, reference(sources.card) if sources.card and is_carried else None, reference(card))
    return Filling(partition, plan, found, sheet if steps and found.fits else None)


def _from_card(source: Medium, card: Medium, blocks: Blocks, watch: Watch, lists: Lists) -> list[Brought]:
    """Files of every volume that can be listed, but those with the system of a machine."""
    if source.key == card.key:
        raise FitError(f"{card.name} is the card that is filled. Choose another one to bring in from.")
    found = list[Brought]()
    for look in survey(blocks).partitions:
        if look.volume is None or look.volume.used is None:
            continue
        volume = open_partition(blocks, look.index)
        if len(SYSTEM_TREE & {entry.path for entry in volume.tree().entries}) < SYSTEM_FOLDERS:
            found += bring_from_volume(source.name, volume, look.index, watch, lists)
    return found


def steps_of(found: Sorted, partition: int) -> tuple[AnyStep, ...]:
    """Renames first, for they cost nothing; then what is copied, from this computer and from the other card."""
    steps = list[AnyStep]()
    if found.renamed:
        steps.append(RegroupFiles(partition, tuple(found.renamed), tuple(found.renamed.values())))
    for placed, existing in ((found.coming, Existing.KEEP_BOTH), (found.seeming, Existing.KEEP_DIFFERENT)):
        order = sorted(placed, key=lambda each: (each.to.rpartition("/")[0], -each.size, each.to))
        by_home = {home: [each for each in order if each.origin.home == home]
                   for home in dict.fromkeys(each.origin.home for each in order)}
        for home, files in by_home.items():
            paths, places = tuple(each.origin.said for each in files), tuple(each.to for each in files)
            steps.append(PutFiles(partition, paths, existing=existing, places=places) if home is None else
                         CopyFiles(home, partition, existing=existing, only=paths, places=places))
    return tuple(steps)
