"""What the steps have in common that put files into a folder of a volume."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import datetime

from mosscrate.core.contents.comparing import are_equal
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.naming import proposed_name
from mosscrate.core.contents.needs import room_for
from mosscrate.core.contents.transfer import Passage
from mosscrate.core.errors import FitError, JobError
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sizes import binary, some_of
from mosscrate.core.volumes import Editor, Entry, Facts, Kind, Traits, Volume


def now() -> Traits:
    """What a fresh folder is given."""
    return Traits(int(time.time()))


def volume_to_fill(card: Sight, index: int) -> tuple[PartitionLook, Facts]:
    """A partition that takes files, and what is true of its kind. Raises FitError, Unsound."""
    look = card.sound(index)
    volume = look.volume
    if volume is None or volume.used is None or volume.facts is None:
        raise FitError(f"Files cannot be put onto {look.name}: {look.role_reason}.")
    if not volume.facts.is_written:
        raise FitError(f"Files cannot be put onto {look.name}: {volume.facts.why_not('x')}.")
    return look, volume.facts


def inside(volume: Volume | None, folder: str) -> tuple[Entry, ...]:
    """What stands below a folder of a volume, with paths that begin there; nothing where that is not known."""
    if volume is None:
        return ()
    prefix = f"{folder}/" if folder else ""
    return tuple(replace(e, path=e.path[len(prefix):]) for e in volume.tree().entries
                 if e.path.lower().startswith(prefix.lower()))


def present(there: Iterable[Entry], existing: Existing) -> tuple[str, ...]:
    """Paths that a changed name must not meet; none where the same names are to be replaced."""
    return () if existing == Existing.REPLACE else tuple(e.path for e in there)


@dataclass(frozen=True)
class Room:
    """What files take on their way into a volume, in bytes at most, and whether that may be more than is free."""

    need: int
    is_tight: bool


def room_in(look: PartitionLook, facts: Facts, entries: Iterable[Entry], passage: Passage, there: Iterable[Entry],
            existing: Existing, folder: str) -> Room:
    """The room for files in a folder of a volume, which is made where it is missing.

    Raises FitError where one of them is there already and must stay, or where their bytes alone are too many.
    """
    volume = look.volume
    assert volume is not None, "it takes files"
    fold = facts.folded
    old = {fold(e.path): e for e in there}
    wanted = [replace(e, path=passage.path(e)) for e in entries if e.path not in passage.left_out]
    met = [(e, old[fold(e.path)]) for e in wanted if fold(e.path) in old]
    for e, was in met:
        if (e.kind == Kind.FOLDER) != (was.kind == Kind.FOLDER):
            kind = "folder" if was.kind == Kind.FOLDER else "file"
            raise FitError(f"“{e.path}” is there already, as a {kind}. Take another name; nothing was changed.")
        if e.kind != Kind.FOLDER and existing == Existing.REFUSE:
            raise FitError(f"“{e.path}” is there already. Replace it, or keep both; nothing was changed.")
    if existing == Existing.KEEP_DIFFERENT:              # those seem to be the same
        seeming = {e.path for e, was in met if e.size == was.size}
        wanted = [e for e in wanted if e.path not in seeming]
    need = room_for(wanted, facts, volume.block)
    gone = (was.size for _, was in met) if existing == Existing.REPLACE else ()
    free = (volume.free or 0) + sum(-(-size // volume.block) * volume.block for size in gone)
    least = sum(-(-e.size // volume.block) * volume.block for e in wanted if e.kind == Kind.FILE)
    if least > free:
        raise FitError(f"They need {binary(least)} there, and {look.name} has {binary(volume.free or 0)} free.")
    made = 2 * len(folder.split("/")) * volume.block if folder else 0      # each, and its entry in the one above
    return Room(need, need + made > (volume.free or 0))


def told_of(there: Iterable[Entry], passage: Passage, entries: Iterable[Entry], facts: Facts,
            existing: Existing) -> str:
    """What a plan says of files that come and are there already; "" for none."""
    old = {facts.folded(e.path): e.path for e in there if e.kind == Kind.FILE}
    met = [old[place] for e in entries if e.kind == Kind.FILE and (place := facts.folded(passage.path(e))) in old]
    if not met or existing == Existing.KEEP_DIFFERENT:
        return ""
    then = "replaced" if existing == Existing.REPLACE else "left alone where it holds the same, else kept under a " \
                                                           "dated name"
    return f"{some_of(met, NAMED)} {'is' if len(met) == 1 else 'are'} there already; what is there is {then}"


def must_have_folder(volume: Volume | None, folder: str, facts: Facts) -> None:
    """Raises FitError where a folder that is to take files can neither be there nor be made."""
    parts, fold = folder.split("/") if folder else [], facts.folded
    there = {fold(e.path): e for e in volume.tree().entries} if volume is not None and parts else {}
    for depth, name in enumerate(parts, start=1):
        found = there.get(fold("/".join(parts[:depth])))
        if found is not None and found.kind != Kind.FOLDER:
            raise FitError(f"“{found.path}” is there already, and it is no folder.")
        if found is None and facts.why_not(name):
            raise FitError(f"“{name}” cannot stand on {facts.name}: {facts.why_not(name)}.")


def fuller(look: PartitionLook, need: int, files: int) -> PartitionLook:
    """A partition once files are on it."""
    volume = look.volume
    assert volume is not None, "it takes files"
    used = min(volume.size, (volume.used or 0) + need)
    smallest = min(volume.size, volume.smallest + need + need // 16) if volume.smallest else 0
    return replace(look, volume=replace(volume, used=used, files=volume.files + files, smallest=smallest))


def make_way(editor: Editor, path: str, existing: Existing, facts: Facts) -> None:
    """Deal with what is there already under a name. Raises FitError where it must stay."""
    if not editor.has(path):
        return
    match existing:
        case Existing.REFUSE:
            raise FitError(f"“{path}” is there already. Replace it, or keep both; nothing was changed.")
        case Existing.REPLACE:
            editor.remove(path)
        case Existing.KEEP_BOTH | Existing.KEEP_DIFFERENT:
            editor.rename(path, dated(path, editor, facts))


NAMED = 3                                # of files that are there, in a plan
KEEPING = (Existing.KEEP_BOTH, Existing.KEEP_DIFFERENT)


class There:
    """Files that are on a volume already, for those that come beside them: the same contents stay as they are.

    A trial, which counts room, takes those for the same that seem so where they are meant to (`KEEP_DIFFERENT`).
    """

    def __init__(self, volume: Volume | None, folder: str, existing: Existing, facts: Facts, *, is_trial: bool) -> None:
        self._volume, self._facts, self._is_trial = volume, facts, is_trial
        keeps = existing == Existing.KEEP_DIFFERENT if is_trial else existing in KEEPING
        entries = inside(volume, folder) if keeps else ()
        self._entries = {facts.folded(e.path): e for e in entries if e.kind == Kind.FILE}

    def holds(self, path: str, size: int, pieces: Callable[[], Iterable[bytes]]) -> bool:
        """Whether a file with these bytes is at a path, as it is seen from the folder. Raises MediumError."""
        entry = self._entries.get(self._facts.folded(path))
        if entry is None or entry.size != size or self._volume is None:
            return False
        return self._is_trial or are_equal(pieces(), self._volume.read_file(entry))


def dated(path: str, editor: Editor, facts: Facts) -> str:
    """The name under which an old file stays: with today's date before its ending, as far as names go there."""
    folder, _, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    stem, ending = (stem, f".{ending}") if dot and stem else (name, "")
    today, tried = datetime.now(), set[str]()
    for number in range(1, 1000):
        again = f"{number}" if number > 1 else ""
        name = f"{stem} {today:%Y-%m-%d}{f' {again}' if again else ''}{ending}"
        short = f"{stem[:4 - len(again)]}{today:%m%d}{again}{ending}".upper()       # eight letters and three
        name = next((each for each in (name, short) if not facts.why_not(each)), "") or proposed_name(
            name, tried, facts.why_not)
        candidate = f"{folder}/{name}".lstrip("/")
        if not editor.has(candidate):
            return candidate
        tried.add(name.lower())
    raise JobError(f"No name is left for the old “{path}”.")


