"""Put files and folders of this computer into a folder of a volume."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Annotated, ClassVar

from mosscrate.core.contents.members import is_member, member_at
from mosscrate.core.contents.naming import folders_above
from mosscrate.core.contents.transfer import Passage, ensure_folder, must_fit, plan_passage
from mosscrate.core.errors import FitError, MediumError
from mosscrate.core.fill.litter import is_litter
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import EXISTING, Existing, Step
from mosscrate.core.sheet.steps.shared.filing import (
    KEEPING,
    There,
    fuller,
    inside,
    make_way,
    must_have_folder,
    now,
    present,
    room_in,
    told_of,
    volume_to_fill,
)
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sheet.steps.shared.trying import names_after, tried_out
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Editor, Entry, Facts, Kind, Volume, edit, open_volume
from mosscrate.core.watch import Watch

PIECE = 4 << 20
_VERSION = re.compile(r"(?<![A-Za-z0-9.])(?:[vV]?\d{1,4}(?:\.\d{1,4}){1,3}|20\d\d-\d\d-\d\d)(?![A-Za-z0-9])")


@dataclass(frozen=True)
class Putting:
    """Files and folders of this computer on their way: their place here by the path that they are meant to have."""

    entries: tuple[Entry, ...]
    places: dict[str, str]
    passage: Passage
    facts: Facts


class PutFiles(Step, tag="put", frozen=True):
    """See above. `name` gives a single file another name; names that cannot stand there are changed.

    With `places`, as many as files, each goes to its own, and folders on the way are made; a file may lie in an archive
    then, as ARCHIVE//NAME.
    """

    partition: Annotated[int, PARTITION]
    paths: Annotated[tuple[str, ...], asked("Files and folders of this computer.", Form.FILES, is_first=True)]
    folder: Annotated[str, asked("Folder on the volume; made where it is missing.", Form.PLACE, flag="--to")] = ""
    existing: Annotated[Existing, EXISTING] = Existing.REFUSE
    name: Annotated[str, asked("Another name, for a single file.")] = ""
    contents: Annotated[bool, asked("Of a folder what is in it, not the folder itself.", flag="--contents")] = False
    places: Annotated[tuple[str, ...], asked("Where each of the files goes, in their order.", Form.PLACE,
                                             flag="--place")] = ()

    command: ClassVar[str] = "put"
    is_about_files: ClassVar[bool] = True
    carries_files: ClassVar[bool] = True
    is_decided_once: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step. Raises MediumError too, where something is not there."""
        if self.name and (len(self.paths) != 1 or Path(self.paths[0]).is_dir()):
            raise FitError("Another name can be given to a single file only.")
        look, facts = volume_to_fill(card, self.partition)
        there = inside(card.files(self.partition), self.folder)
        putting = self._plan(facts, present(there, self.existing))
        must_fit(putting.passage)
        must_have_folder(card.files(self.partition), self.folder, facts)
        room = room_in(look, facts, putting.entries, putting.passage, there, self.existing, self.folder)
        view = card.trial(self.partition) if card.is_planned or room.is_tight else None
        if view is not None:
            look = tried_out(look.partition, view, look.name,
                             lambda editor: self._fill(editor, putting, lambda _path: iter(()), Watch(), self._there(
                                 card.files(self.partition), facts, is_trial=True)))
        else:
            look = fuller(look, room.need, sum(e.kind == Kind.FILE for e in putting.entries))
        before = {} if view is not None else names_after(card, self.partition, look.name, lambda editor: self._fill(
            editor, putting, lambda _path: iter(()), Watch(), self._there(card.files(self.partition), facts,
                                                                          is_trial=True)))
        first = (self.places or self.paths or ("nothing",))[0].rpartition("/")[2]
        what = f"“{first}”" if len(self.paths) == 1 else counted(len(self.paths), "file" if self.places else "item")
        note = told_of(there, putting.passage, putting.entries, facts, self.existing)
        return Decision(f"Put {what} into {f'“{self.folder}” on ' if self.folder else ''}{look.name}", 0, note=note,
                        writes=sum(e.size for e in putting.entries), looks=(look,), passage=putting.passage,
                        bytes={} if view is None else {self.partition: view}, before=before,
                        journal=tables(look, look.partition.length), chosen=putting)

    def _plan(self, facts: Facts, there: tuple[str, ...]) -> Putting:
        """What is put, and under which names. Raises MediumError where something is not there."""
        if self.places:
            return self._to_places(facts, there)
        sources = [Path(p) for p in self.paths]
        missing = next((p for p in sources if not p.exists()), None)
        if missing:
            raise MediumError(f"There is no file {missing} to put onto the card. Nothing was changed.")
        found = [(path, rel.partition("/")[2] if self.contents and source.is_dir() else rel)
                 for source in sources for path, rel in below(source)]
        places = {self.name or rel: str(path) for path, rel in found if rel}
        entries = tuple(_entry_of(path, to) for to, path in places.items())
        return Putting(entries, places, plan_passage(entries, facts, there), facts)

    def _to_places(self, facts: Facts, there: tuple[str, ...]) -> Putting:
        is_paired = len(self.places) == len(set(self.places)) == len(self.paths)
        if not is_paired or any(Path(path).is_dir() for path in self.paths):
            raise FitError("Each file needs a place of its own, and folders have none.")
        missing = next((p for p in self.paths if not is_member(p) and not Path(p).exists()), None)
        if missing:
            raise MediumError(f"There is no file {missing} to put onto the card. Nothing was changed.")
        places = dict(zip(self.places, self.paths, strict=True))
        entries = (*(Entry(path, Kind.FOLDER, 0, now().modified, 0) for path in sorted(folders_above(places))),
                   *(_entry_of(path, to) for to, path in places.items()))
        return Putting(entries, places, plan_passage(entries, facts, there), facts)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        putting: Putting = decided.chosen
        editor = edit(card.window(self.partition))
        volume = open_volume(card.window(self.partition)) if self.existing in KEEPING else None
        done = self._fill(editor, putting, _pieces, watch, self._there(volume, putting.facts, is_trial=False))
        editor.commit()
        passage, count = putting.passage, sum(e.kind == Kind.FILE for e in putting.entries)
        names = len(passage.changed_names)
        said = f" {counted(names, 'name')} had to change: {passage.findings[0].sentence}" if names else ""
        version = _version_of((self.places or self.paths)[0]) if len(self.paths) == 1 else ""
        told = f" Its name says {version}: compare that with what the device shows." if version else ""
        return Done(f"{counted(count, 'file')} put onto {card.look(self.partition).name}, {binary(done)}.{said}{told}",
                    done)

    def _there(self, volume: Volume | None, facts: Facts, *, is_trial: bool) -> There:
        return There(volume, self.folder, self.existing, facts, is_trial=is_trial)

    def _fill(self, editor: Editor, putting: Putting, read: Callable[[str], Iterator[bytes]], watch: Watch,
              there: There) -> int:
        """Put everything; returns bytes of files. Raises FitError, MediumError."""
        ensure_folder(editor, self.folder, now())
        total, done = sum(e.size for e in putting.entries), 0
        for entry in putting.entries:
            to = f"{self.folder}/{putting.passage.path(entry)}".strip("/")
            if entry.kind == Kind.FOLDER:
                editor.add_folder(to, entry.traits)
                continue
            if there.holds(putting.passage.path(entry), entry.size, partial(read, putting.places[entry.path])):
                continue
            make_way(editor, to, self.existing, putting.facts)
            editor.add_file(to, read(putting.places[entry.path]), entry.traits, size=entry.size)
            done += entry.size
            watch.progress("Putting files", done, total)
        return done


