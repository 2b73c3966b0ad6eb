"""What goes where: files that are brought in, sorted into the folders of a plan, beside what is on the card already."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from math import log2
from typing import NamedTuple

from mosscrate.core.fill.bringing import Brought
from mosscrate.core.fill.households import Household
from mosscrate.core.fill.origins import Origin, Packed
from mosscrate.core.fill.saves import stem_of


class Act(StrEnum):
    """What becomes of a file."""

    COPY = "copied"
    KEEP_BOTH = "kept both"
    RENAME = "renamed on the card"
    SKIP = "there already"
    SEEMS = "there, it seems"            # compared when the job runs
    LEAVE = "left out"


COMING = (Act.COPY, Act.KEEP_BOTH)
GROUP, BETWEEN = "group ", " + "         # in front of groups that are left out, in the key of a question; between them


class Cause(StrEnum):
    """Why something is left out; questions are asked by causes."""

    NONE = ""
    GROUP = "group"
    FOLDER = "folder"
    ENDING = "ending"
    UNKNOWN = "unknown"
    UNREADABLE = "unreadable"
    SAVES = "saves"
    SIZE = "save size"
    STATES = "states"
    PICTURES = "pictures"
    PICTURED = "pictures there"
    WAITS = "waits"                      # for being scaled
    SYSTEM = "system"
    LITTER = "litter"
    FULL = "full"
    MET = "met"
    IN_THE_WAY = "in the way"
    TOO_LARGE = "too large"              # for any file of this file system
    ROOM = "room"                        # there is none left for it
    WHOSE = "whose"
    MANUALS = "manuals"
    NUMBERED = "numbered"                # it comes, under a number: another one that is brought in has its name
    BOTH = "both game"                   # another one on the card has its name
    SEEMING = "seeming"                  # like another one that is brought in, as far as there was time to compare
    BESIDE = "beside"                    # a save that comes beside the one in use


@dataclass(frozen=True, slots=True)
class Placed:
    """A file with its place on the card, what becomes of it, and why.

    `is_unpacked` for what lies in an archive; `was` is the place that a file of the card has now which is renamed;
    `cause` is why something is left out, or comes otherwise than it is called;
    `home` is the path of the game of whose household it is.
    """

    file: Brought
    act: Act
    to: str = ""
    why: str = ""
    is_unpacked: bool = False
    was: str = ""
    cause: Cause = Cause.NONE
    home: str = ""

    @property
    def origin(self) -> Origin:
        """Where the bytes come from."""
        return self.file.packed if self.is_unpacked and self.file.packed else self.file.origin

    @property
    def size(self) -> int:
        """Bytes that come to the card."""
        return self.file.packed.member.size if self.is_unpacked and self.file.packed else self.file.size


@dataclass(frozen=True)
class Game:
    """A game as it is called on the card: what places of what belongs to it are made of.

    Attributes:
        system: its short code.
        name: of its file.
        folder: in which that lies.
        saves: bytes that its saves may have, where its header says so.
        there: its household on the card.
    """

    system: str
    name: str
    folder: str = ""
    saves: tuple[int, ...] = ()
    there: Household | None = None

    @property
    def stem(self) -> str:
        """The name without its ending."""
        return stem_of(self.name)


class Target(NamedTuple):
    """A place on the card; or "" and why there is none."""

    path: str
    why: str = ""
    cause: Cause = Cause.NONE


def in_order(placed: Placed) -> tuple[str, int, str, int, str]:
    """How files are copied: folder by folder, large ones first; members of an archive as they lie in it."""
    origin = placed.origin
    member = origin.member if isinstance(origin, Packed) else None
    folder, number = placed.to.rpartition("/")[0], member.number if member else 0
    archive = f"{member.archive}{member.within}" if member and (number or member.within) else ""
    return archive, number, folder, -placed.size, placed.to


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


SHOWN = 3                                # names that stand in a question


def asked(key: str, sentence: str, answers: tuple[str, ...], rank: int, number: int) -> Question:
    """A question about so many files; what has a higher rank comes first, then what is about more."""
    return Question(key, sentence, answers, rank * 1000 + 100 * log2(1 + number), number)


def some_of(names: Sequence[str]) -> str:
    """The first of some names, as they stand in a question."""
    return f"{', '.join(names[:SHOWN])}{' …' if len(names) > SHOWN else ''}"


@dataclass(frozen=True)
class Flow:
    """Files of one group that go into one folder: what a ribbon is."""

    group: str
    folder: str
    act: Act
    files: int
    size: int


class Bare(NamedTuple):
    """A game without a picture: its system, its name on the card, its file where it is brought in."""

    system: str
    name: str
    file: Brought | None = None


@dataclass(frozen=True)
class Sorted:
    """The whole of it.

    Attributes:
        placed: every file.
        along: files of the card that change places with the games that are renamed: path → place.
        bare: games that have no picture, where the plan has a place for them.
        questions: most worth first.
        need: bytes on the card, clusters counted whole.
        lost: bytes of these that clusters lose.
        free: bytes that are free there now.
    """

    placed: tuple[Placed, ...]
    along: dict[str, str]
    bare: tuple[Bare, ...]
    questions: tuple[Question, ...]
    need: int
    lost: int
    free: int

    @property
    def coming(self) -> tuple[Placed, ...]:
        """Files that are written."""
        return tuple(each for each in self.placed if each.act in COMING)

    @property
    def seeming(self) -> tuple[Placed, ...]:
        """Files that are compared by the job, and written only where they differ."""
        return tuple(each for each in self.placed if each.act == Act.SEEMS)

    @property
    def lacking(self) -> tuple[Placed, ...]:
        """Files that would come and cannot: too large, or without room."""
        return tuple(each for each in self.placed if each.cause in (Cause.TOO_LARGE, Cause.ROOM, Cause.FULL))

    @property
    def waiting(self) -> tuple[Brought, ...]:
        """Pictures that are not scaled yet."""
        return tuple(each.file for each in self.placed if each.cause == Cause.WAITS)

    @property
    def renamed(self) -> dict[str, str]:
        """Files of the card that get other places: path → place."""
        return {each.was: each.to for each in self.placed if each.act == Act.RENAME} | self.along

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
