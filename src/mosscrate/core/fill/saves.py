"""Saves and the games that they are of: by name, and whether their size is one that the game can have."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from mosscrate.core.fill.systems import systems

CLOCKS = (8, 16, 44, 48)                 # bytes that programs put behind a save for the clock of the cartridge
SMALLEST = 128
CARD, CARD_HEAD = 131_072, 3_904         # a memory card as it is, and what one container puts in front of it
CARDS = {"mcr": CARD, "mcd": CARD, "gme": CARD + CARD_HEAD, "mpk": 32_768, "vmu": CARD}
_BRACKETS = re.compile(r"\([^()]*\)|\[[^\[\]]*\]")
_ARTICLES = re.compile(r"\b(the|a|an|der|die|das|le|la|les|el|los|las|il|lo|o|os)\b")
_ACCENTS = re.compile("[\u0300-\u036f]")  # of Latin, Greek and Cyrillic letters; other marks make other letters


class Game(NamedTuple):
    """A game by which a save may be meant: its system, its file's name on the card, what its header says of saves."""

    system: str
    name: str
    saves: tuple[int, ...] = ()

    @property
    def stem(self) -> str:
        """The name without its ending."""
        return stem_of(self.name)


class Games:
    """Games to which saves, states and pictures are matched."""

    def __init__(self) -> None:
        self._by_stem: dict[str, tuple[Game, ...]] = {}
        self._by_words: dict[str, tuple[Game, ...]] = {}
        self._unread = list[tuple[str, Game]]()            # looked into only where a stem is not found as it is

    def add(self, game: Game, name: str = "") -> None:
        """Note a game; `name` is what its file was called before, where it has another one on the card.

        One that was noted already is known better now.
        """
        for each in (game.name,) if name in ("", game.name) else (game.name, name):
            _note(self._by_stem, stem_of(each).casefold(), game)
            self._unread.append((each, game))

    def all(self) -> list[Game]:
        """Each of them once."""
        return list(dict.fromkeys(game for games in self._by_stem.values() for game in games))

    def of(self, name: str, system: str = "") -> list[Game]:
        """The games that a file may belong to by its name: letter by letter, else by its words.

        More than one where several are called so; of a system alone where that is known.
        """
        stem = stem_of(name)
        if fitting := _of_system(self._by_stem.get(stem.casefold()), system):
            return fitting
        for its, game in self._unread:
            for form in (f"/{its.casefold()}", words_of(stem_of(its))):
                _note(self._by_words, form, game)
        self._unread.clear()
        if fitting := _of_system(self._by_words.get(f"/{stem.casefold()}"), system):     # x.gb.sav of x.gb
            return fitting
        return _of_system(self._by_words.get(words_of(stem)), system)


def _note(games: dict[str, tuple[Game, ...]], key: str, game: Game) -> None:
    known = games.get(key)
    games[key] = (game,) if known is None else (*(each for each in known if (each.system, each.name) !=
                                                  (game.system, game.name)), game)


def _of_system(found: tuple[Game, ...] | None, system: str) -> list[Game]:
    return [game for game in found or () if not system or systems().are_kin(game.system, system)]


def stem_of(name: str) -> str:
    """A name without its ending."""
    return name.rpartition(".")[0] if "." in name else name


def words_of(stem: str) -> str:
    """The letters and digits of a name, of every script, without brackets, articles and accents; all of it else."""
    plain = unicodedata.normalize("NFC", _ACCENTS.sub("", unicodedata.normalize("NFKD", stem.casefold())))
    bare = "".join(c if _is_of_a_word(c) else " " for c in _BRACKETS.sub(" ", plain))
    return "".join(_ARTICLES.sub(" ", bare).split()) or "".join(bare.split()) or stem.casefold()


def _is_of_a_word(letter: str) -> bool:
    """A letter or digit, or a vowel that many scripts write as a mark on one."""
    return letter.isalnum() or unicodedata.category(letter) in ("Mn", "Mc")


def why_not_of(size: int, ending: str, game: Game, read: Callable[[], Iterable[bytes]]) -> str:
    """Why a save of some bytes is hardly this game's; "" where it may be. Its bytes are read only where they tell."""
    if ending in CARDS:
        return "" if size == CARDS[ending] else f"a card of .{ending} has {CARDS[ending]} bytes, not {size}"
    own = systems().by_code.get(game.system)
    sizes = game.saves or (own.saves if own is not None else ())
    if not sizes:
        return ""
    if max(sizes) == 0:
        return "its game saves nothing by its header"
    if any(size in (each, *(each + clock for clock in CLOCKS)) for each in sizes):
        return ""
    if size < max(sizes) and size >= SMALLEST and size & (size - 1) == 0:
        return ""                                            # cut where nothing is saved
    shorter = max((each for each in sizes if 0 < each < size), default=0)
    if shorter and is_empty(_behind(read(), shorter)):
        return ""                                            # padded
    said = " or ".join(str(each) for each in sizes[:4])
    return f"its game saves {said} bytes, not {size}" if game.saves else \
        f"games of {game.system} save {said} bytes, not {size}"


def _behind(pieces: Iterable[bytes], at: int) -> Iterator[bytes]:
    for piece in pieces:
        if at < len(piece):
            yield piece[at:]
        at = max(0, at - len(piece))


def is_empty(pieces: Iterable[bytes]) -> bool:
    """Whether a save holds one byte throughout: the game has never saved."""
    first = b""
    for piece in pieces:
        first = first or piece[:1]
        if piece != first * len(piece):
            return False
    return True
