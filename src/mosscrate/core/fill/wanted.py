"""System files that a plan wants: known by size and checksum, else by name, and put into every place."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable

from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import Brought
from mosscrate.core.fill.digests import digest_of
from mosscrate.core.fill.plans import FolderPlan, Want


def is_wanted(want: Want, file: Brought) -> bool:
    """Whether a file is the one that is wanted; read only where its size allows it."""
    if want.size and file.size != want.size:
        return False
    if not want.digests:
        return file.path.name.casefold() == want.file.casefold()
    return is_it(want, file.origin.read)


def is_it(want: Want, read: Callable[[], Iterable[bytes]]) -> bool:
    """Whether contents are those that are wanted; not where they cannot be read."""
    try:
        return any(digest_of(kind, read()) == wanted.casefold() for kind, _, wanted in
                   (digest.partition(":") for digest in want.digests))
    except MossError:
        return False


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
