"""System files that a plan wants: known by size and checksum, else by name, and put into every place."""

from __future__ import annotations

import hashlib
import zlib
from collections import Counter
from collections.abc import Callable
from functools import partial
from pathlib import Path

from blake3 import blake3

from mosscrate.core.fill.bringing import Brought
from mosscrate.core.fill.plans import FolderPlan, Want

PIECE = 1 << 20


def is_wanted(want: Want, file: Brought) -> bool:
    """Whether a file is the one that is wanted; read only where its size allows it."""
    if want.size and file.size != want.size:
        return False
    if not want.digests:
        return file.path.name.casefold() == want.file.casefold()
    return any(_digest(kind, file.path) == wanted.casefold() for kind, _, wanted in
               (digest.partition(":") for digest in want.digests))


def places_of(plan: FolderPlan, want: Want) -> list[str]:
    """Every path at which a file is wanted."""
    if want.places:
        return [f"{place}/{want.file}".strip("/") for place in want.places]
    return [plan.fill_in(plan.system_files, want.systems[0], want.file)] if plan.system_files else []


def missing(plan: FolderPlan, is_there: Callable[[str], bool], games: Counter[str]) -> list[tuple[Want, int]]:
    """What is wanted, lies at none of its places, and has games waiting for it; with how many they are."""
    found = [(want, sum(games[code] for code in want.systems)) for want in plan.wants
             if not any(is_there(place) for place in places_of(plan, want))]
    return [(want, waiting) for want, waiting in found if waiting and want.need != "better with"]


def _digest(kind: str, path: Path) -> str:
    try:
        with path.open("rb") as file:
            pieces = iter(partial(file.read, PIECE), b"")
            if kind == "crc32":
                value = 0
                for piece in pieces:
                    value = zlib.crc32(piece, value)
                return f"{value:08x}"
            digest = blake3() if kind == "blake3" else hashlib.new(kind)
            for piece in pieces:
                digest.update(piece)
            return str(digest.hexdigest())
    except (OSError, ValueError):                           # a checksum of no kind that is known
        return ""
