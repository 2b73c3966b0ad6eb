"""What goes where: files that are brought in, sorted into the folders of a plan, beside what is on the card already."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from math import log2
from pathlib import Path

from blake3 import blake3

from mosscrate.core.contents.naming import menu_name, proposed_name
from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.systems import systems
from mosscrate.core.fill.wanted import is_wanted, missing, places_of
from mosscrate.core.sizes import MIB, binary, counted, listed
from mosscrate.core.volumes import Entry, Facts, Kind

UNPACKED = ("zip", "7z")
SHOWN = 3


class Act(StrEnum):
    """What becomes of a file."""

    COPY = "copied"
    KEEP_BOTH = "kept both"
    SKIP = "there already"
    LEAVE = "left out"


@dataclass(frozen=True)
class Placed:
    """A file with its place on the card, what becomes of it, and why; `is_unpacked` for what lies in an archive."""

    file: Brought
    act: Act
    to: str = ""
    why: str = ""
    is_unpacked: bool = False

    @property
    def size(self) -> int:
        """Bytes that come to the card."""
        return self.file.member.size if self.is_unpacked and self.file.member else self.file.size

    @property
    def source(self) -> str:
        """As a sheet says it."""
        return self.file.member.path if self.is_unpacked and self.file.member else str(self.file.path)


@dataclass(frozen=True)
class Question:
    """Something that needs a word.

    Attributes:
        key: by which an answer is given.
        sentence: what it is about.
        answers: what can be done, by the word of it; the first is taken if nobody answers.
        worth: by which questions are put in order.
        files: how many it is about.
    """

    key: str
    sentence: str
    answers: tuple[str, ...]
    worth: float
    files: int

    @property
    def usual(self) -> str:
        """The answer that is taken if nobody answers."""
        return self.answers[0]


@dataclass(frozen=True)
class Flow:
    """Files of one group that go into one folder: what a ribbon is."""

    group: str
    folder: str
    act: Act
    files: int
    size: int


@dataclass(frozen=True)
class Sorted:
    """The whole of it.

    Attributes:
        placed: every file.
        questions: most worth first.
        need: bytes on the card, clusters counted whole.
        lost: bytes of these that clusters lose.
        free: bytes that are free there now.
    """

    placed: tuple[Placed, ...]
    questions: tuple[Question, ...]
    need: int
    lost: int
    free: int

    @property
    def coming(self) -> tuple[Placed, ...]:
        """Files that are written."""
        return tuple(each for each in self.placed if each.act in (Act.COPY, Act.KEEP_BOTH))

    @property
    def fits(self) -> bool:
        """Whether there is room for what is written."""
        return self.need <= self.free

    def flows(self) -> list[Flow]:
        """What goes from which group into which folder, the largest first."""
        files, sizes = Counter[tuple[str, str, Act]](), Counter[tuple[str, str, Act]]()
        for each in self.placed:
            folder = each.to.rpartition("/")[0] if each.act != Act.LEAVE else ""
            key = (each.file.group, folder, each.act)
            files[key] += 1
            sizes[key] += each.size
        return [Flow(*key, files[key], size) for key, size in sizes.most_common()]


def sort(brought: Sequence[Brought], plan: FolderPlan, there: Iterable[Entry], facts: Facts, *, block: int, free: int,
         is_equal: Callable[[Placed, Entry], bool], answers: dict[str, str] | None = None) -> Sorted:
    """Sort what is brought in.

    Args:
        brought: files.
        plan: where they go.
        there: what is on the volume.
        facts: of its file system.
        block, free: its allocation unit and free bytes.
        is_equal: whether a file has the contents of one that is there; asked for equal places and sizes only.
        answers: by the keys of questions.
    """
    sorter = _Sorter(plan, list(there), facts, is_equal, answers or {})
    placed = tuple(each for file in brought for each in sorter.place(file))
    coming = [each.size for each in placed if each.act in (Act.COPY, Act.KEEP_BOTH)]
    need = sum(-(-size // block) * block for size in coming)
    questions = sorter.questions(placed)
    if need > free:
        questions.append(_too_much(placed, need, free))
    return Sorted(placed, tuple(sorted(questions, key=lambda each: -each.worth)), need, need - sum(coming), free)


class _Sorter:
    def __init__(self, plan: FolderPlan, there: list[Entry], facts: Facts, is_equal: Callable[[Placed, Entry], bool],
                 answers: dict[str, str]) -> None:
        self.plan, self.facts, self.is_equal, self.answers = plan, facts, is_equal, answers
        self._there = {facts.folded(entry.path): entry for entry in there}
        self._taken: dict[str, Brought] = {}
        self.renamed: dict[str, str] = {}                  # wanted places and what they had to become

    def place(self, file: Brought) -> list[Placed]:
        """Where one file goes; a system file may go to several places."""
        if self.answers.get(f"group {file.group}") == "leave out":
            return [Placed(file, Act.LEAVE, why="its group is left out")]
        wanted = [] if file.role == Role.LITTER else [want for want in self.plan.wants if is_wanted(want, file)]
        if wanted:
            why = f"it is {listed([want.file for want in wanted])}, which this card wants"
            return [self._at(replace(file, reason=why), place) for want in wanted
                    for place in places_of(self.plan, want)]
        to, why = self._target(file)
        return [self._at(file, to) if to else Placed(file, Act.LEAVE, why=why)]

    def _at(self, file: Brought, to: str) -> Placed:
        """A file at its place."""
        wanted, is_unpacked = to, self._is_unpacked(file)
        to = self._suited("/".join(self._possible(part) for part in to.split("/")))
        if to != wanted:
            self.renamed[wanted] = to
        folded = self.facts.folded(to)
        entry = self._there.get(folded)
        if folded in self._taken:
            other = self._taken[folded]
            return Placed(file, Act.LEAVE, to, f"“{other.path.name}” of {other.group} goes there already")
        if entry is not None and entry.kind != Kind.FILE:
            return Placed(file, Act.LEAVE, to, "a folder of that name is there")
        self._taken[folded] = file
        if entry is None:
            return Placed(file, Act.COPY, to, file.reason, is_unpacked)
        both = Placed(file, Act.KEEP_BOTH, to, "another one of that name is there; it stays under a dated name",
                      is_unpacked)
        if entry.size == both.size and self.is_equal(both, entry):
            return Placed(file, Act.SKIP, to, "it is there with the same contents", is_unpacked)
        return both

    def _is_unpacked(self, file: Brought) -> bool:
        """Whether what is packed is brought in, and not the archive: where the plan does not open such archives."""
        return file.role == Role.GAME and file.member is not None and file.ending not in (
            *self.plan.opens(file.system), *self.plan.packings(file.system))

    def _target(self, file: Brought) -> tuple[str, str]:
        """(path on the card, "") or ("", why not)."""
        match file.role:
            case Role.LITTER:
                return "", "desktops leave it behind"
            case Role.GAME:
                return self._of_game(file)
            case Role.SAVE:
                return self._of_pattern(file, self._pattern(file, "saves"), "saves")
            case Role.STATE:
                return "", "save states rarely move between programs"
            case Role.PICTURE:
                return self._of_pattern(file, self._pattern(file, "pictures"), "pictures")
            case Role.SYSTEM if self.plan.system_files:
                needs_system = "{code}" in self.plan.system_files.casefold() or "{folder}" in self.plan.system_files
                if needs_system and not file.system:
                    return "", "it is not known which system wants it"
                return self.plan.fill_in(self.plan.system_files, file.system, file.path.name), ""
        return "", file.reason or "nothing tells what it is for"

    def _of_game(self, file: Brought) -> tuple[str, str]:
        folder = self.plan.folder_of(file.system)
        if not folder:
            if self.answers.get(f"folder {file.system}") != "make one":
                return "", f"this plan has no folder for {file.system}"
            folder = f"{self.plan.root}/{self._fresh(file.system)}".strip("/")
        opens, packed = self.plan.opens(file.system), self.plan.packings(file.system)
        is_wanted = self.answers.get(f"ending {file.system} {file.ending}") == "bring in all the same"
        if self._is_unpacked(file) and file.member is not None:
            return f"{folder}/{file.member.name.rpartition('/')[2]}", ""
        if opens and file.ending not in (*opens, *packed) and not is_wanted:
            return "", f"this card opens {listed([*opens[:4], *packed])} for {file.system}, not {file.ending}"
        return f"{folder}/{file.path.name}", ""

    def _of_pattern(self, file: Brought, pattern: str, what: str) -> tuple[str, str]:
        if not pattern:
            return "", f"this plan says nothing of {what}"
        if not file.system:
            return "", "it is not known of which system’s game it is"
        if not self.plan.folder_of(file.system) and "{folder}" in pattern:
            return "", f"this plan has no folder for {file.system}"
        return self.plan.fill_in(pattern, file.system, file.path.name), ""

    def _pattern(self, file: Brought, part: str) -> str:
        own = getattr(self.plan.systems.get(file.system), part, None) or getattr(self.plan, part)
        return own.place if own is not None else ""

    def _fresh(self, code: str) -> str:
        names = systems().by_code[code].names
        return self.plan.fresh.format(name=names[0] if names else code, code=code, CODE=code.upper(),
                                      number=len(self.plan.systems))

    def _possible(self, name: str) -> str:
        """A name as this file system takes it."""
        return proposed_name(name, set(), self.facts.why_not) if self.facts.why_not(name) else name

    def _suited(self, path: str) -> str:
        """A place whose name the card's menu takes too; two names that become one are told apart by a number."""
        rules = self.plan.names
        folder, slash, name = path.rpartition("/")
        most = min([length for length in (rules.most, rules.path - len(folder) - 1 if rules.path else 0) if length > 0],
                   default=0)
        if (not most or len(name) <= most) and (not rules.ascii or name.isascii()):
            return path
        beside = f"{self.facts.folded(folder)}{slash}"
        taken = {each.removeprefix(beside).lower() for each in self._taken if each.startswith(beside)}
        return f"{folder}{slash}{menu_name(name, most, taken, is_plain=rules.ascii)}"

    def questions(self, placed: Sequence[Placed]) -> list[Question]:
        """One for each cause."""
        causes = defaultdict[tuple[str, ...], list[Placed]](list)
        for each in placed:
            file = each.file
            if each.act == Act.KEEP_BOTH:
                causes["both", str(file.role)].append(each)
            elif each.act == Act.LEAVE and file.role == Role.GAME and not self.plan.folder_of(file.system):
                causes["folder", file.system].append(each)
            elif each.act == Act.LEAVE and file.role == Role.GAME and "opens" in each.why:
                causes["ending", file.system, file.ending].append(each)
            elif each.act == Act.LEAVE and file.role == Role.UNKNOWN:
                causes["unknown", file.group].append(each)
            elif each.act == Act.LEAVE and file.role == Role.SAVE:
                causes["saves", file.group].append(each)
            elif each.act == Act.LEAVE and file.role == Role.LITTER:
                causes["litter",].append(each)
        asked = [_question(cause, found) for cause, found in causes.items()]
        asked += self._about_system_files(placed)
        if self.renamed:
            asked.append(self._about_names())
        return asked

    def _about_system_files(self, placed: Sequence[Placed]) -> list[Question]:
        """What is wanted for games that are on the card or come to it, and is not there."""
        games = Counter(each.file.system for each in placed if each.file.role == Role.GAME and each.act != Act.LEAVE)
        for code in self.plan.systems:
            own = self.facts.folded(f"{self.plan.folder_of(code)}/")
            games[code] += sum(path.startswith(own) for path in self._there)
        lost = missing(self.plan, lambda place: self.facts.folded(place) in self._there | self._taken, games)
        return [Question(f"want {want.file}", f"{want.file} is missing for {listed(want.systems)}; "
                         f"{counted(waiting, 'game')} {'waits' if waiting == 1 else 'wait'} for it.",
                         ("go on without",), 7000 + 100 * log2(1 + waiting), waiting) for want, waiting in lost]

    def _about_names(self) -> Question:
        old, new = next(iter(self.renamed.items()))
        because = f": {self.plan.names.because}" if self.plan.names.because else ""
        return Question("names", f"{counted(len(self.renamed), 'name')} cannot stand there{because}. “{_last(old)}” "
                        f"becomes “{_last(new)}”.", ("shorten them so",), 2000 + 100 * log2(1 + len(self.renamed)),
                        len(self.renamed))


