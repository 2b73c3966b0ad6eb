"""Make a folder, and those above it where they are missing."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.contents.transfer import ensure_folder
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.sheet.steps.shared.filing import now
from mosscrate.core.volumes import Editor


class MakeFolder(EditsNames, tag="folder", frozen=True):
    """See above."""

    path: Annotated[str, asked("The folder.", Form.PLACE, is_first=True)]

    command: ClassVar[str] = "folder"

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        ensure_folder(editor, self.path, now())

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        return f"Make the folder “{self.path}” on {name}"

    def said(self, name: str) -> str:
        """See EditsNames."""
        return f"The folder “{self.path}” is there."
