"""Names near those that a file system cannot hold: as much of the old one as it allows, and free in their folder."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Iterable, Iterator

from mosscrate.core.errors import FitError

# They stand for devices under DOS, whatever comes behind a dot.
DOS_DEVICES = frozenset(("con", "prn", "aux", "nul", "clock$", *(f"{port}{k}" for port in ("com", "lpt")
                                                                 for k in range(1, 10))))
LENGTHS = (200, 107, 80, 60, 30)        # characters, the ending always stays: 80 and 60 for systems that count bytes
MOST_TRIES = 100_000
_FORBIDDEN = str.maketrans({c: "_" for c in '"*/:<>?\\|'})
_SEPARATORS = str.maketrans({"/": "_", ":": "_"})


def folders_above(paths: Iterable[str]) -> set[str]:
    """Every folder that some paths stand in, those above it too."""
    parents = {path.rpartition("/")[0] for path in paths} - {""}
    return parents | {path[:at] for path in parents for at, letter in enumerate(path) if letter == "/"}


def stands_for_device(name: str) -> bool:
    """Whether DOS takes a name for one of a device, which it then opens instead of the file."""
    return name.partition(".")[0].rstrip(" ").lower() in DOS_DEVICES


def proposed_name(name: str, taken: set[str], why_not: Callable[[str], str]) -> str:
    """The first name near `name` that is free and that the volume takes. Raises FitError where none is left.

    Args:
        name: as it stands now.
        taken: lower-case names of the folder.
        why_not: why a name cannot stand on a volume, "" when it can.
    """
    for candidate in _cleaned(name):
        for most in LENGTHS:
            fresh = _unique(candidate, most, taken)
            if not why_not(fresh):
                return fresh
    return short_name(name, taken)


def menu_name(name: str, most: int, taken: set[str], *, is_plain: bool) -> str:
    """A name of at most `most` characters (0 for any), in plain letters where that is asked; free in its folder.

    Raises FitError where none is left.
    """
    if is_plain:
        name = "".join(c for c in unicodedata.normalize("NFKD", name) if 31 < ord(c) < 127) or "file"
    return _unique(name, most or len(name) + 8, taken)


def short_name(name: str, taken: set[str]) -> str:
    """A name of eight characters and three, near the one that does not fit; `taken` holds lower-case names."""
    stem, ending = _parts(name.upper())
    plain = re.sub(r"[^A-Z0-9_-]", "", unicodedata.normalize("NFKD", stem)) or "FILE"
    ending = re.sub(r"[^A-Z0-9_-]", "", unicodedata.normalize("NFKD", ending))[:3]
    for number in range(1, MOST_TRIES):
        tail = f"~{number}" if number > 1 or len(plain) > 8 else ""
        candidate = plain[:8 - len(tail)] + tail + (f".{ending}" if ending else "")
        if candidate.lower() not in taken:
            return candidate
    raise FitError(f"No short name is left for “{name}” in its folder.")


def _cleaned(name: str) -> Iterator[str]:
    """The name with fewer and fewer of the characters that may stand against it."""
    composed = unicodedata.normalize("NFC", name)
    printable = "".join("_" if ord(c) < 32 else c for c in composed)
    for table in (_SEPARATORS, _FORBIDDEN):
        plain = printable.translate(table)
        yield plain
        yield "".join(_to_latin(plain))


def _to_latin(name: str) -> Iterable[str]:
    """Characters outside of Latin-1 as the letters they are made of, or as an underscore."""
    for c in name:
        if ord(c) < 256:
            yield c
        else:
            yield "".join(d for d in unicodedata.normalize("NFKD", c) if ord(d) < 256) or "_"


def _unique(name: str, most: int, taken: set[str]) -> str:
    """The name cut to `most` characters, with a number where it is taken."""
    stem, ending = _parts(name)
    ending = f".{ending}" if ending else ""
    for number in range(1, MOST_TRIES):
        tail = f" ({number})" if number > 1 else ""
        candidate = ((stem[:most - len(tail) - len(ending)].rstrip(" .") or "_") + tail + ending).rstrip(" .")
        if candidate.lower() not in taken:
            return candidate
    raise FitError(f"No name is left for “{name}” in its folder.")


def _parts(name: str) -> tuple[str, str]:
    """Stem and a short ending; a long one, or that of a dotted name, belongs to the stem."""
    stem, dot, ending = name.rpartition(".")
    return (stem, ending) if dot and stem and len(ending) < 8 else (name, "")