def _last(path: str) -> str:
    return path.rpartition("/")[2]


def _question(cause: tuple[str, ...], found: list[Placed]) -> Question:
    number, size = len(found), sum(each.file.size for each in found)
    names = f"{', '.join(each.file.path.name for each in found[:SHOWN])}{' …' if number > SHOWN else ''}"
    are = "is" if number == 1 else "are"
    match cause[0]:
        case "both":
            return Question(f"both {cause[1]}", f"{counted(number, cause[1])} {are} on the card with other contents: "
                            f"{names}. The card’s stay under dated names.", ("keep both",), _worth(9, found), number)
        case "folder":
            return Question(f"folder {cause[1]}", f"{cause[1]} has no folder on this card: {counted(number, 'file')}, "
                            f"{binary(size)}.", ("leave out", "make one"), _worth(6, found), number)
        case "ending":
            return Question(f"ending {cause[1]} {cause[2]}", f"{counted(number, f'{cause[1]} file')} {are} {cause[2]}; "
                            f"{found[0].why}.", ("leave out", "bring in all the same"), _worth(5, found), number)
        case "saves":
            return Question(f"saves {cause[1]}", f"{counted(number, 'save')} of {cause[1]} {are} left out: "
                            f"{found[0].why}.", ("leave out",), _worth(7, found), number)
        case "litter":
            return Question("litter", f"{counted(number, 'file')} that desktops leave behind, {binary(size)}.",
                            ("leave out",), _worth(1, found), number)
    return Question(f"unknown {cause[1]}", f"{counted(number, 'file')} of {cause[1]} {are} left out, since nothing "
                    f"tells what for: {names}.", ("leave out",), _worth(3, found), number)


