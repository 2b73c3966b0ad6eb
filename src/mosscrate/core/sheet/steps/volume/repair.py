"""Make a volume whole again: its own journal carried out, its tables worked out anew from its files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, ClassVar

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.survey import look_into
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.sheet.asking import PARTITION
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.room import tables
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import ext, format_of
from mosscrate.core.watch import Watch


class ReplayJournal(Step, tag="replay", frozen=True):
    """Carry out what the journal of an ext volume still holds."""

    partition: Annotated[int, PARTITION]

    command: ClassVar[str] = "replay"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        volume = look.volume
        if volume is None or volume.facts is None or not volume.facts.has_journal:
            raise FitError(f"{look.name} has no journal of its own.")
        clean, bytes_ = _tried(card, look, ext.replay)
        return Decision(f"Carry out what the journal of {look.name} still holds", 0, looks=(clean,), bytes=bytes_,
                        same_files=frozenset({self.partition}), journal=tables(look, look.partition.length))

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        try:
            count = ext.replay(card.window(self.partition))
        except FormatError as error:
            raise FitError(f"Partition {self.partition} cannot be opened: {error}") from error
        return Done(f"{counted(count, 'transaction')} of the journal carried out.")


class RebuildBitmap(Step, tag="bitmap", frozen=True):
    """Work out from its files which blocks of a volume are in use, and make bitmaps, tables and counts agree."""

    partition: Annotated[int, PARTITION]

    command: ClassVar[str] = "bitmap"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        if look.volume is None or look.volume.facts is None or not look.volume.facts.is_written:
            raise FitError(f"{look.name} has no tables that could be worked out: {look.role_reason}.")
        mended, bytes_ = _tried(card, look, lambda window: format_of(window).mend(window))
        return Decision(f"Work out anew which blocks of {look.name} are in use", 0, looks=(mended,), bytes=bytes_,
                        same_files=frozenset({self.partition}), journal=tables(look, look.partition.length))

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step. Raises FitError where the files contradict one another; nothing is written then."""
        window = card.window(self.partition)
        try:
            said = format_of(window).mend(window)
        except FormatError as error:
            raise FitError(f"Partition {self.partition} cannot be opened: {error}") from error
        card.blocks.flush()
        return Done(f"{card.look(self.partition).name}: {said[0].lower()}{said[1:]}")


def _tried(card: Sight, look: PartitionLook,
           mend: Callable[[Blocks], object]) -> tuple[PartitionLook, dict[int, Blocks]]:
    """A partition once it is mended, and its bytes where that could be tried out. Raises FitError."""
    assert look.volume is not None, "it has one"
    view = card.trial(look.index) if card.is_planned else None
    if view is None:
        return replace(look, volume=replace(look.volume, unsound="", is_clean=True)), {}
    try:
        mend(view)
        return look_into(look.partition, view), {look.index: view}
    except FormatError as error:
        raise FitError(f"{look.name} cannot be opened: {error}") from error
