"""Sorting what is brought in: places, files that are renamed on the card instead of copied, room and questions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from mosscrate.core.contents.naming import folders_above
from mosscrate.core.contents.needs import room_for
from mosscrate.core.fill.asking import ROOM, WHAT_FITS, questions_about, too_much
from mosscrate.core.fill.bringing import Brought, as_said
from mosscrate.core.fill.companions import AS_THEY_ARE, ENDINGS, pictures_of
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.households import gather
from mosscrate.core.fill.on_card import TheCard
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import COMING, Act, Bare, Cause, Placed, Sorted
from mosscrate.core.fill.placing import Placing
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.using import changes_of, questions_about_saves
from mosscrate.core.volumes import Entry, Facts, Kind


@dataclass(frozen=True)
class Home:
    """The volume that is filled: what is on it, what is true of its kind, its allocation unit and free bytes."""

    there: Sequence[Entry]
    facts: Facts
    block: int
    free: int


def sort(brought: Iterable[Brought], plan: FolderPlan, home: Home, card: OnTheCard, *,
         answers: dict[str, str] | None = None, in_crate: dict[str, str] | None = None,
         gallery: Gallery | None = None) -> Sorted:
    """Sort what is brought in.

    Args:
        brought: files.
        plan: where they go.
        home: the volume that is filled.
        card: its files, for comparing.
        answers: by the keys of questions.
        in_crate: wanted system files that a backup holds, with a sentence about it.
        gallery: pictures that were scaled before; None takes pictures as they are.
    """
    answers, facts = answers or {}, home.facts
    there = {facts.folded(entry.path): entry for entry in home.there}
    on_card = TheCard(home.there, plan, card, facts)
    gathered = gather([as_said(each, answers) for each in brought], beside=on_card.games, answers=answers)
    placing = Placing(plan, Ground(facts, there), card, answers, on_card, gallery)
    placing.use(changes_of(on_card, answers))
    placed = placing.place_all(gathered)
    if answers.get(ROOM) == WHAT_FITS:
        placed = _as_fits(placed, there, home)
    coming = [each for each in placed if each.act in COMING]
    need, size = room_of(coming, there, home), sum(each.size for each in coming)
    questions = [*questions_about(placed, placing, gathered, in_crate or {}), *questions_about_saves(on_card)]
    if need > home.free:
        questions += too_much(placed, need, home.free)
    bare = _without_picture(placing) if gallery is not None else ()
    return Sorted(tuple(placed), placing.along, bare, tuple(sorted(questions, key=lambda each: -each.worth)), need,
                  need - size, home.free)


def _as_fits(placed: list[Placed], there: dict[str, Entry], home: Home) -> list[Placed]:
    """Households in their order as far as there is room; one that has none is left out as a whole."""
    groups, left = dict[str, list[Placed]](), home.free
    for number, each in enumerate(placed):
        if each.act in COMING:
            groups.setdefault(each.home or f"alone {number}", []).append(each)
    out = set[int]()
    for files in groups.values():
        need = room_of(files, there, home)                   # folders counted for each: rather too much than too little
        if need <= left:
            left -= need
        else:
            out |= {id(each) for each in files}
    return [replace(each, act=Act.LEAVE, to="", why="there is no room left for it", cause=Cause.ROOM)
            if id(each) in out else each for each in placed]


def room_of(coming: Sequence[Placed], there: dict[str, Entry], home: Home) -> int:
    """Bytes that files take there, clusters whole, with the folders that have to be made and the names in them."""
    folders = {path for path in folders_above(each.to for each in coming) if home.facts.folded(path) not in there}
    entries = [*(Entry(path, Kind.FOLDER, 0, None, 0) for path in folders),
               *(Entry(each.to, Kind.FILE, each.size, None, 0) for each in coming)]
    return room_for(entries, home.facts, home.block)


def _without_picture(placing: Placing) -> tuple[Bare, ...]:
    """Games on the card or on their way to it that have no picture, where the plan has a place for them."""
    ground, found = placing.ground, list[Bare]()
    pictured = {path.rpartition(".")[0] for where in (ground.there, ground.taken) for path in where
                if path.casefold().endswith(ENDINGS)}
    for (system, name), file in placing.games.items():
        pictures = pictures_of(placing.plan, system)
        if pictures is AS_THEY_ARE:
            continue
        place = placing.plan.fill_in(pictures.place, system, name)
        if ground.facts.folded(place).rpartition(".")[0] not in pictured:
            found.append(Bare(system, name, file))
    return tuple(found)
