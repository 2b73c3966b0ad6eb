"""What belongs to games, to the places that a plan has: saves, clocks, states, pictures, patches and manuals."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import Protocol

from mosscrate.core.fill.bringing import OF_A_STATE, Brought, Role
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.households import Household, day_of, folded, forms_of, save_in_use
from mosscrate.core.fill.on_card import TheCard
from mosscrate.core.fill.origins import LocalFile
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.pictures.scaling import Fit
from mosscrate.core.fill.placed import COMING, Cause, Game, Placed, Target
from mosscrate.core.fill.plans import FolderPlan, Pictures, Saves
from mosscrate.core.fill.saves import ALIKE, CARDS, is_empty, why_not_of
from mosscrate.core.volumes import Kind

ENDINGS = (".png", ".jpg", ".jpeg", ".bmp")
USE_NEW, ALL_THE_SAME, KEEP_ENDING = "use the ones brought in", "bring in all the same", "keep their endings"
SAVE_ENDINGS = "endings of saves"        # key of the question about them
AS_THEY_ARE = Pictures("{file}")
_PARTS = {Role.SAVE: ("saves", Cause.SAVES), Role.CLOCK: ("saves", Cause.SAVES), Role.STATE: ("states", Cause.STATES),
          Role.PICTURE: ("pictures", Cause.PICTURES)}


class Places(Protocol):
    """What is placed already, and how more is placed; see Placing."""

    plan: FolderPlan
    ground: Ground
    card: OnTheCard
    answers: Mapping[str, str]
    there: TheCard

    def at(self, file: Brought, to: str) -> Placed:
        """A file at its place."""

    def leave(self, file: Brought, why: str, cause: Cause) -> Placed:
        """A file that does not come."""

    def stands(self, to: str) -> str:
        """A place as the file system takes it."""

    def folder_of(self, code: str) -> str:
        """Where games of a system go."""


class Companions:
    """Places them once their game is placed; `gallery` has pictures that were scaled, None to take them as they are."""

    def __init__(self, placing: Places, gallery: Gallery | None) -> None:
        self._placing, self._gallery = placing, gallery
        self.changed: dict[str, str] = {}                  # names of saves, and what they become by another ending

    def place(self, file: Brought, game: Game | None, home: Household | None) -> Placed:
        """Where one goes that belongs to a game, or to one that is not here and whose system is known."""
        match file.role:
            case Role.SAVE:
                return self._save(file, game, home)
            case Role.PICTURE:
                return self._picture(file, game, home)
            case Role.STATE if self._placing.answers.get(f"states {file.group}") != ALL_THE_SAME:
                return self._placing.leave(file, "save states rarely move between programs", Cause.STATES)
            case Role.MANUAL if self._placing.answers.get(f"manuals {file.group}") != ALL_THE_SAME:
                return self._placing.leave(file, "no menu shows them", Cause.MANUALS)
        target = self._target(file, game, home)
        if not target.path:
            return self._placing.leave(file, target.why, target.cause)
        return self._placing.at(file, target.path) if file.role in (Role.PATCH, Role.MANUAL, Role.UNKNOWN) else \
            self._beside(file, target.path)

    def new_place(self, file: Brought, game: Game, home: Household | None) -> str:
        """Where a file would lie under the name that its game has; "" where the plan says nothing of such files."""
        return self._target(file, game, home).path

    def _save(self, file: Brought, game: Game | None, home: Household | None) -> Placed:
        """By the plan's pattern; never instead of another one."""
        target = self._target(file, game, home)
        if not target.path:
            return self._placing.leave(file, target.why, target.cause)
        strange = why_not_of(file.size, file.ending, game.system, game.saves, file.origin.read) if game else ""
        if strange and self._placing.answers.get(f"save size {file.group}") != ALL_THE_SAME:
            return self._placing.leave(file, strange, Cause.SIZE)
        placed = self._beside(file, self._in_use(file, game, home) or target.path)
        its = placed.to.rpartition(".")[2].casefold()
        if placed.act in COMING and file.ending in ALIKE and its in ALIKE and its != file.ending:
            self.changed[file.name] = placed.to.rpartition("/")[2]
        return placed

    def _in_use(self, file: Brought, game: Game | None, home: Household | None) -> str:
        """Where the card has the save of a game that is in use; "" where it has none."""
        there = game.there if game is not None else None
        if there is None or (home is not None and day_of(file, home)):
            return ""
        used = save_in_use(there, file)
        return "" if used is None else self._placing.there.now(used)

    def _beside(self, file: Brought, to: str) -> Placed:
        """A save: where the card has another one, that stays in use, and this one comes beside under its day.

        So does one whose name another save that is brought in has.
        """
        placing, ground = self._placing, self._placing.ground
        place = ground.facts.folded(placing.stands(to))
        entry, rival = ground.there.get(place), ground.taken.get(place)
        if entry is not None and (entry.kind != Kind.FILE or (
                entry.size == file.size and placing.card.is_equal(file.origin, entry) is not False)):
            return placing.at(file, to)
        if rival is None and (entry is None or placing.answers.get("both save") == USE_NEW):
            return placing.at(file, to)
        if rival is not None and placing.card.are_same(file, rival) is not False:
            return placing.leave(file, f"the same comes from {rival.group} already", Cause.NONE)
        if entry is not None and is_empty(file.origin.read()):
            return placing.leave(file, "nothing was ever saved in it, and the card has one", Cause.NONE)
        placed = placing.at(file, self._dated(file, to))
        if placed.act in COMING and entry is not None:
            newer = "the card’s is newer" if (entry.modified or 0) > file.modified else "this one is newer"
            return replace(placed, why=f"the card has another one, which stays in use; by their times {newer}",
                           cause=Cause.BESIDE)
        return placed

    def _dated(self, file: Brought, to: str) -> str:
        """The place with the day of a file behind its stem, and a number where another one of that day is."""
        placing, ground = self._placing, self._placing.ground
        stem, dot, ending = to.rpartition(".")
        day = f"{datetime.fromtimestamp(file.modified):%Y-%m-%d}"
        for number in range(1, 1000):
            behind = f" ({day})" if number == 1 else f" ({day}) ({number})"
            place = f"{stem or ending}{behind}{dot}{ending if stem else ''}"
            at = ground.facts.folded(placing.stands(place))
            entry, rival = ground.there.get(at), ground.taken.get(at)
            is_other = rival is not None and placing.card.are_same(file, rival) is False
            if not is_other and (entry is None or (entry.kind == Kind.FILE and entry.size == file.size and
                                                   placing.card.is_equal(file.origin, entry) is not False)):
                return place
        return to

    def _picture(self, file: Brought, game: Game | None, home: Household | None) -> Placed:
        """In the size that the plan wants; where the card has one, that stays."""
        placing = self._placing
        if game is None and not file.system:
            return placing.leave(file, "no game is called so", Cause.PICTURES)
        target, system = self._target(file, game, home), game.system if game is not None else file.system
        if not target.path:
            return placing.leave(file, target.why, target.cause)
        if file.entry is not None:
            return placing.at(file, target.path)
        fit = Fit.of(pictures_of(placing.plan, system))
        to = f"{target.path.rpartition('.')[0]}.{fit.kind}" if target.path.casefold().endswith(ENDINGS) else target.path
        ready = self._gallery.ready(file, fit) if self._gallery is not None else file.origin
        if ready is None and self._gallery is not None:
            why = self._gallery.why_not(file, fit)
            return placing.leave(replace(file, system=system), why or "it is not scaled yet",
                                 Cause.PICTURES if why else Cause.WAITS)
        size = ready.path.stat().st_size if isinstance(ready, LocalFile) else file.size
        own = replace(file, origin=ready, size=size) if ready is not None else file
        there = placing.ground.there.get(placing.ground.facts.folded(placing.stands(to)))
        if there is not None and placing.answers.get("pictures there") != USE_NEW and not (
                there.size == own.size and placing.card.is_equal(own.origin, there) is not False):
            return placing.leave(file, "the card has a picture of it", Cause.PICTURED)
        return placing.at(own, to)

    def _target(self, file: Brought, game: Game | None, home: Household | None) -> Target:
        """By the plan's pattern for files of that kind; beside the game where plans have none for such."""
        game = game or Game(file.system, file.name)
        tail = _tail(file, home)
        beside = Target(f"{game.folder}/{game.stem}{tail}".strip("/")) if home is not None else Target(
            "", "no game is called so", Cause.UNKNOWN)
        if file.role not in _PARTS:
            return beside
        part, cause = _PARTS[file.role]
        own = getattr(self._placing.plan.systems.get(game.system), part, None) or getattr(self._placing.plan, part)
        if own is None:
            is_beside = file.entry is not None and home is not None and file.path.parent == home.lead.path.parent
            return beside if is_beside else Target("", f"this plan says nothing of {part}", cause)
        if not game.system:
            return Target("", "it is not known of which system’s game it is", cause)
        folder = self._placing.folder_of(game.system)
        pattern: str = own.card if isinstance(own, Saves) and own.card and file.ending in CARDS else own.place
        if not folder and "{folder}" in pattern:
            return Target("", f"this plan has no folder for {game.system}", cause)
        return Target(self._by_pattern(file, game, pattern, day_of(file, home) if home is not None else ""))

    def _by_pattern(self, file: Brought, game: Game, pattern: str, day: str) -> str:
        """The place that a pattern gives, the day of an old one behind the stem; in the game's own folder beside it."""
        name = file.name.removesuffix(OF_A_STATE) if file.role == Role.STATE else file.name
        ending = name.rpartition(".")[2]
        slot = "".join(c for c in ending if c.isdecimal())
        plan, code = self._placing.plan, game.system
        place = plan.fill_in(pattern, code, game.name, slot or ("0" if pattern.endswith(".{slot}") else ""),
                             ending=ending)
        folder, _, own = place.rpartition("/")
        if not plan.folder_of(code) and "{folder}" in pattern:
            folder = folder.replace(code, self._placing.folder_of(code), 1)
        if game.folder and folder == self._placing.folder_of(code):
            folder = game.folder
        stem, dot, its = own.rpartition(".")
        if dot and file.role != Role.STATE and "{ending}" not in pattern:
            its = self._ending(file, game, its)
        behind = OF_A_STATE if file.role == Role.STATE and file.name != name else ""
        return f"{folder}/{stem or its}{day}{dot}{its if stem else ''}{behind}".lstrip("/")

    def _ending(self, file: Brought, game: Game, planned: str) -> str:
        """That which the card’s saves have, else what the plan says; of other kinds than plain ones their own."""
        if file.role == Role.PICTURE:
            return file.ending if file.entry is not None else planned
        if file.ending not in ALIKE or planned not in ALIKE or self._placing.there.is_in_place(file):
            return planned if file.ending in CARDS and planned in CARDS else file.ending
        if file.entry is not None:
            return planned
        usual = self._placing.there.usual_ending(game.system)
        return usual or (file.ending if self._placing.answers.get(SAVE_ENDINGS) == KEEP_ENDING else planned)


def _tail(file: Brought, home: Household | None) -> str:
    """What stands behind the game's name in that of a file."""
    names = {folded(name): name for name in home.names} if home is not None else {}
    form = max((form for form, _ in forms_of(file) if folded(form) in names), key=len, default="")
    return file.name[len(form):] if form else f".{file.ending}"


def pictures_of(plan: FolderPlan, code: str) -> Pictures:
    """What a plan wants of the pictures of a system."""
    system = plan.systems.get(code)
    return (system.pictures if system is not None else None) or plan.pictures or AS_THEY_ARE
