"""Set comment, protection bits or date of a file on OFS or FFS."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.errors import FitError
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.volumes import Editor, kind_name
from mosscrate.core.volumes.base import Retraits
from mosscrate.core.volumes.ffs import FfsEditor, protection_of


class SetTraits(EditsNames, tag="traits", frozen=True):
    """See above; None leaves them.

    `protection` as letters of "hsparwed" that are set, `modified` in seconds since 1970.
    """

    path: Annotated[str, asked("The file or folder.", Form.PLACE, is_first=True)]
    comment: Annotated[str | None, asked("Up to 79 characters; \"\" removes it.")] = None
    protection: Annotated[str | None, asked("Letters of hsparwed that are set, such as ----rwed.")] = None
    modified: Annotated[int | None, asked("When it was changed, UTC.", Form.DATE, flag="--date")] = None

    command: ClassVar[str] = "traits"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        if look.volume is not None and look.volume.facts is not None and not look.volume.facts.has_comments:
            raise FitError(f"Partition {self.partition} holds {kind_name(look.volume.kind)}: only OFS and FFS keep "
                           "comments and protection bits.")
        return super().decide(card, source)

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        assert isinstance(editor, FfsEditor), "only these keep comments"
        entry = editor.volume.tree().find(self.path)
        old = entry.protection or 0 if entry else 0
        bits = None if self.protection is None else protection_of(self.protection, old)
        editor.retrait(self.path, Retraits(self.modified, bits, self.comment))

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        given = {"comment": self.comment, "protection": self.protection, "date": self.modified}
        return f"Set {' and '.join(k for k, v in given.items() if v is not None) or 'nothing'} of “{self.path}”"

    def said(self, name: str) -> str:
        """See EditsNames."""
        return f"“{self.path}” has its comment, protection and date as they were set."