def below(source: Path) -> Iterator[tuple[Path, str]]:
    """(path, path on the volume) of a file, or of a folder and all in it, folders first; droppings stay off.

    Raises MediumError where one of its folders may not be read.
    """
    yield source, source.name
    if source.is_file():
        return
    for folder, folders, files in os.walk(source, onerror=_refuse):
        folders[:] = sorted(f for f in folders if not is_litter((f,)))
        base = Path(folder)
        within = Path(source.name) / base.relative_to(source)
        for name in folders:
            yield base / name, str(within / name)
        for name in sorted(files):
            if not is_litter((name,)) and (base / name).is_file():
                yield base / name, str(within / name)


def _refuse(error: OSError) -> None:
    raise MediumError(f"The folder {error.filename} cannot be read: {error.strerror}. Nothing was changed.") from error


def _entry_of(path: str, to: str) -> Entry:
    if is_member(path):
        member = member_at(path)
        return Entry(to, Kind.FILE, member.size, member.modified, 0)
    about, is_folder = Path(path).stat(), Path(path).is_dir()
    return Entry(to, Kind.FOLDER if is_folder else Kind.FILE, 0 if is_folder else about.st_size, int(about.st_mtime), 0)


def _version_of(path: str) -> str:
    """The version that the name of a single file tells, as an update's does; "" for none."""
    found = _VERSION.search(path.rpartition("/")[2])
    return found[0] if found else ""


def _pieces(path: str) -> Iterator[bytes]:
    if is_member(path):
        yield from member_at(path).read()
        return
    with Path(path).open("rb") as file:
        while piece := file.read(PIECE):
            yield piece
