"""Saves and the games that they are of: by name, and whether their size is one that the game can have."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Iterable, Iterator

from mosscrate.core.fill.systems import systems

CLOCKS = (8, 16, 44, 48)                 # bytes that programs put behind a save for the clock of the cartridge
SMALLEST = 128
CARD, CARD_HEAD = 131_072, 3_904         # a memory card as it is, and what one container puts in front of it
CARDS = {"mcr": CARD, "mcd": CARD, "gme": CARD + CARD_HEAD, "mpk": 32_768, "vmu": CARD}
ALIKE = {"sav", "srm", "ram"}            # endings of one thing: bytes of a battery as they are
_BRACKETS = re.compile(r"\([^()]*\)|\[[^\[\]]*\]")
_ARTICLES = re.compile(r"\b(the|a|an|der|die|das|le|la|les|el|los|las|il|lo|o|os)\b")
_ACCENTS = re.compile("[\u0300-\u036f]")  # of Latin, Greek and Cyrillic letters; other marks make other letters


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


def why_not_of(size: int, ending: str, system: str, saves: tuple[int, ...], read: Callable[[], Iterable[bytes]]) -> str:
    """Why a save is hardly that of a game; "" where it may be. Its bytes are read only where they tell.

    Args:
        size: of the save.
        ending: of it.
        system: of the game.
        saves: bytes that the game's header allows; () where it says nothing.
        read: bytes of the save, in pieces.
    """
    if ending in CARDS:
        return "" if size == CARDS[ending] else f"a card of .{ending} has {CARDS[ending]} bytes, not {size}"
    own = systems().by_code.get(system)
    sizes = saves or (own.saves if own is not None else ())
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
    return f"its game saves {said} bytes, not {size}" if saves else \
        f"games of {system} save {said} bytes, not {size}"


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
