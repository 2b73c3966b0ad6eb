"""Put a partition of the source over one of the card; everything else on the card stays, settings where wanted."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fnmatch import fnmatch
from typing import Annotated, ClassVar

from mosscrate.core.contents.transfer import ensure_folder
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.asking import PARTITION, Form, asked
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Existing, Step
from mosscrate.core.sheet.steps.shared.anew import forgo_free
from mosscrate.core.sheet.steps.shared.exact import exactly
from mosscrate.core.sheet.steps.shared.filing import make_way
from mosscrate.core.sheet.steps.shared.places import rebase
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Entry, Facts, Kind, Tree, edit, facts_of, format_of, open_volume
from mosscrate.core.watch import Watch

MOST_KEPT = 64 << 20                     # bytes of settings that are held meanwhile


@dataclass(frozen=True)
class Refreshing:
    """What was decided: the files that are kept, the facts of the volume that comes, and whether it is grown."""

    kept: tuple[Entry, ...]
    facts: Facts | None
    is_grown: bool


class RefreshPartition(Step, tag="refresh partition", frozen=True):
    """See above."""

    source: Annotated[int, asked("Number of the partition of the source.", Form.PARTITION, flag="--from")]
    partition: Annotated[int, PARTITION]
    keep: Annotated[tuple[str, ...], asked("Files of the old one that are put back afterwards, such as *.cfg.")] = ()

    command: ClassVar[str] = "renew"
    begins_anew: ClassVar[bool] = True
    needs_source: ClassVar[bool] = True
    reads_parts: ClassVar[bool] = True
    does_away: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        if source is None:
            raise FitError("Refreshing a partition needs a source and a target.")
        came, look = source.look(self.source), card.look(self.partition)
        if came.partition.length > look.partition.length:
            raise FitError(f"{came.name} of the source has {binary(came.partition.length)}, {look.name} has "
                           f"{binary(look.partition.length)}. Give it more room first, or write the whole image.")
        facts = facts_of(came.variant)
        kept = self._kept(card, look.name)
        if kept and (facts is None or not facts.is_written or came.volume is None or came.volume.used is None):
            raise FitError(f"Settings cannot be put back onto {came.name}: its files cannot be changed.")
        is_grown = bool(came.volume and came.volume.largest and look.partition.length > came.partition.length)
        used = came.partition.length if came.volume is None or came.volume.used is None else came.volume.used
        volume = came.volume
        if volume is not None and is_grown:
            volume = replace(volume, size=min(look.partition.length, max(volume.largest, volume.size)))
        is_open = bool(self.keep) and card.window(self.partition) is None      # what is kept is known on the card
        back = f", {counted(len(kept), 'file')} of the old one put back" if kept else \
            ", settings of the old one put back" if is_open else ""
        is_same = not kept and not is_open and came.partition.length == look.partition.length
        return Decision(f"Put {came.name} of the source over {look.name}{back}", 3 * used, used,
                        looks=(replace(came, partition=look.partition, volume=volume),),
                        brought={self.partition: self.source},
                        exact=frozenset({self.partition}) if is_same else frozenset(), journal=2 * used,
                        chosen=Refreshing(kept, facts, is_grown))

    def _kept(self, card: Sight, name: str) -> tuple[Entry, ...]:
        volume = card.files(self.partition) if self.keep else None
        tree = volume.tree() if volume is not None else Tree(())
        if tree.findings:
            raise FitError(f"Files of {name} are to be kept, and may lie where it cannot be read: "
                           f"{tree.findings[0].sentence} Take out what can be read, then refresh it without keeping "
                           "any.")
        kept = tuple(entry for entry in tree.entries if entry.kind == Kind.FILE
                     and any(fnmatch(entry.path.casefold(), pattern.casefold()) for pattern in self.keep))
        if sum(entry.size for entry in kept) > MOST_KEPT:
            raise FitError(f"More than {binary(MOST_KEPT)} of {name} are to be kept. Copy them to this computer first.")
        return kept

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert source is not None, "it was decided"
        chosen: Refreshing = decided.chosen
        came, look = source.look(self.source), card.look(self.partition)
        window, place = source.window(self.source), card.place(look.partition.start, look.partition.length)
        held = {}
        if look.volume is not None and look.volume.used is not None:
            old = open_volume(card.window(self.partition))
            held = {entry: b"".join(old.read_file(entry)) for entry in chosen.kept}
            forgo_free(old, card.window(self.partition))
        done = exactly(window, place, watch=watch, is_mostly_room=chosen.facts is not None
                       and chosen.facts.is_mostly_room)
        rebase(card, look.partition)
        if chosen.is_grown:
            format_of(place).grow(place, look.partition.length, watch,
                                  hidden_sectors=look.partition.start // card.sector)
        if held and chosen.facts is not None:
            editor = edit(place)
            for entry, data in held.items():
                ensure_folder(editor, entry.path.rpartition("/")[0], entry.traits)
                make_way(editor, entry.path, Existing.REPLACE, chosen.facts)
                editor.add_file(entry.path, data, entry.traits, size=len(data))
            editor.commit()
        card.blocks.flush()
        back = f" {counted(len(held), 'file')} of the old one put back." if held else ""
        return Done(f"{came.name} of the source is over {look.name} now, copied exactly, read back and equal.{back}",
                    done)
