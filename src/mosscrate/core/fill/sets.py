"""Files that belong together: a sheet or list, and the files that it names.

Sources: cue sheets as CD-recording software writes them (FILE "name" TYPE); gdi lists (number, start, kind, sector
size, name); m3u lists, one path in a line, # for remarks; ccd and mds by their common stem.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import PurePosixPath

from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import Brought, Role

LONGEST = 256 << 10                      # bytes of a sheet that is read
BY_STEM = {"ccd": ("img", "sub", "bin"), "mds": ("mdf",)}
BY_TEXT = ("m3u", "cue", "gdi")          # a list names sheets, sheets name tracks
SHEETS = frozenset((*BY_TEXT, *BY_STEM))
_CUE = re.compile(r'^[ \t]*FILE[ \t]+(?:"([^"\n]+)"|(\S+))', re.IGNORECASE | re.MULTILINE)
_GDI = re.compile(r'^[ \t]*\d+(?:[ \t]+\d+){3}[ \t]+(?:"([^"\n]+)"|(\S+))', re.MULTILINE)  # the first line is a count


@dataclass(frozen=True)
class Lacking:
    """A sheet that names files which are not beside it."""

    sheet: Brought
    names: tuple[str, ...]


def sets_of(brought: Sequence[Brought]) -> tuple[list[Brought], list[Lacking]]:
    """The same files, parts of sets with their lead and the system of the whole set; and what sheets lack.

    The system of a set is that of the file of which it is known best.
    """
    sheets = [each for each in brought if each.ending in SHEETS]
    if not sheets:
        return list(brought), []
    by_path = {str(each.path).casefold(): each for each in brought} | {str(each.path): each for each in brought}
    lead_of, twins, lacking = _leads_of(sheets, by_path)
    leads, members = set(lead_of.values()), defaultdict[str, list[Brought]](list)
    for each in brought:
        if str(each.path) in lead_of or str(each.path) in leads:
            members[_top(str(each.path), lead_of)].append(each)
    found = list(brought)
    at = {str(each.path): number for number, each in enumerate(brought)}
    for parts in members.values():
        best = max(parts, key=lambda each: (each.role == Role.GAME, each.sure))
        for each in parts:
            own = str(each.path)
            how = "has the same tracks" if own in twins else "names it"
            named = f"“{PurePosixPath(lead_of[own]).name}” {how}" if own in lead_of else ""
            found[at[own]] = replace(each, role=Role.GAME, system=best.system, sure=best.sure,
                                     lead=lead_of.get(own, ""), is_lead=own in leads,
                                     reason=named or best.reason, saves=())
    return found, lacking


def _leads_of(sheets: Sequence[Brought], by_path: dict[str, Brought]) -> tuple[dict[str, str], set[str],
                                                                              list[Lacking]]:
    """Parts with their sheets, by paths, which no two files share (see Tops); sheets of the tracks of another one.

    The latter go with that one. And what sheets lack.
    """
    lead_of, twins, lacking = dict[str, str](), set[str](), list[Lacking]()
    for sheet in sheets:
        own, missing = str(sheet.path), list[str]()
        for name in _named_by(sheet):
            part = _beside(sheet, name, by_path)
            if part is None:
                missing.append(name)
            elif part.path != sheet.path:
                lead = lead_of.setdefault(str(part.path), own)
                if lead != own and _top(lead, lead_of) != own:
                    lead_of.setdefault(own, lead)
                    twins.add(own)
        if missing and sheet.ending not in BY_STEM:
            lacking.append(Lacking(sheet, tuple(missing)))
    return lead_of, twins, lacking


def _top(path: str, lead_of: dict[str, str]) -> str:
    seen = {path}
    while path in lead_of and lead_of[path] not in seen:
        path = lead_of[path]
        seen.add(path)
    return path


def _named_by(sheet: Brought) -> list[str]:
    """What a sheet names; nothing where it cannot be read or is none."""
    if sheet.ending in BY_STEM:
        return [f"{sheet.path.stem}.{ending}" for ending in BY_STEM[sheet.ending]]
    if sheet.size > LONGEST:
        return []
    try:
        data = b"".join(sheet.origin.read())
    except MossError:
        return []
    if b"\0" in data:
        return []
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    match sheet.ending:
        case "cue":
            return list(_either(_CUE, text))
        case "gdi":
            return list(_either(_GDI, text))
    return [line.strip() for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]


def _either(form: re.Pattern[str], text: str) -> Iterator[str]:
    for quoted, bare in form.findall(text):
        yield quoted or bare


def _beside(sheet: Brought, name: str, by_path: dict[str, Brought]) -> Brought | None:
    """The file that a sheet means: relative, in any case; of a path of another computer the last part."""
    parts = [part for part in name.replace("\\", "/").split("/") if part not in ("", ".")]
    for tail in (parts, parts[-1:]):
        if ".." not in tail and tail:
            place = str(sheet.path.parent.joinpath(*tail))
            found = by_path.get(place) or by_path.get(place.casefold())
            if found is not None:
                return found
    return None
