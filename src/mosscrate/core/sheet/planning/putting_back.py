"""Saves, settings and system files of a card or a backup, put back onto the firmware that a sheet writes: part of it.

Games are looked at too, for they tell whose a save is and what it is called, but they stay where they are.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path

from mosscrate.core.contents import survey
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.contents.roles import SYSTEM_TREE, is_system
from mosscrate.core.contents.roles import Role as PartitionRole
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, Gone, MossError
from mosscrate.core.fill.bringing import Brought, Role, bring_from_volume
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.origins import LocalFile
from mosscrate.core.fill.placed import Act, Placed, Sorted
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.fill.ways import FOLDERS, MAKE_ALL
from mosscrate.core.sheet.planning.choosing import choose_for_fresh, plans_at
from mosscrate.core.sheet.planning.editing import with_steps
from mosscrate.core.sheet.planning.fetching import fetch, sweep
from mosscrate.core.sheet.planning.filling import steps_of
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.sights import Planned
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import AnyStep, PutFiles
from mosscrate.core.sizes import GIB, binary, counted, listed, some_of
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind, Volume
from mosscrate.core.watch import Watch

MOST = 2 * GIB                           # of files that are laid into the state folder
SHOWN = 3                                # names of what has no place
LARGEST_SETTING = 1 << 20
BROUGHT_ALONG = SYSTEM_TREE | {"theme", "themes", "skin", "skins", "assets", "res", "resources", "share", "lang", "opt"}
WORDS = {Role.SAVE: "save", Role.STATE: "save state", Role.CLOCK: "clock", Role.SYSTEM: "system file"}
SETTING, NO_PLACE = "setting", "the new firmware has no such file or folder"


@dataclass(frozen=True)
class PutBack:
    """What is put back, and what is not: paths on the old card, with the reason; `unread` could not be read there."""

    steps: tuple[AnyStep, ...]
    files: Counter[str]
    left: tuple[tuple[str, str], ...]
    unread: tuple[tuple[str, str], ...]
    old: str

    @property
    def sentence(self) -> str:
        """For people."""
        come = listed([counted(number, word) for word, number in self.files.items()])
        told = f"Of {self.old} come back: {come}." if come else f"Nothing of {self.old} is to be put back."
        if self.left:
            names = some_of([path for path, _why in self.left], SHOWN)
            told += f" {counted(len(self.left), 'file')} {'has' if len(self.left) == 1 else 'have'} no place there: " \
                    f"{names}."
        if self.unread:
            names = some_of([path for path, _why in self.unread], SHOWN)
            told += f" {counted(len(self.unread), 'file')} could not be read: {names}."
        return told

    def into(self, sheet: JobSheet) -> JobSheet:
        """The sheet with these steps behind all that writes and grows."""
        return with_steps(sheet, self.steps).sheet


@dataclass(frozen=True)
class Ends:
    """Both ends of the sheet that writes the firmware, as they are."""

    source: Medium
    source_layout: Layout
    target: Medium
    target_layout: Layout


def putting_back(old: Medium, sheet: JobSheet, ends: Ends, state: Path, watch: Watch, *, plans: Path | None = None,
                 plan: FolderPlan | None = None) -> PutBack:
    """Find what a sheet would do away with, or an earlier card had, a place on what the sheet writes.

    Args:
        old: the card that is written over, another one, or a backup.
        sheet: writes and grows.
        ends: of it.
        state: the state folder; the files lie there from now on.
        watch: may stop it.
        plans: folder with a person's own plans.
        plan: by which the new firmware's folders are laid out; what it teaches where this is left out.

    Raises MediumError, FormatError, FitError, PlanError, Stopped.
    """
    sweep(state)
    with ends.source.open_to_look() as a, ends.target.open() as b:
        seen = forecast(sheet, ends.source_layout, ends.target_layout, source_blocks=a, target_blocks=b)
        card = seen.card
        if card is None or seen.problems:
            raise FitError(seen.problems[0].sentence if seen.problems else "Nothing is written by this sheet.")
        with old.open() as blocks:
            listed_ = [(look, open_partition(blocks, look.index)) for look in survey(blocks).partitions
                       if look.volume is not None and look.volume.used is not None]
            volumes = [each for each in listed_ if not is_system({e.path for e in each[1].tree().entries})] or listed_
            if not volumes:
                raise FitError(f"{old.name} has no volume whose files can be listed.")
            return _found(old, volumes, _Fresh(card, plans, plan), state, watch)


@dataclass(frozen=True)
class _Fresh:
    """The card as it will be, and how its folders are laid out."""

    card: Planned
    plans: Path | None
    plan: FolderPlan | None

    def home(self) -> PartitionLook:
        """The partition that takes files, rather none with firmware. Raises FitError."""
        able = [look for look in self.card.layout.partitions if look.volume is not None and look.volume.free is not None
                and look.volume.facts is not None and look.volume.facts.is_written]
        if not able:
            raise FitError("What this sheet writes has no volume that takes files.")
        return max(able, key=lambda look: (look.role != PartitionRole.FIRMWARE,
                                           (look.volume.free or 0) if look.volume else 0))

    def files(self, index: int) -> list[Entry]:
        """On one of its partitions, as far as they are known."""
        volume = self.card.files(index)
        return [] if volume is None else list(volume.tree().entries)

    def holds(self, index: int, entry: Entry, pieces: Iterable[bytes]) -> bool:
        """Whether a file of the new firmware has these contents; one that cannot be read has not."""
        volume = self.card.files(index)
        with suppress(MossError):
            return volume is not None and b"".join(volume.read_file(entry)) == b"".join(pieces)
        return False


Volumes = list[tuple[PartitionLook, Volume]]
Place = tuple[int | None, str]           # partition and path on the old card


def _found(old: Medium, volumes: Volumes, fresh: _Fresh, state: Path, watch: Watch) -> PutBack:
    home = fresh.home()
    found = _sorted(old, volumes, fresh, home, state, watch)
    wanted = [each for each in found.placed if each.file.role in WORDS]
    coming = [each for each in wanted if each.act not in (Act.LEAVE, Act.SKIP)]
    left = {_place_of(each.file): each for each in wanted if each.act == Act.LEAVE}
    taken = {_place_of(each.file) for each in coming}
    found_same = [each for each in _at_the_same_place(volumes, fresh, left)
                  if (each.came, each.entry.path) not in taken]
    same = [each for each in found_same if not each.is_there]
    need = sum(each.size for each in coming) + sum(each.entry.size for each in same)
    if need > MOST:
        raise FitError(f"Saves, settings and system files of {old.name} are {binary(need)}. Fill the card with them "
                       "afterwards.")
    fetching = _Fetching(state, watch)
    fetched = [replace(each, file=replace(each.file, origin=LocalFile(path), packed=None), is_unpacked=False)
               for each in coming if (path := fetching.fetched(each.file.name, each.origin.read, each.file.modified))]
    placed = [(each, path) for each in same if (path := fetching.fetched(
        each.entry.path, partial(each.volume.read_file, each.entry), each.entry.modified or 0))]
    steps = [*steps_of(replace(found, placed=tuple(fetched), along={}), home.index)]
    for index in dict.fromkeys(each.to for each, _path in placed):
        here = {each.place: str(path) for each, path in placed if each.to == index}
        steps.append(PutFiles(index, tuple(here.values()), existing=Existing.KEEP_DIFFERENT, places=tuple(here)))
    counts = Counter[str](WORDS[each.file.role] for each in fetched) + Counter(each.word for each, _path in placed)
    homeless = {place: each.why for place, each in left.items()} | {
        (look.index, entry.path): NO_PLACE for look, volume in volumes for entry in _settings(volume)
        if (look.index, entry.path) not in taken}
    for each in found_same:
        homeless.pop((each.came, each.entry.path), None)
    told = tuple((path, why) for (_partition, path), why in homeless.items())
    return PutBack(tuple(steps), counts, told, tuple(fetching.unread), old.name)


def _place_of(file: Brought) -> Place:
    return file.origin.home, "/".join(file.path.parts[1:])   # in front stands the name of the card


def _own_folders(volume: Volume, plans: Mapping[str, FolderPlan]) -> dict[str, str]:
    """Folder → system by the plan that names most folders of a volume, at least two: a backup in part has no games."""
    there = {entry.path.casefold() for entry in volume.tree().entries if entry.kind == Kind.FOLDER}
    named = ({folder: code for code in plan.systems if (folder := plan.folder_of(code).casefold()) in there}
             for plan in plans.values())
    found = max(named, key=len, default={})
    return found if len(found) > 1 else {}


def _as_named(file: Brought, own: Mapping[str, str]) -> Brought:
    if file.system or file.role not in WORDS:
        return file
    parts = [part.casefold() for part in file.path.parts[1:-1]]
    system = next((own[folder] for k in range(len(parts), 0, -1) if (folder := "/".join(parts[:k])) in own), "")
    return replace(file, system=system) if system else file


@dataclass
class _Fetching:
    """Lays files into the state folder, and notes those that cannot be read."""

    state: Path
    watch: Watch
    unread: list[tuple[str, str]] = field(default_factory=list)

    def fetched(self, name: str, read: Callable[[], Iterable[bytes]], modified: int) -> Path | None:
        self.watch.check()
        try:
            return fetch(read(), modified, self.state)
        except Gone:                                         # with it goes everything else
            raise
        except MossError as error:
            self.unread.append((name, str(error)))
        except OSError as error:
            raise FitError(f"“{name}” cannot be laid into {self.state}: {error.strerror}. Nothing was "
                           "written.") from error
        return None


def _sorted(old: Medium, volumes: Volumes, fresh: _Fresh, home: PartitionLook, state: Path, watch: Watch) -> Sorted:
    """Everything of the old card by the plan of the new one, as if there were room for the games too."""
    assert home.volume is not None, "it takes files"
    assert home.volume.facts is not None, "it takes files"
    there, volume = fresh.files(home.index), fresh.card.files(home.index)

    def read_at(entry: Entry, at: int, count: int) -> bytes:
        return volume.read_at(entry, at, count) if volume is not None else b""

    plans = plans_at(fresh.plans)
    plan = fresh.plan or choose_for_fresh(there, read_at, plans, state, old)
    brought = list[Brought]()
    for look, each in volumes:
        own = _own_folders(each, plans)
        brought += [_as_named(file, own) for file in bring_from_volume(
            f"partition {look.index} of {old.name}" if brought else old.name, each, look.index, watch)]
    on_card = OnTheCard(read_at, lambda entry: volume.read_file(entry) if volume is not None else iter(()))
    roomy = Home(there, home.volume.facts, home.volume.block, 1 << 62)
    return sort(brought, plan, roomy, on_card, answers={FOLDERS: MAKE_ALL})


@dataclass(frozen=True)
class _Same:
    """A file that keeps its place: its old partition, its word, and the partition and path on the new card.

    `is_there` where the new firmware has the same contents there.
    """

    came: int
    volume: Volume
    entry: Entry
    word: str
    to: int
    place: str
    is_there: bool = False


def _at_the_same_place(volumes: Volumes, fresh: _Fresh, left: Mapping[Place, Placed]) -> Iterator[_Same]:
    """Settings, and what has no place by the plan, where the new firmware has the file or at least its folder, too."""
    for look, volume in volumes:
        twin = _twin(look, fresh.card.layout)
        if twin is None or twin.volume is None or twin.volume.facts is None or not twin.volume.facts.is_written:
            continue
        fold = twin.volume.facts.folded
        there = {fold(entry.path): entry for entry in fresh.files(twin.index)}
        lost = [(entry, WORDS[left[look.index, entry.path].file.role]) for entry in volume.tree().entries
                if (look.index, entry.path) in left]
        for entry, word in (*((each, SETTING) for each in _settings(volume)), *lost):
            folder = entry.path.rpartition("/")[0]
            above = there.get(fold(folder)) if folder else None
            now = there.get(fold(entry.path))
            if now is not None and now.kind == Kind.FILE:
                yield _Same(look.index, volume, entry, word, twin.index, now.path,
                            now.size == entry.size and fresh.holds(twin.index, now, volume.read_file(entry)))
            elif now is None and above is not None and above.kind == Kind.FOLDER:
                yield _Same(look.index, volume, entry, word, twin.index, f"{above.path}/{entry.name}")


def _settings(volume: Volume) -> list[Entry]:
    """Those that may be a person's: none of a machine's system, nor of what a release brings along."""
    return [entry for entry in volume.tree().entries if entry.kind == Kind.FILE and kind_of(entry) == FileKind.SETTING
            and entry.size <= LARGEST_SETTING and not BROUGHT_ALONG & set(entry.path.casefold().split("/")[:-1])]


def _twin(look: PartitionLook, layout: Layout) -> PartitionLook | None:
    """The partition of the new layout that stands for one of the old: by its label, else by number and kind."""
    label = look.volume.label if look.volume else ""
    named = [each for each in layout.partitions if each.volume is not None and label and each.volume.label == label]
    if len(named) == 1:
        return named[0]
    with suppress(KeyError):
        same = layout.partition(look.index)
        if same.volume is not None and look.volume is not None and same.volume.kind == look.volume.kind:
            return same
    return None
