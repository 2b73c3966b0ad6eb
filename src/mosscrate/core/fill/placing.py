"""The place of each household that is brought in, as a whole, and of what belongs to none."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from pathlib import PurePosixPath

from mosscrate.core.contents.naming import proposed_name
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import AS_THEY_LIE, UNKNOWN, Brought, Role
from mosscrate.core.fill.companions import Companions
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.ground import Ground
from mosscrate.core.fill.households import DISCS, OTHERS, Gathered, Household, gather
from mosscrate.core.fill.on_card import TheCard
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import BETWEEN, GROUP, Act, Cause, Game, Placed, Target
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.saves import stem_of
from mosscrate.core.fill.sets import BY_STEM
from mosscrate.core.fill.stems import Named, Stems
from mosscrate.core.fill.swapping import Swaps
from mosscrate.core.fill.wanted import is_wanted, places_of
from mosscrate.core.fill.ways import LEAVE_OUT, Ways
from mosscrate.core.sizes import listed
from mosscrate.core.volumes import Entry, Kind

MET, BOTH = "met", "both game"           # keys of questions
TITLES, AS_LISTED = "titles", "call them so"
ANOTHER = "the card has another one of that name"
NUMBER, TAKE_PLACE = "number them", "take their place"


class Placing:
    """Places households one after the other."""

    def __init__(self, plan: FolderPlan, ground: Ground, card: OnTheCard, answers: Mapping[str, str], there: TheCard,
                 gallery: Gallery | None = None) -> None:
        self.plan, self.ground, self.card, self.answers, self.there = plan, ground, card, answers, there
        self._companions = Companions(self, gallery)
        self.renamed: dict[str, str] = {}                  # wanted places and what they had to become
        self.titled: dict[str, str] = {}                   # names of games, and what lists call them
        self.games = dict[tuple[str, str], Brought | None]()    # system and name, of the card and what comes
        self.waiting = Counter[str]()                      # games of each system that are on the card
        self._stems = Stems(plan, ground.facts)
        self._swaps = Swaps(self, self._companions, self._stems)
        self._folders: dict[str, str] = {}                 # folders as they can stand there
        self._out = {group for key, word in answers.items() if key.startswith(GROUP) and word == LEAVE_OUT
                     for group in key.removeprefix(GROUP).split(BETWEEN)}
        self._ways = Ways(plan, there, answers)
        self._discs: dict[tuple[str, str], Brought] = {}   # system and stem → the form that is brought in
        self._named: dict[str, Game] = {}                  # households of what is brought in, as they are called there
        for each in there.games:
            self.games[each.lead.system, each.lead.name] = None
            self.waiting[each.lead.system] += 1

    def use(self, moves: dict[str, str]) -> None:
        """Files of the card that change names before anything comes."""
        if moves:
            self._swaps.move(moves)

    def place_all(self, gathered: Gathered) -> list[Placed]:
        """Where everything goes: whole households, then what belongs to those of the card, then the rest."""
        found = list[Placed]()
        for each in sorted(gathered.households, key=lambda each: _liking(each.lead, self.plan)):
            home = str(each.lead.path)
            found += [replace(placed, home=home) for placed in self.household(each)]
        for file, game in gathered.adopted:
            found += self._adopted(file, self.there.game_of(game))
        found += [self.leave(each.file, f"it may be of {listed(list(each.labels))}", Cause.WHOSE)
                  for each in gathered.unsure]
        for file in gathered.loose:
            found += self._other(file)
        return found

    def household(self, home: Household) -> list[Placed]:
        """One as a whole: its game with the files that it names, then all that belongs to it under the same stem."""
        lead = home.lead
        if wanted := self._wanted(lead):
            return [*wanted, *(self.leave(each, wanted[0].why, Cause.NONE) for each in home.parts),
                    *(placed for each in home.others for placed in self._other(each))]
        target = self._target(lead)
        if large := next((each for each in (lead, *home.parts) if self._is_too_large(each)), None):
            target = Target("", f"{large.name} is larger than any file of this file system", Cause.TOO_LARGE)
        if not target.path and lead.ending == "m3u" and home.parts and target.cause != Cause.GROUP:
            return self._discs_alone(home, target)
        if not target.path:
            other = self._discs.get((lead.system, lead.path.stem.casefold()))
            game = self._named.get(str(other.path)) if target.cause == Cause.NONE and other is not None else None
            left = [self.leave(each, target.why, target.cause) for each in (lead, *home.parts)]
            return [*left, *self._beside(home, game, target)]
        placed, game = self._with_parts(home, target.path) if home.parts else self._game(home, target.path)
        self._named[str(lead.path)] = game or Game(lead.system, lead.name)
        why = Target("", placed[0].why, placed[0].cause)
        return [*placed, *self._beside(home, game, why)]

    def _beside(self, home: Household, game: Game | None, why: Target) -> list[Placed]:
        """What belongs to a game; left out with it where it does not come."""
        if game is None:
            return [self.leave(each, f"its game is left out: {why.why}", Cause.NONE) for each in home.others]
        return [self._companions.place(each, game, home) for each in home.others]

    def _adopted(self, file: Brought, game: Game) -> list[Placed]:
        if file.group in self._out:
            return [self.leave(file, "its group is left out", Cause.GROUP)]
        return self._wanted(file) or [self._companions.place(file, game, game.there)]

    def _discs_alone(self, home: Household, target: Target) -> list[Placed]:
        """The discs of a list that this card does not open, each with its own."""
        parts = gather([replace(each, lead="", is_lead=False) for each in (*home.parts, *home.others)])
        return [self.leave(home.lead, target.why, target.cause), *self.place_all(parts)]

    def _game(self, home: Household, wanted: str) -> tuple[list[Placed], Game | None]:
        """A game of one file; None for one that does not come, and what belongs to it neither."""
        lead, ground = home.lead, self.ground
        folder, _, name = wanted.rpartition("/")
        folder, stem = self._folder(folder), self._stem_of(home, name)
        ending, met, cause = _with_dot(name), "", Cause.NONE
        for number, named in enumerate(self._stems.near(stem, ending, lead.system, folder)):
            to = f"{folder}/{named.name}".strip("/")
            game = self._as(lead, to, named)
            if not number and named.stem != stem:
                self.renamed[wanted] = to
            is_cut = wanted in self.renamed
            rival, entry = ground.taken.get(ground.facts.folded(to)), ground.there.get(ground.facts.folded(to))
            if rival is not None:
                if (is_same := self.card.are_same(lead, rival)) is not False:
                    return [self._comes_already(lead, rival, to, is_known=bool(is_same))], game
                if self.answers.get(MET) == LEAVE_OUT and not is_cut:
                    return [self.leave(lead, _meets(rival, "goes there already"), Cause.MET, to)], None
                met, cause = _meets(rival, "has its name"), Cause.NONE if is_cut else Cause.NUMBERED
                continue
            if entry is not None and entry.kind != Kind.FILE:
                return [self.leave(lead, "a folder of that name is there", Cause.IN_THE_WAY, to)], None
            if entry is not None:
                act, why = self._beside_it(lead, entry)
                if act != Act.KEEP_BOTH:
                    return [self._take(lead, act, to, why)], game
                answer = self.answers.get(BOTH)
                if answer == LEAVE_OUT:
                    return [self.leave(lead, ANOTHER, Cause.BOTH, to)], None
                if answer != TAKE_PLACE or number or not self._swaps.make_way(entry):
                    met, cause = met or ANOTHER, cause or Cause.BOTH
                    continue
                game = replace(game, there=None)
                if (twin := self._swaps.twin(home)) is not None:
                    return self._of_twin(lead, twin, game, is_wanted=True)
                return [self._take(lead, Act.COPY, to, "the card’s goes under a dated name", Cause.BOTH)], game
            if (twin := self._swaps.twin(home)) is not None:
                return self._of_twin(lead, twin, game, is_wanted=number == 0)
            if self._swaps.others_meet(home, game):
                met, cause = met or "a file that belongs to it would meet that of another game", cause or Cause.NUMBERED
                continue
            if ground.is_full(to):
                return [self.leave(lead, "its folder has no room for more names", Cause.FULL)], None
            return [self._take(lead, Act.COPY, to, met or lead.reason, cause)], game
        raise AssertionError("numbers do not end")

    def _stem_of(self, home: Household, name: str) -> str:
        """The name that a game is to have: its own, or that of a list of checksums where a person wants that."""
        title, own = home.lead.title, home.stem if home.lead.packed is None else stem_of(name)
        if title and title != own:
            self.titled[own] = title
        return title if title and self.answers.get(TITLES) == AS_LISTED else own

    def _take(self, lead: Brought, act: Act, to: str, why: str, cause: Cause = Cause.NONE) -> Placed:
        self.ground.take(to, lead)
        self.games.setdefault((lead.system, to.rpartition("/")[2]), lead)
        return Placed(lead, act, to, why, self.is_unpacked(lead), cause=cause)

    def _as(self, lead: Brought, to: str, named: Named) -> Game:
        """A game as it is called on the card, where that has it already with what belongs to it there."""
        there = self.there.at(to)
        return Game(lead.system, named.name, to.rpartition("/")[0], lead.saves, there)

    def _coming(self, file: Brought) -> Placed:
        return Placed(file, Act.COPY, is_unpacked=self.is_unpacked(file))

    def _of_twin(self, lead: Brought, twin: Household, game: Game, *, is_wanted: bool) -> tuple[list[Placed], Game]:
        """The card's household takes the wanted name as a whole, or stays as it is."""
        moves = self._swaps.moves(twin, replace(game, there=twin)) if is_wanted else {}
        own, why = twin.lead, "the card has it under another name, compared whole"
        if not moves:
            self.ground.take(str(own.path), lead)
            return [Placed(lead, Act.SKIP, str(own.path), why)], self.there.game_of(twin)
        self._swaps.move(moves)
        to = self._swaps.along.pop(str(own.path))
        return [Placed(lead, Act.RENAME, to, why, was=str(own.path))], self.there.game_of(twin)

    def _with_parts(self, home: Household, wanted: str) -> tuple[list[Placed], Game | None]:
        """A set in one folder, its parts under their own names; in another one where a different one is or comes."""
        lead, ground, way = home.lead, self.ground, self._ways.of(home.lead.system)
        folder, ending, rival = self._folder(wanted.rpartition("/")[0]), lead.path.suffix, None
        for number, named in enumerate(self._stems.near(home.stem, ending, lead.system, folder)):
            above = folder.removesuffix(f"/{lead.path.stem}") if lead.below and way.has_folders else folder
            base = f"{above}/{named.stem}" if way.has_folders or number else folder
            places = [self.stands(f"{base}/{_within(each, home, named)}") for each in home.parts]
            to = self.stands(f"{base}/{named.name}")
            every = [(lead, to), *zip(home.parts, places, strict=True)]
            is_there = ground.facts.folded(to) in ground.there or ground.facts.folded(to) in ground.taken
            if not any(self._differs(each, place) for each, place in every) and (
                    is_there or not self._swaps.others_meet(home, self._as(lead, to, named))):
                break
            rival = rival or ground.taken.get(ground.facts.folded(to))
        if number and self.answers.get(MET) == LEAVE_OUT:
            why = _meets(rival, "goes there already") if rival else ANOTHER
            return [self.leave(each, why, Cause.MET) for each in (lead, *home.parts)], None
        placed = [self.at(each, place, keeps_name=True) for each, place in every]
        if number and placed[0].act == Act.COPY:
            placed[0] = replace(placed[0], cause=Cause.NUMBERED if rival else Cause.BOTH,
                                why=_meets(rival, "has its name") if rival else ANOTHER)
        self.games.setdefault((lead.system, named.name), lead)
        return placed, self._as(lead, to, named)

    def _differs(self, file: Brought, to: str) -> bool:
        folded = self.ground.facts.folded(to)
        if folded in self.ground.taken:
            return self.card.are_same(file, self.ground.taken[folded]) is False
        entry = self.ground.there.get(folded)
        if entry is None:
            return False
        return entry.kind != Kind.FILE or entry.size != file.size or self._is_equal(file, entry) is False

    def _target(self, file: Brought) -> Target:
        if file.group in self._out:
            return Target("", "its group is left out", Cause.GROUP)
        target = self._of_game(file)
        if target.path and file.ending in DISCS:
            other = self._discs.setdefault((file.system, file.path.stem.casefold()), file)
            if other.ending != file.ending:
                return Target("", f"“{other.name}” of the same disc is brought in")
        return target

    def _wanted(self, file: Brought) -> list[Placed]:
        """Places of a file that the plan wants as a system file; none where it does not."""
        if not self.plan.wants:
            return []
        wants = [want for want in self.plan.wants if is_wanted(want, file)]
        why = f"it is {listed([want.file for want in wants])}, which this card wants"
        return [self.at(replace(file, role=Role.SYSTEM, reason=why, packed=None), place)
                for want in wants for place in places_of(self.plan, want)]

    def _other(self, file: Brought) -> list[Placed]:
        if file.group in self._out:
            return [self.leave(file, "its group is left out", Cause.GROUP)]
        if file.role != Role.LITTER and (wanted := self._wanted(file)):
            return wanted
        if file.role == Role.LITTER:
            return [self.leave(file, "desktops leave it behind", Cause.LITTER)]
        if file.role == Role.SYSTEM:
            return [self._system_file(file)]
        if file.role in OTHERS:
            return [self._companions.place(file, None, None)]
        if file.size and not file.fault and self.answers.get(f"{UNKNOWN}{file.group}") == AS_THEY_LIE:
            return [self.at(file, "/".join(file.path.parts[1:] or file.path.parts))]
        return [self.leave(file, file.reason, Cause.UNREADABLE if file.fault or not file.size else Cause.UNKNOWN)]

    def _system_file(self, file: Brought) -> Placed:
        pattern = self.plan.system_files
        if not pattern:
            return self.leave(file, "this plan says nothing of system files", Cause.SYSTEM)
        if ("{code}" in pattern.casefold() or "{folder}" in pattern) and not file.system:
            return self.leave(file, "it is not known which system wants it", Cause.SYSTEM)
        return self.at(file, self.plan.fill_in(pattern, file.system, file.name))

    def _of_game(self, file: Brought) -> Target:
        way = self._ways.of(file.system)
        if not way.folder:
            return Target("", f"this plan has no folder for {file.system}", Cause.FOLDER)
        folder = f"{way.folder}/{file.below}".rstrip("/")
        if self.is_unpacked(file) and file.packed is not None:
            return Target(f"{folder}/{PurePosixPath(file.packed.member.name).name}")
        if way.opens and file.ending not in way.opens and file.ending not in way.packed and self.answers.get(
                f"ending {file.system} {file.ending}".rstrip()) != "bring in all the same":
            some = listed([*way.opens[:4], *way.packed])
            return Target("", f"this card opens {some} for {file.system}, not {file.ending or 'one without an ending'}",
                          Cause.ENDING)
        return Target(f"{folder}/{file.name}")

    @property
    def along(self) -> dict[str, str]:
        """Files of the card that change places with households that do, and where they go."""
        return self._swaps.along

    @property
    def changed(self) -> dict[str, str]:
        """Names of saves, and what they become by another ending."""
        return self._companions.changed

    def folder_of(self, code: str) -> str:
        """Where games of a system go; "" where there is no such place."""
        return self._ways.of(code).folder

    def is_unpacked(self, file: Brought) -> bool:
        """Whether what is packed is brought in, and not the archive: where the plan does not open such archives."""
        if file.packed is None or file.role != Role.GAME:
            return False
        way = self._ways.of(file.system)
        return file.ending not in way.opens and file.ending not in way.packed

    def _is_too_large(self, file: Brought) -> bool:
        most = self.ground.facts.largest_file
        return most is not None and self._coming(file).size > most

    def leave(self, file: Brought, why: str, cause: Cause, to: str = "") -> Placed:
        """A file that does not come."""
        return Placed(file, Act.LEAVE, to, why, cause=cause)

    def at(self, file: Brought, to: str, *, keeps_name: bool = False) -> Placed:
        """A file at its place; left out where that is another one's."""
        wanted, ground = to, self.ground
        to = to if keeps_name else self.stands(to)
        if to != wanted:
            self.renamed[wanted] = to
        folded = ground.facts.folded(to)
        entry = ground.there.get(folded)
        if folded in ground.taken:
            other = ground.taken[folded]
            is_same = self.card.are_same(file, other)
            if is_same is not False:
                return self._comes_already(file, other, to, is_known=bool(is_same))
            return self.leave(file, _meets(other, "goes there already"), Cause.MET, to)
        if entry is not None and entry.kind != Kind.FILE:
            return self.leave(file, "a folder of that name is there", Cause.IN_THE_WAY, to)
        if entry is None and ground.is_full(to):
            return self.leave(file, "its folder has no room for more names", Cause.FULL)
        if self._is_too_large(file):
            return self.leave(file, "it is larger than any file of this file system", Cause.TOO_LARGE)
        ground.take(to, file)
        act, why = (Act.COPY, file.reason) if entry is None else self._beside_it(file, entry)
        return Placed(file, act, to, why, self.is_unpacked(file))

    def _comes_already(self, file: Brought, other: Brought, to: str, *, is_known: bool) -> Placed:
        same = "the same" if is_known else "what seems the same, by its size and some places,"
        cause = Cause.NONE if is_known else Cause.SEEMING
        return self.leave(file, f"{same} comes from {other.group} already", cause, to)

    def _beside_it(self, file: Brought, entry: Entry) -> tuple[Act, str]:
        """What becomes of a file whose place another one has."""
        is_same = self._is_equal(file, entry)
        if is_same is None:
            return Act.SEEMS, "it seems to be there; the job compares it"
        if is_same:
            return Act.SKIP, "it is there with the same contents"
        return Act.KEEP_BOTH, "another one of that name is there; it stays under a dated name"

    def _is_equal(self, file: Brought, entry: Entry) -> bool | None:
        placed = self._coming(file)
        try:
            return entry.size == placed.size and self.card.is_equal(placed.origin, entry)
        except MossError:
            return False                                     # what cannot be read here tells itself when it is copied

    def stands(self, to: str) -> str:
        """A place as the file system takes it."""
        folder, slash, name = to.rpartition("/")
        return f"{self._folder(folder)}{slash}{self._possible(name)}"

    def _folder(self, folder: str) -> str:
        if folder not in self._folders:
            self._folders[folder] = "/".join(self._possible(part) for part in folder.split("/"))
        return self._folders[folder]

    def _possible(self, name: str) -> str:
        """A name as this file system takes it."""
        why_not = self.ground.facts.why_not
        return proposed_name(name, set(), why_not) if name and why_not(name) else name


def _with_dot(name: str) -> str:
    """The ending of a name with its dot; "" where it has none."""
    stem, dot, ending = name.rpartition(".")
    return f"{dot}{ending}" if stem and ending else ""


def _meets(other: Brought, how: str) -> str:
    return f"“{other.name}” of {other.group} {how}"


def _liking(file: Brought, plan: FolderPlan) -> int:
    """Of one disc in several forms the one first that the plan likes best; the others meet its name then."""
    opens = plan.opens(file.system)
    return opens.index(file.ending) if file.ending in DISCS and file.ending in opens else 0


def _within(file: Brought, home: Household, named: Named) -> str:
    """A part's path seen from the folder of the sheet; what lies elsewhere comes beside it.

    Parts that are known by the sheet's own stem take its new one.
    """
    base, lead = home.lead.path.parent, home.lead
    path = file.path.relative_to(base) if file.path.is_relative_to(base) else PurePosixPath(file.name)
    if file.ending in BY_STEM.get(lead.ending, ()) and path.stem.casefold() == lead.path.stem.casefold():
        return str(path.with_name(f"{named.stem}{path.suffix}"))
    return str(path)
