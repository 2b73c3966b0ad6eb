"""Taking files and folders out of a volume onto this computer; what is there already stays."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.errors import MediumError
from mosscrate.core.volumes import Entry, Kind, Tree, Volume
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Taken:
    """One entry and where it went."""

    entry: Entry
    path: Path


def below(tree: Tree, path: str) -> list[Entry]:
    """The entry at a path and everything in it; all of the tree for "". Raises MediumError."""
    found = tree.find(path)
    if not path.strip("/"):
        return list(tree.entries)
    if found is None:
        raise MediumError(f"There is no “{path}” on this partition.")
    return [e for e in tree.entries if e.path == found.path or e.path.startswith(found.path + "/")]


def take_out(volume: Volume, path: str, to: Path, watch: Watch) -> list[Taken]:
    """Copy a file or folder with its times.

    Args:
        volume: an opened one.
        path: of the entry; "" or "/" takes everything.
        to: a folder, or for a single file also its new name.
        watch: is told after every piece.

    Raises:
        MediumError: nothing is there, or a file of that name is at the destination already.
    """
    inside = below(volume.tree(), path)
    base = inside[0].path if inside and path.strip("/") else ""
    cut = len(base.rpartition("/")[0])
    is_renamed = len(inside) == 1 and inside[0].kind == Kind.FILE and bool(base) and not to.is_dir()
    taken = [Taken(e, to if is_renamed else to / e.path[cut:].lstrip("/")) for e in inside]
    total, done = sum(e.size for e in inside), 0
    for each in taken:
        if ".." in Path(each.entry.path).parts:
            raise MediumError(f"“{each.entry.path}” would leave the folder that it is taken to. It was left out.")
        try:
            done = _one(volume, each, done, total, watch)
        except FileExistsError as error:
            raise MediumError(f"{each.path} is there already. Take another place; it was not changed.") from error
        except OSError as error:
            raise MediumError(f"{each.path} cannot be written: {error.strerror}.") from error
    for each in reversed(taken):                         # a folder's time would change with what is put into it
        if each.entry.kind == Kind.FOLDER and each.entry.modified is not None:
            os.utime(each.path, (each.entry.modified, each.entry.modified))
    return taken


def _one(volume: Volume, taken: Taken, done: int, total: int, watch: Watch) -> int:
    if taken.entry.kind == Kind.FOLDER:
        taken.path.mkdir(parents=True, exist_ok=True)
        return done
    taken.path.parent.mkdir(parents=True, exist_ok=True)
    if taken.entry.kind == Kind.LINK:
        taken.path.symlink_to(taken.entry.target or "")
        return done
    with taken.path.open("xb") as file:
        for piece in volume.read_file(taken.entry):
            file.write(piece)
            done += len(piece)
            watch.progress("Taking out", done, total)
    if taken.entry.modified is not None:
        os.utime(taken.path, (taken.entry.modified, taken.entry.modified))
    return done
