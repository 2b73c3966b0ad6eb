"""What a card's own menu says of its folders: lists of systems with a path and endings, as menus keep them.

Two forms are read wherever they lie: XML with `system` elements that have `path`, and `name` or `fullname`, and perhaps
`extension`; INI sections with `path` or `folder`, and perhaps `extensions`. What cannot be read is passed over.
"""

from __future__ import annotations

import configparser
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from xml.etree import ElementTree

from mosscrate.core.fill.systems import MAYBE, systems
from mosscrate.core.volumes import Entry, Kind

LARGEST = 1 << 20                        # bytes of a file of settings
MOST = 40                                # files that are looked into
ENDINGS = ("cfg", "xml", "ini", "conf")
_ENDING = re.compile(r"\.?([0-9A-Za-z]{1,8})\b")


@dataclass(frozen=True)
class Setting:
    """What a menu says: the folder's path as far as it is told, the system that is meant, the endings it opens."""

    path: str
    system: str
    endings: tuple[str, ...]
    file: str


def settings_on(entries: Iterable[Entry], read: Callable[[Entry, int, int], bytes]) -> list[Setting]:
    """Everything that menus on a card say of folders; `read` gives (entry, at, count) → bytes."""
    files = [entry for entry in entries if entry.kind == Kind.FILE and 0 < entry.size <= LARGEST
             and entry.name.rpartition(".")[2].casefold() in ENDINGS]
    found = list[Setting]()
    for entry in files[:MOST]:
        data = read(entry, 0, entry.size)
        if b"path" in data.lower() or b"folder" in data.lower():
            found += _in_xml(data, entry.path) if data.lstrip()[:1] == b"<" else _in_ini(data, entry.path)
    return found


def _in_xml(data: bytes, file: str) -> Iterator[Setting]:
    try:
        top = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError, LookupError):
        return
    for element in top.iter("system"):
        path = (element.findtext("path") or "").strip()
        names = [element.findtext(tag) or "" for tag in ("name", "fullname", "platform")]
        yield from _setting(path, names, element.findtext("extension") or "", file)


def _in_ini(data: bytes, file: str) -> Iterator[Setting]:
    told = configparser.ConfigParser(strict=False, interpolation=None, allow_no_value=True)
    try:
        told.read_string(data.decode("utf-8-sig", "replace"))
    except (configparser.Error, ValueError):
        return
    for name in told.sections():
        own = told[name]
        path = own.get("path") or own.get("folder") or ""
        yield from _setting(path, [name, own.get("name") or "", own.get("system") or ""],
                            own.get("extensions") or own.get("extension") or "", file)


def _setting(path: str, names: list[str], endings: str, file: str) -> Iterator[Setting]:
    parts = [part for part in path.replace("\\", "/").split("/") if part not in ("", ".", "..", "~")]
    code = next((found for name in names if (found := _meant(name))), "")
    if parts and code:
        yield Setting("/".join(parts), code, tuple(dict.fromkeys(each.casefold() for each in _ENDING.findall(endings))),
                      file)


def _meant(name: str) -> str:
    """The system that a name means; a short code is meant here, whatever else it may mean elsewhere."""
    known = systems()
    if name.casefold() in known.by_code:
        return name.casefold()
    named = known.named(name)
    best = max(named, key=lambda code: named[code], default="")
    return best if best and named[best] > MAYBE else ""


def about(folder: str, settings: Iterable[Setting]) -> list[Setting]:
    """What is said of a folder: a path ends with it, or it ends with the path, for menus name paths of their device."""
    own = folder.casefold()
    return [each for each in settings if own == (path := each.path.casefold()) or path.endswith(f"/{own}")
            or own.endswith(f"/{path}")]
