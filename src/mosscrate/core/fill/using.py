"""Saves that came beside the one in use: which of them a game is to use, said at any later time."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import NamedTuple

from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.households import day_of, save_in_use
from mosscrate.core.fill.on_card import TheCard
from mosscrate.core.fill.placed import Question, asked

USE, LEAVE, USE_THIS = "use ", "leave it beside", "use this one"     # front of a key, and its answers


class Beside(NamedTuple):
    """A save that lies beside the one in use."""

    save: Brought
    in_use: Brought


def beside(there: TheCard) -> Iterator[Beside]:
    """Every save of a card that came beside another one, games whose saves are asked about left out."""
    for home in there.games:
        if there.is_contested(home):
            continue
        for save in home.others:
            if save.role == Role.SAVE and day_of(save, home) and (used := save_in_use(home, save)) is not None:
                yield Beside(save, used)


def questions_about_saves(there: TheCard) -> list[Question]:
    """One for each."""
    return [asked(f"{USE}{save.path}", f"“{save.name}” lies beside “{used.name}”, which is in use; "
                  f"{'the one in use' if used.modified > save.modified else 'this one'} is newer by their times.",
                  (LEAVE, USE_THIS), 2, 1) for save, used in beside(there)]


def changes_of(there: TheCard, answers: Mapping[str, str]) -> dict[str, str]:
    """Paths and new places where another save is to be used: they change names, the old one under its own day."""
    moves = dict[str, str]()
    for save, used in beside(there):
        if answers.get(f"{USE}{save.path}") == USE_THIS and str(used.path) not in moves:
            old = used.path.with_name(f"{used.path.stem} ({datetime.fromtimestamp(used.modified):%Y-%m-%d})"
                                      f"{used.path.suffix}")
            is_free = there.at(str(old)) is None and str(old) not in moves.values()
            moves[str(save.path)] = str(used.path.with_suffix(save.path.suffix))
            moves[str(used.path)] = str(old if is_free else save.path)
    return moves
