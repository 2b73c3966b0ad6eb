"""Remove files, or folders with all that is in them."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.sizes import counted, some_of
from mosscrate.core.volumes import Editor

NAMED = 12                               # of what was removed, in its sentence


class RemoveFiles(EditsNames, tag="remove files", frozen=True):
    """See above."""

    paths: Annotated[tuple[str, ...], asked("Files and folders.", Form.PLACE, is_first=True)]

    command: ClassVar[str] = "remove"
    does_away: ClassVar[bool] = True

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        for path in self.paths:
            editor.remove(path)

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        what = f"“{self.paths[0]}”" if len(self.paths) == 1 else counted(len(self.paths), "item")
        return f"Remove {what} from {name}"

    def said(self, name: str) -> str:
        """See EditsNames."""
        return f"Removed from {name}: {some_of(self.paths, NAMED)}."
