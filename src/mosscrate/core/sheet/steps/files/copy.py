"""Copy files of a partition of the source, or of another one of the same card, into a volume of the target."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.contents.transfer import copy_tree, ensure_folder, must_fit, plan_passage, subtree
from mosscrate.core.errors import FitError, MediumError
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Existing, Step
from mosscrate.core.sheet.steps.shared.filing import fuller, inside, make_way, must_go_in, now, present, volume_to_fill
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Kind, edit, open_volume
from mosscrate.core.watch import Watch


class CopyFiles(Step, tag="copy files", frozen=True):
    """See above.

    Without a source in the sheet they come from another partition of the target itself. `path` is the file
    or folder that is copied, "" for everything.
    """

    source: int
    partition: int
    folder: str = ""
    path: str = ""
    existing: Existing = Existing.REFUSE

    begins_anew: ClassVar[bool] = True
    carries_files: ClassVar[bool] = True
    reads_parts: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        is_here = source is None
        source = source or card
        came = source.look(self.source)
        if is_here and self.source == self.partition:
            raise FitError(f"Files of {came.name} are on it already; they can be copied to another partition.")
        look, facts = volume_to_fill(card, self.partition)
        if came.volume is None or came.volume.used is None:
            raise FitError(f"Files of {came.name} cannot be copied: {came.role_reason}.")
        volume, there = source.files(self.source), inside(card.files(self.partition), self.folder)
        passage, need, files, total = None, came.volume.used, came.volume.files, came.volume.used
        if volume is not None:
            try:
                entries = subtree(volume.tree(), self.path)
            except MediumError as error:
                raise FitError(str(error)) from error
            passage = plan_passage(entries, facts, present(there, self.existing))
            must_fit(passage)
            need = must_go_in(look, facts, entries, passage, there, self.existing)
            files, total = sum(e.kind == Kind.FILE for e in entries), sum(e.size for e in entries)
        elif self.path:
            need = files = 0                             # how much that is cannot be known yet
        elif look.volume and look.volume.free is not None and need > look.volume.free:
            raise FitError(f"The files of {came.name} ({binary(need)}) do not fit into {look.name}: "
                           f"{binary(look.volume.free)} are free.")
        what = f"“{self.path}” of {came.name}" if self.path else f"the files of {came.name}"
        where = f"“{self.folder}” on {look.name}" if self.folder else look.name
        return Decision(f"Copy {what} into {where}", total, total, looks=(fuller(look, need, files),), passage=passage,
                        journal=tables(look, look.partition.length), chosen=facts)

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.passage is not None, "the files are at hand"
        volume = open_volume((source or card).window(self.source))
        entries, editor = subtree(volume.tree(), self.path), edit(card.window(self.partition))
        ensure_folder(editor, self.folder, now())
        done = copy_tree(volume, entries, editor, decided.passage, watch, folder=self.folder,
                         make_way=lambda path: make_way(editor, path, self.existing, decided.chosen))
        editor.commit()
        return Done(f"{counted(len(entries), 'entry', 'entries')} copied to partition {self.partition}, "
                    f"{binary(done)}.", done)
