"""Taking files and folders out of a volume onto this computer; what is there already stays.

Everything goes below one opened folder, and no link is followed on the way, neither one that was there nor one that
came from the card. What cannot be taken is listed with its reason, and the rest comes.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from mosscrate.core.durable import under_way, unmark
from mosscrate.core.errors import MediumError, MossError, Stopped
from mosscrate.core.findings import Finding
from mosscrate.core.new_file import must_have_no_name, put_new
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import Entry, Kind, Tree, Volume
from mosscrate.core.volumes.places import in_order_of_place
from mosscrate.core.watch import Watch

_NO_MORE = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO)        # the next file would fare no better
_INTO = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
SHOWN = 3


@dataclass(frozen=True)
class Taken:
    """One entry and where it went."""

    entry: Entry
    path: Path


@dataclass(frozen=True)
class LeftOut:
    """One entry that could not be taken, and why."""

    entry: Entry
    reason: str


@dataclass
class Outcome:
    """What came out, what did not, and what is wrong with folders that could not be read in full."""

    taken: list[Taken] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    unread: tuple[Finding, ...] = ()

    @property
    def shortfall(self) -> str:
        """Sentences about what did not come; "" where all did."""
        said = [f.sentence for f in self.unread[:SHOWN]]
        if len(self.unread) > SHOWN:
            said.append(f"So is it with {counted(len(self.unread) - SHOWN, 'more folder')}.")
        if self.left_out:
            named = "; ".join(f"“{_shown(x.entry.path)}”: {x.reason}" for x in self.left_out[:SHOWN])
            more = f"; and {len(self.left_out) - SHOWN} more" if len(self.left_out) > SHOWN else ""
            said.append(f"{counted(len(self.left_out), 'entry', 'entries')} could not be taken: {named}{more}.")
        if said:
            said.append("The rest is there." if self.taken else "Nothing else was to be taken.")
        return " ".join(said)


def below(tree: Tree, path: str) -> list[Entry]:
    """The entry at a path and everything in it; all of the tree for "". Raises MediumError."""
    found = tree.find(path)
    if not path.strip("/"):
        return list(tree.entries)
    if found is None:
        raise MediumError(" ".join((f"There is no “{path}” on this partition.", *(
            f"It may be there all the same: {f.sentence}" for f in tree.unread(path)[:1]))))
    return [e for e in tree.entries if e.path == found.path or e.path.startswith(found.path + "/")]


def take_out(volume: Volume, path: str, to: Path, watch: Watch) -> Outcome:
    """Copy a file or folder with its times.

    Args:
        volume: an opened one.
        path: of the entry; "" or "/" takes everything.
        to: a folder, or for a single file also its new name.
        watch: is told after every piece.

    Raises:
        MediumError: nothing is there, or the place cannot be written at all.
    """
    tree = volume.tree()
    inside = below(tree, path)
    base = inside[0].path if inside and path.strip("/") else ""
    cut = len(base.rpartition("/")[0])
    is_renamed = len(inside) == 1 and inside[0].kind == Kind.FILE and bool(base) and not to.is_dir()
    folder = to.parent if is_renamed else to
    try:
        folder.mkdir(parents=True, exist_ok=True)
        root = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError as error:
        raise MediumError(f"{folder} cannot be written: {os.strerror(error.errno or 0)}.") from error
    outcome, total, done = Outcome(unread=tree.unread(path)), sum(e.size for e in inside), 0
    try:
        for entry in in_order_of_place(volume, inside):
            names = [to.name] if is_renamed else entry.path[cut:].lstrip("/").split("/")
            try:
                done = _one(volume, entry, root, names, _Meter(watch, done, total))
                outcome.taken.append(Taken(entry, folder.joinpath(*names)))
            except (OSError, ValueError, MossError) as error:
                if isinstance(error, Stopped):
                    raise
                if isinstance(error, OSError) and error.errno in _NO_MORE:
                    raise MediumError(f"{folder} cannot be written: {os.strerror(error.errno or 0)}. "
                                      f"{len(outcome.taken)} of {len(inside)} entries are there.") from error
                outcome.left_out.append(LeftOut(entry, _reason(error)))
        for each in reversed(outcome.taken):             # a folder's time would change with what is put into it
            if each.entry.kind == Kind.FOLDER:
                with suppress(OSError):
                    _date(root, each.path.relative_to(folder).parts, each.entry)
    finally:
        os.close(root)
    return outcome


@dataclass
class _Meter:
    """Counts the bytes of all files."""

    watch: Watch
    done: int
    total: int

    def add(self, count: int) -> None:
        self.done += count
        self.watch.progress("Taking out", self.done, self.total)


def _one(volume: Volume, entry: Entry, root: int, names: list[str], meter: _Meter) -> int:
    """Take one entry below an opened folder; returns the bytes so far. Raises OSError, ValueError, MossError."""
    for name in names:
        if name in ("", ".", "..") or "\0" in name:
            raise ValueError("its name cannot stand here")
    with _folder(root, names[:-1]) as at:
        if entry.kind == Kind.FOLDER:
            with _folder(at, names[-1:]):
                return meter.done
        if entry.kind == Kind.SPECIAL:
            raise ValueError("it is a pipe or a device, which has no contents")
        if entry.kind == Kind.LINK:
            os.symlink(entry.target or "", names[-1], dir_fd=at)
            return meter.done
        _file(volume, entry, Path(f"/proc/self/fd/{at}", names[-1]), meter)
    return meter.done


def _file(volume: Volume, entry: Entry, path: Path, meter: _Meter) -> None:
    """Take out one file, made beside its place."""
    must_have_no_name(path)
    with under_way(path) as (fd, part):
        with open(fd, "wb", closefd=False) as file:
            for piece in volume.read_file(entry):
                file.write(piece)
                meter.add(len(piece))
        if entry.modified is not None:
            os.utime(fd, (entry.modified, entry.modified))
        unmark(fd)
        put_new(part, path)


@contextmanager
def _folder(root: int, names: list[str]) -> Iterator[int]:
    """A folder below an opened one, made where it is missing. Raises OSError where a link or a file stands there."""
    at = os.dup(root)
    try:
        for name in names:
            with suppress(FileExistsError):
                os.mkdir(name, dir_fd=at)
            inner = os.open(name, _INTO, dir_fd=at)
            os.close(at)
            at = inner
        yield at
    finally:
        os.close(at)


def _date(root: int, names: tuple[str, ...], entry: Entry) -> None:
    if entry.modified is not None and names:
        with _folder(root, list(names[:-1])) as at:
            os.utime(names[-1], (entry.modified, entry.modified), dir_fd=at, follow_symlinks=False)


def _reason(error: Exception) -> str:
    if isinstance(error, OSError):
        return {errno.EEXIST: "it is there already and was not changed",
                errno.ENAMETOOLONG: "its name is too long here",
                errno.ELOOP: "a link stands where its folder would be",
                errno.ENOTDIR: "something else stands where its folder would be"}.get(
                    error.errno or 0, os.strerror(error.errno or 0))
    if isinstance(error, UnicodeError):
        return "its name cannot be written here"
    return str(error)


def _shown(path: str) -> str:
    return "".join(c if c.isprintable() else "?" for c in path)
