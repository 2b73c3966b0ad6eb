"""Something laid over a card as it is: what it adds, what it replaces, and what is there already."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

from mosscrate.core.contents.naming import folders_above, proposed_name
from mosscrate.core.fill.asking import about_sheet
from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.placed import COMING, Act, Cause, Placed, Question, Sorted, asked, some_of
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.sets import sets_of
from mosscrate.core.fill.sorting import Home, room_of
from mosscrate.core.fill.systems import letters
from mosscrate.core.fill.wanted import places_of
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Entry, Facts, Kind

AS_IT_IS = FolderPlan("as-it-is", "laid over the card as it is", systems={})
KEEP_OLD, REPLACE = "keep the old ones", "replace them"
INSIDE, WITH_FOLDER = "lay over what is in it", "with the folder"


@dataclass(frozen=True)
class Laid:
    """What goes where, and whether old files stay under dated names."""

    sorted: Sorted
    keeps_old: bool


def lay_over(brought: Sequence[Brought], home: Home, card: OnTheCard, answers: dict[str, str],
             plan: FolderPlan = AS_IT_IS) -> Laid:
    """Every file at its own path, seen from the top of what was brought in; litter stays off.

    What is missing afterwards is told: files that sheets name, and system files that `plan` wants.

    A single folder around everything that is called like what was brought in is taken off, unless the card has it.
    """
    facts, there = home.facts, {home.facts.folded(entry.path): entry for entry in home.there}
    paths = {id(each): "/".join(each.path.parts[1:] or each.path.parts) for each in brought}
    wrapping = _wrapping(list(paths.values()))
    is_wrapped = bool(wrapping) and facts.folded(wrapping) not in there
    is_called_so = bool(brought) and letters(wrapping) in letters(str(brought[0].path.parts[0]))
    usual = (INSIDE, WITH_FOLDER) if is_called_so else (WITH_FOLDER, INSIDE)
    strips = is_wrapped and answers.get("wrapping", usual[0]) == INSIDE
    placed, renamed, taken = list[Placed](), dict[str, str](), dict[str, Brought]()
    spelled = {facts.folded(entry.path): entry.path for entry in home.there if entry.kind == Kind.FOLDER}
    for each in brought:
        if each.role == Role.LITTER:
            placed.append(Placed(each, Act.LEAVE, "", "desktops leave it behind", cause=Cause.LITTER))
            continue
        if each.fault:
            placed.append(Placed(each, Act.LEAVE, "", each.fault, cause=Cause.UNREADABLE))
            continue
        wanted = paths[id(each)].removeprefix(f"{wrapping}/") if strips else paths[id(each)]
        to = "/".join(proposed_name(part, set(), facts.why_not) if facts.why_not(part) else part
                      for part in wanted.split("/"))
        if to != wanted:
            renamed[wanted] = to
        to = _as_spelled(to, spelled, facts)
        placed.append(_laid(each, to, there, taken, home, card))
    coming = [each for each in placed if each.act in COMING]
    need = room_of(coming, there, home)
    keeps_old = answers.get("over") != REPLACE
    questions = (*_questions(placed, renamed, (wrapping, usual) if is_wrapped else None, need, home.free),
                 *_about_sheets(brought, placed, there, facts),
                 *_about_wants(plan, {*there, *taken}, facts))
    questions = tuple(sorted(questions, key=lambda each: -each.worth))
    return Laid(Sorted(tuple(placed), {}, (), questions, need, need - sum(each.size for each in coming), home.free),
                keeps_old)


def _as_spelled(path: str, spelled: dict[str, str], facts: Facts) -> str:
    """A path in the folders of the card as they are written there, or as the first file that came wrote them."""
    folder, slash, name = path.rpartition("/")
    if not slash:
        return path
    known = facts.folded(folder)
    if known not in spelled:
        spelled[known] = _as_spelled(folder, spelled, facts)
    return f"{spelled[known]}/{name}"


def _laid(file: Brought, to: str, there: dict[str, Entry], taken: dict[str, Brought], home: Home,
          card: OnTheCard) -> Placed:
    folded = home.facts.folded(to)
    entry = there.get(folded)
    in_the_way = next((above for above in folders_above([to])
                       if (own := there.get(home.facts.folded(above))) is not None and own.kind != Kind.FOLDER), "")
    if folded in taken or in_the_way or (entry is not None and entry.kind != Kind.FILE):
        why = f"“{taken[folded].path.name}” goes there already" if folded in taken else \
            f"“{in_the_way}” is no folder on the card" if in_the_way else "a folder of that name is there"
        return Placed(file, Act.LEAVE, to, why, cause=Cause.MET)
    taken[folded] = file
    if entry is None:
        return Placed(file, Act.COPY, to, "it is not there yet")
    is_same = entry.size == file.size and card.is_equal(file.origin, entry)
    if is_same is None:
        return Placed(file, Act.SEEMS, to, "it seems to be there; the job compares it")
    return Placed(file, Act.SKIP, to, "it is there with the same contents") if is_same else \
        Placed(file, Act.KEEP_BOTH, to, "it is there with other contents")


def _wrapping(paths: Sequence[str]) -> str:
    """The one folder in which everything lies; "" where there is none."""
    tops = {path.partition("/")[0] for path in paths}
    return next(iter(tops)) if len(tops) == 1 and all("/" in path for path in paths) else ""


def _questions(placed: Sequence[Placed], renamed: dict[str, str],
               wrapping: tuple[str, tuple[str, ...]] | None, need: int, free: int) -> tuple[Question, ...]:
    found, by_act = list[Question](), defaultdict[Act, list[Placed]](list)
    for each in placed:
        by_act[each.act].append(each)
    if over := by_act[Act.KEEP_BOTH]:
        found.append(asked("over", f"{counted(len(over), 'file')} of the card {'has' if len(over) == 1 else 'have'} "
                            f"other contents: {_names_of(over)}.", (KEEP_OLD, REPLACE), 9, len(over)))
    if wrapping:
        folder, answers = wrapping
        found.append(asked("wrapping", f"Everything lies in one folder, “{folder}”, which the card does not have.",
                            answers, 6, len(placed)))
    if met := [each for each in by_act[Act.LEAVE] if each.cause == Cause.MET]:
        found.append(asked("met", f"{counted(len(met), 'file')} cannot come where they belong: {_names_of(met)}; "
                            f"{met[0].why}.", ("leave out",), 8, len(met)))
    if lost := [each for each in by_act[Act.LEAVE] if each.cause == Cause.UNREADABLE]:
        are = "is" if len(lost) == 1 else "are"
        found.append(asked("unreadable", f"{counted(len(lost), 'file')} cannot be read and {are} left out. "
                            f"{lost[0].why}", ("leave out",), 8, len(lost)))
    if renamed:
        old, new = next(iter(renamed.items()))
        found.append(asked("names", f"{counted(len(renamed), 'name')} cannot stand there. “{old}” becomes “{new}”.",
                            ("change them so",), 2, len(renamed)))
    if need > free:
        found.append(asked("room", f"{binary(need - free)} do not fit.", ("decide",), 8, len(placed)))
    return tuple(found)


def _about_sheets(brought: Sequence[Brought], placed: Sequence[Placed], there: dict[str, Entry],
                  facts: Facts) -> list[Question]:
    """Sheets whose files are neither brought in nor beside their places on the card."""
    folders, found = {each.file.path: each.to.rpartition("/")[0] for each in placed}, list[Question]()
    for lacking in sets_of(list(brought))[1]:
        folder = folders.get(lacking.sheet.path, "")
        names = tuple(name for name in lacking.names if facts.folded(f"{folder}/{name}".strip("/")) not in there)
        found += [about_sheet(replace(lacking, names=names))] if names else []
    return found


def _about_wants(plan: FolderPlan, there: set[str], facts: Facts) -> list[Question]:
    """System files that the plan of a card wants, and that are at none of their places then."""
    lost = [want.file for want in plan.wants if want.need != "better with"
            and not any(facts.folded(place) in there for place in places_of(plan, want))]
    return [asked("wants", f"{counted(len(lost), 'system file')} of the plan by which this card is filled "
                   f"{'is' if len(lost) == 1 else 'are'} missing then: {some_of(lost)}.",
                   ("go on without",), 7, len(lost))] if lost else []


def _names_of(placed: Sequence[Placed]) -> str:
    return some_of([each.file.path.name for each in placed])
