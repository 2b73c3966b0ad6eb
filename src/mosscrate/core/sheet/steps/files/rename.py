"""Give a file or folder another name or another folder."""

from __future__ import annotations

from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.volumes import Editor


class RenameFile(EditsNames, tag="rename", frozen=True):
    """See above."""

    path: str
    new: str

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        editor.rename(self.path, self.new)

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        return f"Call “{self.path}” “{self.new}”"

    def said(self) -> str:
        """See EditsNames."""
        return f"“{self.path}” is “{self.new}” now."
