"""Make a volume whole again: its own journal carried out, its tables worked out anew from its files."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import ext, format_of
from mosscrate.core.watch import Watch


class ReplayJournal(Step, tag="replay", frozen=True):
    """Carry out what the journal of an ext volume still holds."""

    partition: int

    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        volume = look.volume
        if volume is None or volume.facts is None or not volume.facts.has_journal:
            raise FitError(f"{look.name} has no journal of its own.")
        clean = replace(look, volume=replace(volume, is_clean=True))
        return Decision(f"Carry out what the journal of {look.name} still holds", 0, looks=(clean,),
                        same_files=frozenset({self.partition}), journal=tables(look, look.partition.length))

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        count = ext.replay(card.window(self.partition))
        return Done(f"{counted(count, 'transaction')} of the journal carried out.")


class RebuildBitmap(Step, tag="bitmap", frozen=True):
    """Work out from its files which blocks of a volume are in use, and make bitmaps, tables and counts agree."""

    partition: int

    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        if look.volume is None or look.volume.facts is None or not look.volume.facts.is_written:
            raise FitError(f"{look.name} has no tables that could be worked out: {look.role_reason}.")
        mended = replace(look, volume=replace(look.volume, unsound=""))
        return Decision(f"Work out anew which blocks of {look.name} are in use", 0, looks=(mended,),
                        same_files=frozenset({self.partition}), journal=tables(look, look.partition.length))

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step. Raises FitError where the files contradict one another; nothing is written then."""
        window = card.window(self.partition)
        try:
            said = format_of(window).mend(window)
        except FormatError as error:
            raise FitError(f"Partition {self.partition} cannot be opened: {error}") from error
        card.blocks.flush()
        return Done(f"Partition {self.partition}: {said[0].lower()}{said[1:]}")
