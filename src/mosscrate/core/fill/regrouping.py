"""The same games under another plan: where each file of a card would go, by renaming alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.volumes import Entry, Facts, Kind


@dataclass(frozen=True)
class Regrouped:
    """Paths and their new places; systems that the other plan has no folder for; files whose place is taken."""

    moves: dict[str, str]
    homeless: tuple[str, ...]
    met: tuple[str, ...]


def regroup(entries: Sequence[Entry], now: FolderPlan, then: FolderPlan, facts: Facts) -> Regrouped:
    """Where files go when a card that is laid out by one plan is to be laid out by another.

    Games keep their names and what folders they stand in below that of their system; saves and pictures follow them.
    """
    files = {facts.folded(e.path): e.path for e in entries if e.kind == Kind.FILE}
    moves, homeless = dict[str, str](), list[str]()
    for code, system in now.systems.items():
        target = then.folder_of(code)
        if not target:
            homeless.append(code)
            continue
        for folder in system.folders:
            own = f"{now.root}/{folder}".strip("/")
            games = [path for path in files.values() if path.startswith(f"{own}/")]
            for path in games:
                moves.setdefault(path, f"{target}/{path.removeprefix(f'{own}/')}")
            for path in games:
                _take_along(path, code, now, then, files, moves, facts)
    moves = {path: place for path, place in moves.items() if path != place}
    taken = {facts.folded(place) for path, place in files.items() if place not in moves}
    met = {path for path, place in moves.items() if facts.folded(place) in taken}
    once = {facts.folded(place): path for path, place in moves.items()}
    met |= {path for path, place in moves.items() if once[facts.folded(place)] != path}
    return Regrouped({path: place for path, place in moves.items() if path not in met}, tuple(homeless),
                     tuple(sorted(met)))


def _take_along(game: str, code: str, now: FolderPlan, then: FolderPlan, files: dict[str, str], moves: dict[str, str],
                facts: Facts) -> None:
    """A game's save and its picture, from where the one plan has them to where the other does."""
    for part in ("saves", "pictures"):
        old, new = (getattr(plan.systems.get(code), part, None) or getattr(plan, part) for plan in (now, then))
        if old is None or new is None:
            continue
        for pattern in (old.place, *getattr(old, "also", ())):
            there = files.get(facts.folded(now.fill_in(pattern, code, game)))
            if there is not None and there != game:
                moves[there] = then.fill_in(new.place, code, game)
                break
