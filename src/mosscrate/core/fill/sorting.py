"""Sorting what is brought in: places, files that are renamed on the card instead of copied, room and questions."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatch

from mosscrate.core.contents.naming import folders_above
from mosscrate.core.contents.needs import room_for
from mosscrate.core.errors import MossError
from mosscrate.core.fill.asking import questions_about, too_much
from mosscrate.core.fill.bringing import SAVES, Brought, Role, print_of
from mosscrate.core.fill.companions import AS_THEY_ARE, ENDINGS, pictures_of
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.headers import FRONT
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import Act, Bare, Placed, Sorted
from mosscrate.core.fill.placing import Placing
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.sets import sets_of
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
    together, lacking = sets_of(list(brought))
    placing = Placing(plan, Ground(facts, there), card, answers, gallery)
    placed, along = placing.place_all(together), dict[str, str]()
    if answers.get("renames") != "bring in as well":
        placed, along = _renamed(placed, plan, placing.ground, card)
    coming = [each for each in placed if each.act in (Act.COPY, Act.KEEP_BOTH)]
    need, size = room_of(coming, there, home), sum(each.size for each in coming)
    questions = questions_about(placed, placing, lacking, in_crate or {})
    if need > home.free:
        questions.append(too_much(placed, need, home.free))
    bare = _without_picture(placed, placing) if gallery is not None else ()
    return Sorted(tuple(placed), along, bare, tuple(sorted(questions, key=lambda each: -each.worth)), need,
                  need - size, home.free)


def room_of(coming: Sequence[Placed], there: dict[str, Entry], home: Home) -> int:
    """Bytes that files take there, clusters whole, with the folders that have to be made and the names in them."""
    folders = {path for path in folders_above(each.to for each in coming) if home.facts.folded(path) not in there}
    entries = [*(Entry(path, Kind.FOLDER, 0, None, 0) for path in folders),
               *(Entry(each.to, Kind.FILE, each.size, None, 0) for each in coming)]
    return room_for(entries, home.facts, home.block)


def _renamed(placed: list[Placed], plan: FolderPlan, ground: Ground, card: OnTheCard) -> tuple[list[Placed],
                                                                                              dict[str, str]]:
    """Games that are on the card already elsewhere, compared whole, get their place by a rename.

    With the saves that lie beside them. What the plan keeps for itself stays, as does a file whose own place is wanted
    by another one; system files are copied, since something may look for them where they are.
    """
    wanted = {number: each for number, each in enumerate(placed) if each.act == Act.COPY and each.size
              and each.file.role == Role.GAME and not each.file.lead and not each.file.is_lead}
    sizes = {each.size for each in wanted.values()}
    alike = defaultdict[bytes, list[Entry]](list)
    for entry in sorted(ground.there.values(), key=lambda each: each.node):
        is_free = ground.facts.folded(entry.path) not in ground.taken and not any(
            fnmatch(entry.path.casefold(), pattern.casefold()) for pattern in plan.reserved)
        if entry.kind == Kind.FILE and entry.size in sizes and is_free:
            alike[card.print(entry)].append(entry)
    if not alike:
        return placed, {}
    found, along = list(placed), dict[str, str]()
    for number, each in wanted.items():
        same = _same(each, alike, card)
        if same is not None:
            found[number] = replace(each, act=Act.RENAME, was=same.path,
                                    why="the card has it under another name, compared whole")
            _take_along(same, each, plan, ground, along)
    return found, along


def _same(placed: Placed, alike: dict[bytes, list[Entry]], card: OnTheCard) -> Entry | None:
    """The file of the card with the same contents; None where there is none, or no time to compare."""
    try:
        candidates = alike.get(_print_of(placed), [])
        for entry in candidates:
            if card.is_equal(placed.origin, entry):
                candidates.remove(entry)
                return entry
    except MossError:
        return None
    return None


def _print_of(placed: Placed) -> bytes:
    """See Brought.print; of what comes out of an archive, where that is not the whole of it. Raises MossError."""
    if placed.file.print and not placed.is_unpacked:
        return placed.file.print
    with placed.origin.opened() as read:
        return print_of(placed.size, read(0, min(FRONT, placed.size)))


def _take_along(entry: Entry, game: Placed, plan: FolderPlan, ground: Ground, along: dict[str, str]) -> None:
    """The save that lies beside a game, or where this plan has it, goes with it."""
    own, code = plan.systems.get(game.file.system), game.file.system
    saves = (own.saves if own is not None else None) or plan.saves
    if saves is None:
        return
    stem = entry.path.rpartition(".")[0] or entry.path
    places = [f"{stem}.{ending}" for ending in sorted(SAVES)]
    places += [plan.fill_in(pattern, code, entry.path) for pattern in (saves.place, *saves.also)]
    for place in places:
        there = ground.there.get(ground.facts.folded(place))
        if there is None or there.kind != Kind.FILE:
            continue
        to = plan.fill_in(saves.place, code, game.to, ending=there.path.rpartition(".")[2])
        folded = ground.facts.folded(to)
        if to != there.path and folded not in ground.there and folded not in ground.taken:
            ground.take(to, game.file)
            along[there.path] = to
        return


def _without_picture(placed: Sequence[Placed], placing: Placing) -> tuple[Bare, ...]:
    """Games on the card or on their way to it that have no picture, where the plan has a place for them."""
    own = {(each.file.system, each.to.rpartition("/")[2]): each.file for each in placed if each.file.role == Role.GAME}
    ground, found = placing.ground, list[Bare]()
    pictured = {path.rpartition(".")[0] for where in (ground.there, ground.taken) for path in where
                if path.casefold().endswith(ENDINGS)}
    for game in placing.games.all():
        pictures = pictures_of(placing.plan, game.system)
        if pictures is AS_THEY_ARE:
            continue
        place = placing.plan.fill_in(pictures.place, game.system, game.name)
        if ground.facts.folded(place).rpartition(".")[0] not in pictured:
            found.append(Bare(game.system, game.name, own.get((game.system, game.name))))
    return tuple(found)
