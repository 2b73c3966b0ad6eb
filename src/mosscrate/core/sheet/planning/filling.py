"""From what is brought in to a sheet that puts it onto a card; the same for what is on it, under another plan."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from functools import partial
from math import log2
from pathlib import Path

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.roles import is_system
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError
from mosscrate.core.fill import overlay
from mosscrate.core.fill.asking import GO_ON, WANT
from mosscrate.core.fill.bringing import Brought, bring, bring_from_volume, bring_unpacked
from mosscrate.core.fill.chores import Chores, chores
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.learning import learn
from mosscrate.core.fill.lists import NO_LISTS, Lists
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.pictures.gathering import fetched_before
from mosscrate.core.fill.pictures.server import PictureServer
from mosscrate.core.fill.placed import Act, Flow, Placed, Question, Sorted, in_order
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.regrouping import Regrouped, regroup
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.fill.tree_home import BLOCK, TreeHome, read_file
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.choosing import Choice, completed, plans_at
from mosscrate.core.sheet.planning.elsewhere import Elsewhere, elsewhere
from mosscrate.core.sheet.planning.from_crate import held_for
from mosscrate.core.sheet.planning.roomier import GROW, KEY, Roomier, roomier
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import AnyStep, CopyFiles, MakeFolders, PutFiles, RegroupFiles, RemoveFiles
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, facts_of
from mosscrate.core.watch import Watch

BARE, LEAVE_SO, ASK_SERVER = "bare", "leave them as they are", "ask a picture server…"


@dataclass(frozen=True)
class Filling:
    """What a card would be filled with: its partition, the plan, everything sorted, and the sheet; None for nothing.

    `questions` are all that are asked, most worth first.
    """

    partition: int
    plan: FolderPlan
    sorted: Sorted
    questions: tuple[Question, ...]
    sheet: JobSheet | None


@dataclass(frozen=True)
class Regrouping:
    """What would change places on a card, as streams from folder to folder, and the sheet for it; None for nothing.

    `unsure` are folders of which it is not known whose they are; they stay. `questions` are about the card itself.
    """

    partition: int
    found: Regrouped
    now: FolderPlan
    flows: tuple[Flow, ...]
    unsure: tuple[str, ...]
    questions: tuple[Question, ...]
    sheet: JobSheet | None


def regroup_under(card: Medium, plan: FolderPlan, *, partition: int, now: FolderPlan | None = None,
                  plans: Path | None = None, answers: dict[str, str] | None = None,
                  said: dict[str, str] | None = None) -> Regrouping:
    """Lay the files of a card out by another plan. Raises MediumError, FitError, FormatError.

    `now` is the plan by which they lie; where it is left out what the card teaches, beside the plans that are known
    (a person's own in `plans`) and what was `said` of its folders.
    """
    with card.open() as blocks:
        volume = open_partition(blocks, partition)
        facts, entries = facts_of(volume.variant), volume.tree().entries
        if facts is None or not facts.is_written:
            raise FitError(f"Files on partition {partition} of {card.name} cannot be changed.")
        learnt = learn(entries, volume.read_at, said)
        own = now or completed(learnt, plans_at(plans))
        found = regroup(entries, own, plan, facts, OnTheCard(volume.read_at, volume.read_file), answers)
        unsure = () if now else tuple(line.folder for line in learnt.asked if not any(
            own.folder_of(guess.system) == line.folder for guess in line.guesses))
    todo = chores(entries, plan, facts, answers or {})
    moving = RegroupFiles(partition, tuple(found.moves), tuple(found.moves.values()), found.emptied)
    steps = (*chore_steps(todo, partition), *((moving,) if found.moves else ()))
    files, sizes = Counter[tuple[str, str]](), Counter[tuple[str, str]]()
    for entry in entries:
        if entry.path in found.moves:
            way = (entry.path.rpartition("/")[0], found.moves[entry.path].rpartition("/")[0])
            files[way] += 1
            sizes[way] += entry.size
    flows = tuple(Flow(*way, Act.COPY, files[way], size) for way, size in sizes.most_common())
    sheet = JobSheet(steps, None, reference(card)) if steps else None
    return Regrouping(partition, found, own, flows, unsure, (*found.questions, *todo.questions), sheet)


def chore_steps(todo: Chores, partition: int) -> tuple[AnyStep, ...]:
    """What a person has asked for on the card itself."""
    return (*((RemoveFiles(partition, todo.removed),) if todo.removed else ()),
            *((MakeFolders(partition, todo.folders),) if todo.folders else ()))


@dataclass(frozen=True)
class Sources:
    """What is brought in: files and folders of this computer, archives among them, and another card or backup.

    `pictures_from` is the address of a picture server whose pictures were fetched before. Raises MediumError where
    that is none.
    """

    folders: Sequence[Path] = ()
    card: Medium | None = None
    pictures_from: str = ""

    def __post_init__(self) -> None:
        if self.pictures_from:
            PictureServer(self.pictures_from, Watch())           # asks nothing yet

    @property
    def names(self) -> list[str]:
        """As people call them."""
        return [*(folder.name for folder in self.folders), *([self.card.name] if self.card else [])]


def fill(card: Medium, sources: Sources, choice: Choice | FolderPlan, watch: Watch, *, partition: int,
         answers: dict[str, str] | None = None, lists: Lists = NO_LISTS, gallery: Gallery | None = None,
         bench: Bench | None = None) -> Filling:
    """Sort what is brought in onto a card. Raises MediumError, FitError, FormatError, PlanError, Stopped.

    Pictures that `gallery` has not scaled yet are left out for now; without one they come as they are. System files
    that are missing are looked for in the crate of `bench`.
    """
    plan, asked = (choice.plan, choice.questions) if isinstance(choice, Choice) else (choice, ())
    answers = answers or {}
    with _opened(card, sources, partition, watch, lists) as ground:
        todo, more = chores(ground.home.there, plan, ground.home.facts, answers), ground.roomier
        grows = more if more is not None and answers.get(KEY) == GROW else None
        home = replace(ground.home, there=[entry for entry in ground.home.there if not _is_in(entry, todo.removed)],
                       free=grows.free if grows else ground.home.free)
        found = _sorted(replace(ground, home=home), plan, sources, Help(answers, gallery, bench))
        boot = ground.elsewhere(found.placed, answers)
    steps = (*((grows.step,) if grows else ()), *chore_steps(todo, partition), *steps_of(found, partition), *boot.steps)
    asked = (*asked, *todo.questions, *boot.questions, *((more.question,) if more else ()),
             *((_about_bare(len(found.bare)),) if found.bare and gallery is not None else ()))
    questions = tuple(sorted((*found.questions, *asked), key=lambda each: -each.worth))
    return Filling(partition, plan, found, questions, _sheet(card, sources, steps) if found.fits else None)


@dataclass(frozen=True)
class TreeFilling:
    """What a folder without a volume of ours would be filled with."""

    plan: FolderPlan
    sorted: Sorted
    questions: tuple[Question, ...]

    @property
    def is_something(self) -> bool:
        """Whether there is anything to be done."""
        return bool(self.sorted.coming or self.sorted.seeming or self.sorted.renamed)


@contextmanager
def fill_tree(home: TreeHome, sources: Sources, choice: Choice, watch: Watch, *, answers: dict[str, str] | None = None,
              lists: Lists = NO_LISTS, gallery: Gallery | None = None,
              bench: Bench | None = None) -> Iterator[TreeFilling]:
    """Sort what is brought in into a folder; what comes from another card can be read while this is a context.

    Raises as `fill`.
    """
    with ExitStack() as open_:
        brought = brought_from(sources, None, open_, watch, lists)
        ground = _Ground(brought, Home(home.entries(), home.facts, BLOCK, home.free()),
                         OnTheCard(home.read_at, partial(read_file, home)))
        found = _sorted(ground, choice.plan, sources, Help(answers or {}, gallery, bench))
        bare = (_about_bare(len(found.bare)),) if found.bare and gallery is not None else ()
        questions = sorted((*found.questions, *choice.questions, *bare), key=lambda each: -each.worth)
        yield TreeFilling(choice.plan, found, tuple(questions))


@dataclass(frozen=True)
class Help:
    """What a sorting can draw on: answers of the person, pictures that were made, the bench with its crate."""

    answers: dict[str, str]
    gallery: Gallery | None
    bench: Bench | None


def _sorted(ground: _Ground, plan: FolderPlan, sources: Sources, help_: Help) -> Sorted:
    """Sorted once, and again with what the crate and a picture server have for it."""
    answers, gallery, bench = help_.answers, help_.gallery, help_.bench
    ground.on_card.take_time(answers)
    found = sort(ground.brought, plan, ground.home, ground.on_card, answers=answers, gallery=gallery)
    lost = {question.key.removeprefix(WANT) for question in found.questions if question.key.startswith(WANT)}
    held = held_for([want for want in plan.wants if want.file in lost], bench) if bench and lost else {}
    more = [each.brought for file, each in held.items() if answers.get(f"{WANT}{file}") != GO_ON]
    if gallery is not None and sources.pictures_from and found.bare:
        more += fetched_before(sources.pictures_from, found.bare, gallery)
    if not more and not held:
        return found
    return sort([*ground.brought, *more], plan, ground.home, ground.on_card, answers=answers, gallery=gallery,
                in_crate={file: each.sentence for file, each in held.items()})


def lay_over(card: Medium, sources: Sources, watch: Watch, *, partition: int, answers: dict[str, str] | None = None,
             plan: FolderPlan | None = None) -> Filling:
    """Lay what is brought in over a card as it is. Raises MediumError, FitError, FormatError, Stopped.

    What `plan`, by which the card is filled, wants and does not find afterwards is told.
    """
    with _opened(card, sources, partition, watch, NO_LISTS, bring_unpacked) as ground:
        laid = overlay.lay_over(ground.brought, ground.home, ground.on_card, answers or {},
                                plan or overlay.AS_IT_IS)
    existing = Existing.KEEP_BOTH if laid.keeps_old else Existing.REPLACE
    sheet = _sheet(card, sources, steps_of(laid.sorted, partition, existing)) if laid.sorted.fits else None
    return Filling(partition, overlay.AS_IT_IS, laid.sorted, laid.sorted.questions, sheet)


@dataclass(frozen=True)
class _Ground:
    brought: list[Brought]
    home: Home
    on_card: OnTheCard
    roomier: Roomier | None = None
    elsewhere: Callable[[Sequence[Placed], dict[str, str]], Elsewhere] = lambda _placed, _answers: Elsewhere()


@contextmanager
def _opened(card: Medium, sources: Sources, partition: int, watch: Watch, lists: Lists,
            bring_: Callable[[Sequence[Path], Watch, Lists], list[Brought]] = bring) -> Iterator[_Ground]:
    """The card and what is brought in, while things are planned."""
    with ExitStack() as open_, card.open() as blocks:
        brought = brought_from(sources, card, open_, watch, lists, bring_)
        layout = survey(blocks)
        look = next((look for look in layout.partitions if look.index == partition), None)
        if look is None or look.volume is None or look.volume.free is None or look.volume.facts is None:
            raise FitError(f"{card.name} has no partition {partition} that takes files.")
        volume = open_partition(blocks, partition)
        home = Home(volume.tree().entries, look.volume.facts, look.volume.block, look.volume.free)
        yield _Ground(brought, home, OnTheCard(volume.read_at, volume.read_file),
                      roomier(layout, partition, card.name), partial(elsewhere, blocks, layout, partition))


def _about_bare(number: int) -> Question:
    has = "has" if number == 1 else "have"
    return Question(BARE, f"{counted(number, 'game')} {has} no picture.", (LEAVE_SO, ASK_SERVER),
                    1500 + 100 * log2(1 + number), number)


def _is_in(entry: Entry, removed: Sequence[str]) -> bool:
    return bool(removed) and (entry.path in removed or entry.path.startswith(tuple(f"{each}/" for each in removed)))


def _sheet(card: Medium, sources: Sources, steps: tuple[AnyStep, ...]) -> JobSheet | None:
    is_carried = any(isinstance(step, CopyFiles) for step in steps)
    return JobSheet(steps, reference(sources.card) if sources.card and is_carried else None,
                    reference(card)) if steps else None


def brought_from(sources: Sources, card: Medium | None, open_: ExitStack, watch: Watch, lists: Lists,
                 bring_: Callable[[Sequence[Path], Watch, Lists], list[Brought]] = bring) -> list[Brought]:
    """All of it; what comes from another card than `card`, the one that is filled, can be read while `open_` is.

    Raises MediumError, FitError, FormatError, Stopped.
    """
    brought = bring_(sources.folders, watch, lists)
    if sources.card is not None:
        brought += _from_card(sources.card, card, open_.enter_context(sources.card.open()), watch, lists)
    return brought


def _from_card(source: Medium, card: Medium | None, blocks: Blocks, watch: Watch, lists: Lists) -> list[Brought]:
    """Files of every volume that can be listed, but those with the system of a machine."""
    if card is not None and source.key == card.key:
        raise FitError(f"{card.name} is the card that is filled. Choose another one to bring in from.")
    found = list[Brought]()
    for look in survey(blocks).partitions:
        if look.volume is None or look.volume.used is None:
            continue
        volume = open_partition(blocks, look.index)
        if not is_system({entry.path for entry in volume.tree().entries}):
            found += bring_from_volume(f"partition {look.index} of {source.name}" if found else source.name, volume,
                                       look.index, watch, lists)
    return found


def steps_of(found: Sorted, partition: int, existing: Existing = Existing.KEEP_BOTH) -> tuple[AnyStep, ...]:
    """Renames first, for they cost nothing; then what is copied, from this computer and from the other card."""
    steps = list[AnyStep]()
    if found.renamed:
        steps.append(RegroupFiles(partition, tuple(found.renamed), tuple(found.renamed.values())))
    for placed, way in ((found.coming, existing), (found.seeming, Existing.KEEP_DIFFERENT)):
        order = sorted(placed, key=in_order)
        by_home = {home: [each for each in order if each.origin.home == home]
                   for home in dict.fromkeys(each.origin.home for each in order)}
        for home, files in by_home.items():
            paths, places = tuple(each.origin.said for each in files), tuple(each.to for each in files)
            steps.append(PutFiles(partition, paths, existing=way, places=places) if home is None else
                         CopyFiles(home, partition, existing=way, only=paths, places=places))
    return tuple(steps)
