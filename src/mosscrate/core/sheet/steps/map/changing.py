"""What the steps have in common that change the map alone."""

from __future__ import annotations

from mosscrate.core.maps import write_map
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card
from mosscrate.core.sheet.step import Step
from mosscrate.core.watch import Watch


class ChangesMap(Step, frozen=True):
    """A step whose decision is another map."""

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        name = self.called(card)
        write_map(card.blocks, decided.map)
        card.blocks.flush()
        return Done(self.said(decided, name))

    def called(self, card: Card) -> str:
        """The partition that it is about, as the plan calls it; "" for none."""
        index: int | None = getattr(self, "partition", None)
        return "" if index is None else card.look(index).name

    def said(self, decided: Decision, name: str) -> str:
        """The sentence of what was done to a partition of that name."""
        raise NotImplementedError
