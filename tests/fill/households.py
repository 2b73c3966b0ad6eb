"""A model of households on a card: random collections are filled, filled again, moved between plans and renamed.

Every file of a household holds bytes of its own, so that one can tell from outside whose it is, whatever its name.
"""

from __future__ import annotations

import random
import re
from collections import Counter
from dataclasses import dataclass, field, replace

from mosscrate.core.fill.bringing import Brought, bring_from_volume
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.households import WHOSE
from mosscrate.core.fill.placed import Act, Sorted
from mosscrate.core.fill.plans import FolderPlan, shipped
from mosscrate.core.fill.regrouping import regroup
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.volumes import Entry, Kind, Tree, facts_of
from mosscrate.core.watch import Watch

TITLES = ("Tamo", "Tamo (North)", "Tamo (South)", "TAMO", "Tamo 2", "Tamo (2)", "Velvet Weaver of the long road",
          "Velvet Weaver of the long hill", "The Tide", "Tide", "クマ", "クマ (North)", "キツネ", "Лес", "Лис", "ثعلب",
          "खरगोश", "곰", "Größe", "Café", "Cafe\u0301", "St. Road", "Hill-Run!", "A")
PLANS = list(shipped().values())
ENDINGS = {"gb": "gb", "gba": "gba", "nes": "nes"}
DATE = r"(?: \(?\d{4}-\d\d-\d\d\)?(?: \(?\d+\)?)?)?"
TAIL = re.compile(rf"{DATE}(?:-image)?(?:\.(?:gb|gba|nes|cue|m3u|zip))?{DATE}(?:\.\w+)?(?:\.png)?")
DAY = 1_700_000_000
ANSWERS = {"both game": ("number them", "take their place", "leave out"), "met": ("number them", "leave out"),
           "renames": ("rename", "bring in as well"), "both save": ("keep both",),
           "endings of saves": ("change them so", "keep their endings")}


@dataclass
class Game:
    """One household as it truly is: kinds of its files to their bytes; names of parts as its sheet has them."""

    number: int
    system: str
    title: str
    files: dict[str, bytes]                  # by what stands behind the stem
    parts: dict[str, bytes] = field(default_factory=dict)

    @property
    def lead(self) -> bytes:
        return next(iter(self.files.values()))


class Tree_:
    """Files in memory as a volume that can be looked at."""

    def __init__(self, files: dict[str, bytes]) -> None:
        self.files = files
        folders = {path[:at] for path in files for at, letter in enumerate(path) if letter == "/"}
        self.entries = (*(Entry(path, Kind.FOLDER, 0, DAY, 0) for path in sorted(folders)),
                        *(Entry(path, Kind.FILE, len(data), DAY, 0) for path, data in sorted(files.items())))

    def tree(self) -> Tree:
        return Tree(self.entries, ())

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        return self.files[entry.path][at:at + count]

    def read_file(self, entry: Entry):
        yield self.files[entry.path]


