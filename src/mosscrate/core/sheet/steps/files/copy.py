"""Copy files of a partition of the source, or of the same card, into a volume of the target."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from typing import Annotated, ClassVar

from mosscrate.core.blocks import Overlay
from mosscrate.core.contents.naming import folders_above
from mosscrate.core.contents.transfer import (
    Passage,
    copy_tree,
    ensure_folder,
    hollow,
    must_fit,
    plan_passage,
    subtree,
)
from mosscrate.core.errors import FitError, MediumError
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
from mosscrate.core.sheet.steps.shared.holding import tell_contradictions
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sheet.steps.shared.trying import names_after, tried_out
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Editor, Entry, Facts, Kind, Tree, Volume, edit, open_volume
from mosscrate.core.watch import Watch


class CopyFiles(Step, tag="copy files", frozen=True):
    """See above.

    Without a source in the sheet they come from the target itself: another partition, or other folders and names on
    the same. `path` is the file or folder that is copied, "" for everything. With `places`, as many as files in `only`,
    each goes to its own.
    """

    source: Annotated[int, asked("Number of the partition of the source.", Form.PARTITION, flag="--from")]
    partition: Annotated[int, PARTITION]
    folder: Annotated[str, asked("Folder on the volume that takes them.", Form.PLACE)] = ""
    path: Annotated[str, asked("Only this file or folder; everything when left out.", Form.PLACE)] = ""
    existing: Annotated[Existing, EXISTING] = Existing.REFUSE
    contents: Annotated[bool, asked("Of a folder what is in it, not the folder itself.", flag="--contents")] = False
    only: Annotated[tuple[str, ...], asked("Only these files of it, by their paths there.", Form.PLACE)] = ()
    places: Annotated[tuple[str, ...], asked("Where each of them goes, in their order.", Form.PLACE,
                                             flag="--place")] = ()

    command: ClassVar[str] = "copy"
    begins_anew: ClassVar[bool] = True
    carries_files: ClassVar[bool] = True
    reads_parts: ClassVar[bool] = True
    is_by_file: ClassVar[bool] = True
    is_decided_once: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        is_here = source is None
        source = source or card
        came = source.look(self.source)
        look, facts = volume_to_fill(card, self.partition)
        if is_here and self.source == self.partition:
            self._must_part(facts)
        if came.volume is None or came.volume.used is None:
            raise FitError(f"Files of {came.name} cannot be copied: {came.role_reason}.")
        must_have_folder(card.files(self.partition), self.folder, facts)
        volume, view, passage, total = source.files(self.source), None, None, came.volume.used
        before: dict[int, Overlay] = {}
        note = ""
        if volume is not None:
            tree = volume.tree()
            entries, there = self._entries(tree), inside(card.files(self.partition), self.folder)
            total = sum(e.size for e in entries)
            unread = () if self.only else tree.unread(self.path)      # whoever names files does not want others
            passage = plan_passage(entries, facts, present(there, self.existing), unread)
            note = told_of(there, passage, entries, facts, self.existing)
            must_fit(passage)
            tell_contradictions(passage, came)
            room = room_in(look, facts, entries, passage, there, self.existing, self.folder)
            view = card.trial(self.partition) if card.is_planned or room.is_tight else None

            def trial(editor: Editor) -> object:
                return self._fill(editor, entries, passage, hollow, facts, Watch(), self._there(
                    card.files(self.partition), facts, is_trial=True))

            if view is None:
                before = names_after(card, self.partition, look.name, trial)
                look = fuller(look, room.need, sum(e.kind == Kind.FILE for e in entries))
            else:
                look = tried_out(look.partition, view, look.name, trial)
        elif look.volume and look.volume.free is not None and not self.path:
            if came.volume.used > look.volume.free:
                raise FitError(f"The files of {came.name} ({binary(came.volume.used)}) do not fit into {look.name}: "
                               f"{binary(look.volume.free)} are free.")
            look = fuller(look, came.volume.used, came.volume.files)
        which = f"what is in “{self.path}” of" if self.contents else f"“{self.path}” of"
        what = f"{which if self.path else 'the files of'} {came.name}"
        where = f"“{self.folder}” on {look.name}" if self.folder else look.name
        bytes_ = {} if view is None else {self.partition: view}
        return Decision(f"Copy {what} into {where}", total, total, looks=(look,), note=note, passage=passage,
                        bytes=bytes_, before=before, journal=tables(look, look.partition.length), chosen=facts)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.passage is not None, "the files are at hand"
        volume = open_volume((source or card).window(self.source))
        entries, editor = self._entries(volume.tree()), edit(card.window(self.partition))
        own = open_volume(card.window(self.partition)) if self.existing in KEEPING else None
        done = self._fill(editor, entries, decided.passage, volume.read_file, decided.chosen, watch,
                          self._there(own, decided.chosen, is_trial=False))
        editor.commit()
        files = sum(entry.kind != Kind.FOLDER for entry in entries)
        return Done(f"{counted(files, 'file')} copied to {card.look(self.partition).name}, {binary(done)}.", done)

    def _must_part(self, facts: Facts) -> None:
        """Raises FitError where files of this volume would come upon themselves, or a folder into itself."""
        fold, above = facts.folded, self.path.rpartition("/")[0]
        inside = f"{fold(self.folder)}/".startswith(f"{fold(self.path)}/" if self.path else "")
        if inside and not self.only:
            raise FitError(f"{f'“{self.path}”' if self.path else 'All of a volume'} cannot be copied into itself. "
                           "Choose another folder.")
        pairs = zip(self.only, self.places, strict=False) if self.places else \
            ((path, path) for path in self.only or (self.path[len(above):].strip("/"),))
        for was, to in pairs:
            old, new = f"{above}/{was}".strip("/"), f"{self.folder}/{to}".strip("/")
            if fold(old) == fold(new) and not self.contents:
                raise FitError(f"“{old}” is there already. Give the copy another name or another folder.")

    def _there(self, volume: Volume | None, facts: Facts, *, is_trial: bool) -> There:
        return There(volume, self.folder, self.existing, facts, is_trial=is_trial)

    def _entries(self, tree: Tree) -> list[Entry]:
        """What is copied. Raises FitError where nothing is there."""
        try:
            found = subtree(tree, self.path)
        except MediumError as error:
            raise FitError(str(error)) from error
        if self.places:
            return _placed(found, self.only, self.places)
        if self.only:
            found = _those(found, self.only)
        return [replace(e, path=e.path.partition("/")[2]) for e in found if "/" in e.path] \
            if self.contents and self.path and found[0].kind == Kind.FOLDER else found

    def _fill(self, editor: Editor, entries: list[Entry], passage: Passage, read: Callable[[Entry], Iterator[bytes]],
              facts: Facts, watch: Watch, there: There) -> int:
        """Copy everything; returns bytes of files. Raises FitError, MediumError."""
        ensure_folder(editor, self.folder, now())
        entries = [e for e in entries if e.kind != Kind.FILE or not there.holds(passage.path(e), e.size,
                                                                               partial(read, e))]
        return copy_tree(read, entries, editor, passage, watch, folder=self.folder,
                         make_way=lambda path: make_way(editor, path, self.existing, facts))


def _those(entries: list[Entry], paths: tuple[str, ...]) -> list[Entry]:
    """Some of the entries, with the folders that they stand in. Raises FitError where one is not among them."""
    wanted = set(paths)
    missing = wanted - {entry.path for entry in entries}
    if missing:
        raise FitError(f"There is no “{min(missing)}” among what is to be copied.")
    above = folders_above(wanted)
    return [entry for entry in entries if entry.path in wanted or (entry.path in above and entry.kind == Kind.FOLDER)]


def _placed(entries: list[Entry], paths: tuple[str, ...], places: tuple[str, ...]) -> list[Entry]:
    """Files with the paths that they are meant to have, and the folders above these. Raises FitError."""
    if not len(paths) == len(places) == len(set(places)):
        raise FitError("Each file needs a place of its own.")
    there = {entry.path: entry for entry in entries if entry.kind == Kind.FILE}
    missing = next((path for path in paths if path not in there), None)
    if missing is not None:
        raise FitError(f"There is no file “{missing}” among what is to be copied.")
    return [*(Entry(path, Kind.FOLDER, 0, now().modified, 0) for path in sorted(folders_above(places))),
            *(replace(there[path], path=place) for path, place in zip(paths, places, strict=True))]
