"""What the steps have in common that only change names: the change is noted in memory, then written at once."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.errors import FitError
from mosscrate.core.sheet.asking import PARTITION
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sheet.steps.shared.trying import tried_out
from mosscrate.core.volumes import Editor
from mosscrate.core.watch import Watch


class EditsNames(Step, frozen=True):
    """A step whose decision is an editor that holds the change."""

    partition: Annotated[int, PARTITION]

    is_about_files: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.sound(self.partition)
        volume = look.volume
        if volume is None or volume.used is None or volume.facts is None:
            raise FitError(f"Files on {look.name} cannot be changed: {look.role_reason}.")
        if not volume.facts.is_written:
            raise FitError(f"Files on {look.name} cannot be changed: "
                           f"{volume.facts.misread or volume.facts.why_not('x')}.")
        journal, sentence = tables(look, look.partition.length), self.sentence(look.name)
        if card.is_planned:
            view = card.trial(self.partition)
            if view is not None:
                look = tried_out(look.partition, view, look.name, self.edit)
                return Decision(sentence, 0, looks=(look,), bytes={self.partition: view}, journal=journal)
            view = card.likely(self.partition)
            if view is not None:
                tried_out(look.partition, view, look.name, self.edit)
            return Decision(sentence, 0, looks=(look,), before={} if view is None else {self.partition: view},
                            journal=journal)
        editor = card.editor(self.partition)
        assert editor is not None, "the bytes of a card are at hand"
        self.edit(editor)
        return Decision(sentence, 0, looks=(look,), journal=journal, chosen=editor)

    def edit(self, editor: Editor) -> None:
        """Note the change. Raises FitError."""
        raise NotImplementedError

    def sentence(self, name: str) -> str:
        """Of the plan, for a partition of that name."""
        raise NotImplementedError

    def said(self, name: str) -> str:
        """Of what was done to a partition of that name."""
        raise NotImplementedError

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        name = card.look(self.partition).name
        decided.chosen.commit()
        return Done(self.said(name))