def _worth(rank: int, found: Sequence[Placed]) -> float:
    return rank * 1000 + 100 * log2(1 + len(found)) + sum(each.file.size for each in found) / 64 / MIB


def _too_much(placed: Sequence[Placed], need: int, free: int) -> Question:
    """What would fit: without the smallest group that is large enough."""
    groups = Counter[str]()
    for each in placed:
        if each.act in (Act.COPY, Act.KEEP_BOTH):
            groups[each.file.group] += each.size
    over = need - free
    enough = sorted((size, group) for group, size in groups.items() if size >= over)
    hint = f" Without {enough[0][1]} ({binary(enough[0][0])}) the rest does." if enough else ""
    return Question(f"group {enough[0][1]}" if enough else "room", f"{binary(over)} do not fit.{hint}",
                    ("decide", "leave out") if enough else ("decide",), 8000.0, len(placed))


def local_paths(found: Sorted) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Files on this computer and their places on the card, folder by folder, the largest files first."""
    order = sorted(found.coming, key=lambda each: (each.to.rpartition("/")[0], -each.size, each.to))
    return tuple(each.source for each in order), tuple(each.to for each in order)


def equal_by_contents(read: Callable[[Entry], Iterable[bytes]]) -> Callable[[Placed, Entry], bool]:
    """Compares a file here with one on the card, whole."""
    def is_equal(placed: Placed, entry: Entry) -> bool:
        if placed.is_unpacked and placed.file.member is not None:
            return blake_of(placed.file.member.read()) == blake_of(read(entry))
        with Path(placed.file.path).open("rb") as here:
            return all(here.read(len(piece)) == piece for piece in read(entry)) and not here.read(1)
    return is_equal


def blake_of(pieces: Iterable[bytes]) -> bytes:
    """The digest of what comes in pieces."""
    digest = blake3()
    for piece in pieces:
        digest.update(piece)
    return digest.digest()
