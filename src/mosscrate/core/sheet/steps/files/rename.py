"""Give a file or folder another name or another folder."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.volumes import Editor


class RenameFile(EditsNames, tag="rename", frozen=True):
    """See above."""

    path: Annotated[str, asked("The file or folder.", Form.PLACE, is_first=True)]
    new: Annotated[str, asked("Its new name; one with slashes moves it.", Form.PLACE, is_first=True)]

    command: ClassVar[str] = "rename"

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        editor.rename(self.path, self.new)

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        return f"Call “{self.path}” “{self.new}”"

    def said(self, name: str) -> str:
        """See EditsNames."""
        return f"“{self.path}” is “{self.new}” now."