class Model:
    """A card, the plan by which it is laid out, and all games that were ever brought in."""

    def __init__(self, seed: int) -> None:
        self.rnd = random.Random(seed)
        self.facts = facts_of(self.rnd.choice(("fat32", "fat32", "exfat", "ext4")))
        self.plan: FolderPlan = self.rnd.choice(PLANS)
        self.card: dict[str, bytes] = {}
        self.games: list[Game] = []
        self.strange = {"notes/own.txt": b"own", "music/Tamo.mp3": b"song", "Tamo.sav": b"of nobody"}
        self.card |= self.strange
        self.told = list[str]()
        self.unsure = set[bytes]()           # of which it was asked whose they are

    def run(self, acts: int = 6) -> list[str]:
        """Do some acts; what is wrong after one of them."""
        for _ in range(acts):
            act = self.rnd.choice((self.fill, self.fill, self.fill, self.again, self.move, self.renamed, self.friend,
                                   self.put))
            before, self.told = dict(self.card), [*self.told, act.__name__]
            if wrong := act() or self.wrong(before):
                return [*self.told, *wrong]
        return []

    # --- acts -------------------------------------------------------------------------------------

    def fill(self) -> list[str]:
        games = [self._game() for _ in range(self.rnd.randrange(1, 6))]
        self.games += games
        self._last = self._collection(games)
        self._answers = {key: self.rnd.choice(words) for key, words in ANSWERS.items() if self.rnd.random() < 0.3}
        return self._fill(self._last, self._answers)

    def again(self) -> list[str]:
        """What was filled last once more: nothing is to be done."""
        if not hasattr(self, "_last"):
            return []
        return self._twice()

    def move(self) -> list[str]:
        then = self.rnd.choice(PLANS)
        volume, before = Tree_(self.card), dict(self.card)
        found = regroup(volume.entries, self.plan, then, self.facts, OnTheCard(volume.read_at, volume.read_file), {})
        told = {question.key.removeprefix(WHOSE) for question in found.questions if question.key.startswith(WHOSE)}
        self.unsure |= {data for path, data in self.card.items() if path in told}
        stay = {data for path, data in self.card.items() if path not in found.moves}
        for game in self.games if told else ():              # a household whose file is asked about stays as a whole
            self.unsure |= set(game.files.values()) if game.lead in stay else set()
        self._rename(found.moves)
        self.plan = then
        self.__dict__.pop("_last", None)
        if sorted(before.values()) != sorted(self.card.values()):
            return ["moving lost something"]
        return []

    def renamed(self) -> list[str]:
        """A game that is there is brought in under a better name."""
        there = [game for game in self.games if not game.parts and game.lead in self.card.values()]
        if not there:
            return []
        game = self.rnd.choice(there)
        lead = next(iter(game.files))
        self._last = {f"better/{game.system}/{game.title} (World){lead}": game.lead}
        self._answers = {}
        return self._fill(self._last, {})

    def friend(self) -> list[str]:
        """A save of somebody else for a game that is there, beside that game."""
        there = [game for game in self.games if not game.parts and ".sav" in game.files
                 and game.lead in self.card.values()]
        if not there:
            return []
        game = self.rnd.choice(there)
        lead, save = next(iter(game.files)), self._bytes(game.number, "friend", 8192)
        game.files[f".friend{len(game.files)}"] = save
        mine = game.files[".sav"]
        had = mine in self.card.values() and _in_use(self.card, mine)
        self._last = {f"friend/{game.system}/{game.title}{lead}": game.lead,
                      f"friend/{game.system}/{game.title}.sav": save}
        self._answers = {}
        wrong = self._fill(self._last, {})
        return wrong or (["the save in use is another one"] if had and not _in_use(self.card, mine) else [])

    def put(self) -> list[str]:
        """Files that are nobody's come onto the card, called like games of it."""
        title = self.rnd.choice(TITLES)
        self.strange[f"own/{title} {len(self.strange)}.sav"] = self._bytes(len(self.strange), "own", 100)
        self.card |= self.strange
        return []

    # --- what must be true ------------------------------------------------------------------------

    def wrong(self, before: dict[str, bytes]) -> list[str]:
        """Nothing is lost; every file of a household is called as its game is, and none as another one."""
        wrong = [f"lost: {path}" for path, data in before.items() if data not in self.card.values()]
        wrong += [f"touched: {path}" for path, data in self.strange.items() if self.card.get(path) != data]
        where = {data: path for path, data in self.card.items()}
        for game in self.games:
            lead = where.get(game.lead)
            for kind, data in (*game.files.items(), *game.parts.items()):
                if (path := where.get(data)) is None or data in self.unsure:
                    continue
                if lead is None:
                    wrong.append(f"{path} of {game.title}{next(iter(game.files))} is there without it")
                elif kind not in game.parts and not _is_called_so(path, lead):
                    wrong.append(f"{path} belongs to {lead}")
            if lead is not None and game.parts and not all(data in where for data in game.parts.values()):
                wrong.append(f"{lead} lacks parts")
        return wrong

    # --- within -----------------------------------------------------------------------------------

    def _game(self) -> Game:
        number = len(self.games) + self.rnd.randrange(1 << 30)
        title, kind = self.rnd.choice(TITLES), self.rnd.random()
        if kind < 0.15:
            track = f"{title}.bin"
            sheet = f'FILE "{track}" BINARY\nREM {number}\n'.encode()
            return Game(number, "psx", title, {".cue": sheet, ".srm": self._bytes(number, "card", 131_072)},
                        {track: self._bytes(number, "track", 2352 * 20)})
        if kind < 0.25:
            return Game(number, "arcade", title, {".zip": self._bytes(number, "board", 3000)})
        system = self.rnd.choice(list(ENDINGS))
        size = self.rnd.choice((1000, 1000, 2000))
        files = {f".{ENDINGS[system]}": self._bytes(number, "game", size)}
        for tail, bytes_ in ((".sav", 8192), (".st0", 500), (".png", 300), (".rtc", 16), (".ips", 60)):
            if self.rnd.random() < 0.5:
                files[tail] = self._bytes(number, tail, bytes_)
        return Game(number, system, title, files)

    def _bytes(self, number: int, kind: str, size: int) -> bytes:
        return random.Random(f"{number} {kind}").randbytes(size)

    def _collection(self, games: list[Game]) -> dict[str, bytes]:
        """Files as somebody keeps them: in folders of systems, each game in one of some boxes with all that is its."""
        found: dict[str, bytes] = {}
        for game in games:
            box = self.rnd.choice(("a", "b", "c"))
            while f"{box}/{game.system}/{game.title}{next(iter(game.files))}" in found or any(
                    path.casefold().startswith(f"{box}/{game.system}/{game.title}.".casefold()) for path in found):
                box += "x"
            found |= {f"{box}/{game.system}/{game.title}{tail}": data for tail, data in game.files.items()}
            found |= {f"{box}/{game.system}/{name}": data for name, data in game.parts.items()}
        return found

    def _brought(self, files: dict[str, bytes]) -> list[Brought]:
        found = bring_from_volume("mine", Tree_(files), 1, Watch())   # type: ignore[arg-type]
        return [replace(each, group="mine") for each in found]

    def _sorted(self, files: dict[str, bytes], answers: dict[str, str]) -> Sorted:
        volume = Tree_(self.card)
        return sort(self._brought(files), self.plan, Home(volume.entries, self.facts, 4096, 1 << 40),
                    OnTheCard(volume.read_at, volume.read_file),
                    answers={"states mine": "bring in all the same", "save size mine": "bring in all the same",
                             **answers})

    def _fill(self, files: dict[str, bytes], answers: dict[str, str]) -> list[str]:
        found = self._sorted(files, answers)
        self._rename(found.renamed)
        for each in found.placed:
            if each.act not in (Act.COPY, Act.KEEP_BOTH):
                continue
            old = next((path for path in self.card if self.facts.folded(path) == self.facts.folded(each.to)), None)
            if (old is None) is (each.act == Act.KEEP_BOTH):
                return [f"{each.to}: {each.act}, and there is {old}"]
            if old is not None:
                stem, dot, ending = old.rpartition(".")
                self.card[f"{stem} 2026-12-01{dot}{ending}"] = self.card.pop(old)
            self.card[each.to] = b"".join(each.origin.read())
        return self._twice()

    def _twice(self) -> list[str]:
        answers = {key: word for key, word in self._answers.items() if word != "take their place"}
        again = self._sorted(self._last, answers)
        return [f"a second time: {each.act} {each.was} {each.to}" for each in again.placed
                if each.act not in (Act.SKIP, Act.LEAVE)] + [f"a second time: {path}" for path in again.along]

    def _rename(self, moves: dict[str, str]) -> None:
        moved = {place: self.card.pop(path) for path, place in moves.items()}
        for place, data in moved.items():
            assert place not in self.card, place
            self.card[place] = data


def chance(seed: int) -> Counter[str]:
    """One model; what was done to it. Raises AssertionError with what is wrong."""
    model = Model(seed)
    wrong = model.run()
    if wrong:
        raise AssertionError(f"card {seed}: {wrong}")
    return Counter(model.told)


def _is_called_so(path: str, lead: str) -> bool:
    """Whether a file has the name of its game, and behind it nothing but what stands behind names."""
    name, stem = path.rpartition("/")[2], lead.rpartition("/")[2].rpartition(".")[0]
    return name.startswith(stem) and TAIL.fullmatch(name.removeprefix(stem)) is not None


def _in_use(card: dict[str, bytes], save: bytes) -> bool:
    """Whether a save lies under no dated name."""
    return any(data == save and not re.search(r"\d{4}-\d\d-\d\d", path) for path, data in card.items())
