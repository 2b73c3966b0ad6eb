"""Make a folder, and those above it where they are missing."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.contents.transfer import ensure_folder
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.sheet.steps.shared.filing import now
from mosscrate.core.sizes import counted
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


class MakeFolders(EditsNames, tag="folders", frozen=True):
    """Make many folders, and those above them where they are missing."""

    paths: Annotated[tuple[str, ...], asked("The folders.", Form.PLACE, is_first=True)]

    command: ClassVar[str] = "folders"

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        for path in self.paths:
            ensure_folder(editor, path, now())

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        return f"Make {counted(len(self.paths), 'folder')} on {name}"

    def said(self, name: str) -> str:
        """See EditsNames."""
        return f"{counted(len(self.paths), 'folder')} {'is' if len(self.paths) == 1 else 'are'} on {name}."
