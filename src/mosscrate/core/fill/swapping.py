"""Households of the card that change places for what is brought in, each as a whole."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from itertools import islice
from typing import Protocol

from mosscrate.core.fill.bringing import Brought, Role, print_of
from mosscrate.core.fill.companions import Companions, Places
from mosscrate.core.fill.headers import FRONT
from mosscrate.core.fill.households import Household
from mosscrate.core.fill.placed import Act, Game, Placed
from mosscrate.core.fill.saves import ALIKE
from mosscrate.core.fill.stems import Stems
from mosscrate.core.volumes import Entry

RENAMES, BRING_TOO = "renames", "bring in as well"       # key of a question, and an answer to it
MOST_TRIES = 100


class Homes(Places, Protocol):
    """See Placing."""

    def is_unpacked(self, file: Brought) -> bool:
        """Whether what is packed is brought in, and not the archive."""


class Swaps:
    """Finds new places for them; `along` are files of the card and where they go."""

    def __init__(self, placing: Homes, companions: Companions, stems: Stems) -> None:
        self._placing, self._companions, self._stems = placing, companions, stems
        self._ground, self._there = placing.ground, placing.there
        self.along: dict[str, str] = {}

    def twin(self, home: Household) -> Household | None:
        """A game of the card, of one file, with the same contents under another name."""
        lead = home.lead
        if home.parts or not lead.size or self._placing.answers.get(RENAMES) == BRING_TOO:
            return None
        coming = Placed(lead, Act.COPY, is_unpacked=self._placing.is_unpacked(lead))

        def print_() -> bytes:
            if lead.print and not coming.is_unpacked:
                return lead.print
            with coming.origin.opened() as read:
                return print_of(coming.size, read(0, min(FRONT, coming.size)))

        return self._there.twin_of(coming.origin, coming.size, print_,
                                   lambda path: self._ground.facts.folded(path) not in self._ground.taken)

    def moves(self, home: Household, game: Game) -> dict[str, str]:
        """The places of a household of the card under another name; nothing where one of them is not free."""
        ground, own = self._ground, {self._ground.facts.folded(str(each.path)) for each in home.files}
        moves = {str(home.lead.path): f"{game.folder}/{game.name}".strip("/")}
        for each in home.others:
            to = self._companions.new_place(each, game, home)
            if to:
                moves[str(each.path)] = self._placing.stands(to)
        folded = [ground.facts.folded(place) for place in moves.values()]
        is_free = len(set(folded)) == len(folded) and not any(
            place in ground.taken or (place in ground.there and place not in own) for place in folded)
        is_whole = not home.parts and not self._there.is_contested(home) and not self.others_meet(home, game)
        return moves if is_free and is_whole else {}

    def move(self, moves: dict[str, str]) -> None:
        """Note that files of the card change places."""
        ground = self._ground
        entries = {place: ground.there.pop(ground.facts.folded(path)) for path, place in moves.items()}
        for place, entry in entries.items():
            ground.there[ground.facts.folded(place)] = entry
        self._there.moved(moves)
        self.along |= {path: place for path, place in moves.items() if path != place}

    def make_way(self, entry: Entry) -> bool:
        """The household of a file of the card goes under a dated name as a whole; whether it could."""
        home = self._there.at(entry.path)
        if home is None or home.parts or entry.path in self.along:
            return False
        lead, folder = home.lead, str(home.lead.path.parent)
        old = f"{lead.path.stem} (old {datetime.fromtimestamp(lead.modified):%Y-%m-%d})"
        if next(self._stems.near(old, lead.path.suffix, lead.system, folder)).stem != old:
            old = lead.path.stem                             # a menu of short names: a number then
        for named in islice(self._stems.near(old, lead.path.suffix, lead.system, folder), MOST_TRIES):
            moves = self.moves(home, Game(lead.system, named.name, folder, there=home))
            if moves and named.stem != lead.path.stem:
                self.move(moves)
                return True
        return False

    def others_meet(self, home: Household, game: Game) -> bool:
        """Whether something that belongs to it would have the place of what belongs to another game."""
        for each in home.others:
            place = self._companions.new_place(each, game, home)
            for form in _forms(self._placing.stands(place), each) if place else ():
                folded = self._ground.facts.folded(form)
                entry = self._ground.there.get(folded)
                is_anothers = entry is not None and self._there.is_anothers(entry, game.there)
                if is_anothers or folded in self._ground.taken:
                    return True
        return False


def _forms(place: str, file: Brought) -> Iterator[str]:
    """A place; of a save with any ending that saves of its kind have, since its game is told by the rest alone."""
    yield place
    if file.role == Role.SAVE and file.ending in ALIKE:
        stem = place.rpartition(".")[0]
        yield from (f"{stem}.{ending}" for ending in sorted(ALIKE))
