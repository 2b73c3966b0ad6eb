"""What belongs to games: saves, save states and pictures, to the places that a plan has for them."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from typing import Protocol

from mosscrate.core.fill.bringing import OF_A_STATE, Brought, Role
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.origins import LocalFile
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.pictures.scaling import Fit
from mosscrate.core.fill.placed import COMING, Cause, Placed, Target
from mosscrate.core.fill.plans import FolderPlan, Pictures, Saves
from mosscrate.core.fill.saves import CARDS, Game, Games, is_empty, why_not_of
from mosscrate.core.sizes import listed
from mosscrate.core.volumes import Kind

ENDINGS = (".png", ".jpg", ".jpeg", ".bmp")
USE_NEW = "use the ones brought in"
AS_THEY_ARE = Pictures("{file}")


class Places(Protocol):
    """What is placed already, and how more is placed; see Placing."""

    plan: FolderPlan
    ground: Ground
    card: OnTheCard
    answers: dict[str, str]
    games: Games

    def at(self, file: Brought, to: str) -> Placed:
        """A file at its place."""

    def leave(self, file: Brought, why: str, cause: Cause) -> Placed:
        """A file that does not come."""

    def stands(self, to: str) -> str:
        """A place as the file system and the card's menu take it."""


class Companions:
    """Places them once the games are placed; `gallery` has pictures that were scaled, None to take them as they are."""

    def __init__(self, placing: Places, gallery: Gallery | None) -> None:
        self._placing, self._gallery = placing, gallery

    def place(self, file: Brought) -> Placed:
        """Where one goes."""
        match file.role:
            case Role.SAVE:
                return self._save(file)
            case Role.STATE:
                return self._state(file)
        return self._picture(file)

    def _save(self, file: Brought) -> Placed:
        """Beside its game by the plan's pattern; never instead of another one."""
        games = self._placing.games.of(file.path.name, file.system)
        if len(codes := sorted({game.system for game in games})) > 1:
            return self._placing.leave(file, f"games of {listed(codes)} are called so", Cause.SAVES)
        game = games[0] if games else Game(file.system, file.path.name)
        target = self._by_pattern(file, game, "saves")
        if not target.path:
            return self._placing.leave(file, target.why, target.cause)
        strange = why_not_of(file.size, file.ending, game, file.origin.read) if games else ""
        if strange and self._placing.answers.get(f"save size {file.group}") != "bring in all the same":
            return self._placing.leave(file, strange, Cause.SIZE)
        return self._beside(file, target.path)

    def _beside(self, file: Brought, to: str) -> Placed:
        """A save: where the card has another one, that stays in use, and this one comes beside under its day.

        So does one whose name another save that is brought in has.
        """
        placing, ground = self._placing, self._placing.ground
        folded = ground.facts.folded(placing.stands(to))
        entry, rival = ground.there.get(folded), ground.taken.get(folded)
        if entry is not None and (entry.kind != Kind.FILE or (
                entry.size == file.size and placing.card.is_equal(file.origin, entry) is not False)):
            return placing.at(file, to)
        if rival is None and (entry is None or placing.answers.get("both save") == "use the ones brought in"):
            return placing.at(file, to)
        if rival is not None and placing.card.are_same(file, rival) is not False:
            return placing.leave(file, f"the same comes from {rival.group} already", Cause.NONE)
        if entry is not None and is_empty(file.origin.read()):
            return placing.leave(file, "nothing was ever saved in it, and the card has one", Cause.NONE)
        stem, dot, ending = to.rpartition(".")
        day = f"{datetime.fromtimestamp(file.modified):%Y-%m-%d}"
        placed = placing.at(file, f"{stem or ending} ({day}){dot}{ending if stem else ''}")
        if placed.act in COMING and entry is not None:
            newer = "the card’s is newer" if (entry.modified or 0) > file.modified else "this one is newer"
            return replace(placed, why=f"the card has another one, which stays in use; by their times {newer}")
        return placed

    def _state(self, file: Brought) -> Placed:
        if self._placing.answers.get(f"states {file.group}") != "bring in all the same":
            return self._placing.leave(file, "save states rarely move between programs", Cause.STATES)
        name = file.name.removesuffix(OF_A_STATE)
        games = self._placing.games.of(name, file.system)
        state = replace(file, path=file.path.with_name(name))
        target = self._by_pattern(state, games[0] if games else Game(file.system, name), "states")
        return self._placing.at(file, f"{target.path}{file.name.removeprefix(name)}") if target.path else \
            self._placing.leave(file, target.why, Cause.STATES)

    def _picture(self, file: Brought) -> Placed:
        """In the size that the plan wants; where the card has one, that stays."""
        placing = self._placing
        games = placing.games.of(_without_tail(file.path.name), file.system)
        if len({game.system for game in games}) > 1:
            return placing.leave(file, "games of several systems are called so", Cause.PICTURES)
        if not games and not file.system:
            return placing.leave(file, "no game is called so", Cause.PICTURES)
        game = games[0] if games else Game(file.system, file.path.name)
        target = self._by_pattern(file, game, "pictures")
        if not target.path:
            return placing.leave(file, target.why, Cause.PICTURES)
        fit = Fit.of(pictures_of(placing.plan, game.system))
        to = f"{target.path.rpartition('.')[0]}.{fit.kind}" if target.path.casefold().endswith(ENDINGS) else target.path
        ready = self._gallery.ready(file, fit) if self._gallery is not None else file.origin
        if ready is None and self._gallery is not None:
            why = self._gallery.why_not(file, fit)
            return placing.leave(replace(file, system=game.system), why or "it is not scaled yet",
                                 Cause.PICTURES if why else Cause.WAITS)
        size = ready.path.stat().st_size if isinstance(ready, LocalFile) else file.size
        own = replace(file, origin=ready, size=size) if ready is not None else file
        there = placing.ground.there.get(placing.ground.facts.folded(placing.stands(to)))
        if there is not None and placing.answers.get("pictures there") != USE_NEW and not (
                there.size == own.size and placing.card.is_equal(own.origin, there) is not False):
            return placing.leave(file, "the card has a picture of it", Cause.PICTURED)
        return placing.at(own, to)

    def _by_pattern(self, file: Brought, game: Game, part: str) -> Target:
        cause = {"saves": Cause.SAVES, "states": Cause.STATES, "pictures": Cause.PICTURES}[part]
        own = getattr(self._placing.plan.systems.get(game.system), part, None) or getattr(self._placing.plan, part)
        if own is None:
            return Target("", f"this plan says nothing of {part}", cause)
        if not game.system:
            return Target("", "it is not known of which system’s game it is", cause)
        shared = own.card if isinstance(own, Saves) and file.ending in CARDS else ""
        pattern: str = shared or own.place
        if not self._placing.plan.folder_of(game.system) and "{folder}" in pattern:
            return Target("", f"this plan has no folder for {game.system}", cause)
        slot = "".join(c for c in file.ending if c.isdecimal())
        return Target(self._placing.plan.fill_in(pattern, game.system, game.name, slot, ending=file.ending))


def pictures_of(plan: FolderPlan, code: str) -> Pictures:
    """What a plan wants of the pictures of a system."""
    system = plan.systems.get(code)
    return (system.pictures if system is not None else None) or plan.pictures or AS_THEY_ARE


def _without_tail(name: str) -> str:
    stem, dot, ending = name.rpartition(".")
    for tail in ("-image", "-thumb", "-boxart"):
        stem = stem.removesuffix(tail)
    return f"{stem}{dot}{ending}"
