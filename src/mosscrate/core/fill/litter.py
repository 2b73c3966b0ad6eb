"""What desktops and programs leave behind, by its names; nothing that a plan keeps for itself."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from fnmatch import fnmatch

from mosscrate.core.volumes import Entry, Kind

NAMES = frozenset((".ds_store", "thumbs.db", "desktop.ini", ".directory", "ehthumbs.db", "folder.jpg.tmp", ".apdisk"))
FOLDERS = frozenset(("__macosx", ".spotlight-v100", ".trashes", ".fseventsd", "$recycle.bin",
                     "system volume information", ".temporaryitems"))


def is_litter(parts: Sequence[str]) -> bool:
    """Whether a file with this path, in parts, is litter by the common list."""
    names = [part.casefold() for part in parts]
    return names[-1] in NAMES or names[-1].startswith("._") or not FOLDERS.isdisjoint(names)


def litter_on(entries: Iterable[Entry], patterns: Sequence[str], reserved: Sequence[str]) -> list[Entry]:
    """Files and whole folders of litter on a card, `patterns` beside the common list; no file in a folder twice."""
    found, inside = list[Entry](), tuple[str, ...]()
    for entry in sorted(entries, key=lambda each: each.path):
        parts = entry.path.split("/")
        if entry.path.startswith(inside) if inside else False:
            continue
        if any(fnmatch(entry.path.casefold(), pattern.casefold()) for pattern in reserved):
            continue
        is_own = entry.kind == Kind.FOLDER and parts[-1].casefold() in FOLDERS
        is_file = entry.kind == Kind.FILE and (is_litter(parts) or any(
            fnmatch(parts[-1].casefold(), pattern.casefold()) for pattern in patterns))
        if is_own or is_file:
            found.append(entry)
            inside = (*inside, f"{entry.path}/") if is_own else inside
    return found
