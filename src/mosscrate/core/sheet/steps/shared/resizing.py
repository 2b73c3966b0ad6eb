"""A volume whose structure depends on its size gets another length: it is made anew with its files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks, Longer, Overlay, Window
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.survey import look_into
from mosscrate.core.contents.transfer import Passage
from mosscrate.core.errors import FitError
from mosscrate.core.maps import Partition, PartitionMap, write_map
from mosscrate.core.sheet.decision import Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.steps.shared.anew import Anew, made_anew, put_anew
from mosscrate.core.sheet.steps.shared.likeness import making_like
from mosscrate.core.sizes import MIB, binary
from mosscrate.core.volumes import open_volume
from mosscrate.core.watch import Watch

TRIED_UP_TO = 64 * MIB                 # a forecast resizes volumes up to this on a view, to know what becomes of them


@dataclass(frozen=True)
class ResizedAnew:
    """What was decided."""

    anew: Anew

    @property
    def look(self) -> PartitionLook:
        """The partition afterwards."""
        return self.anew.look

    @property
    def passage(self) -> Passage | None:
        """What files lose."""
        return self.anew.passage

    @property
    def bytes(self) -> dict[int, Blocks]:
        """See Decision."""
        return self.anew.bytes

    def put(self, card: Card, map: PartitionMap, new: Partition, watch: Watch) -> Done:
        """Do it. Raises MossError."""
        window = card.window(new.index)
        room = card.place(new.start, max(new.length, window.size))
        done = put_anew(open_volume(window), window, room, self.anew.making, new.length, watch)
        write_map(card.blocks, map)
        card.blocks.flush()
        return Done(f"{card.look(new.index).name} was made anew with {binary(new.length)} and its files put back.",
                    done)


def resized_anew(card: Sight, look: PartitionLook, partition: Partition) -> ResizedAnew:
    """The volume of a partition in another length. Raises FitError."""
    if look.volume is None:
        raise FitError(f"{look.name} cannot be made anew: {look.role_reason}.")
    making = making_like(look.volume, look.variant, seat=card.seat(partition))
    return ResizedAnew(made_anew(look, partition, making, card.files(partition.index), card))


def tried_in_place(card: Sight, partition: Partition,
                   resize: Callable[[Blocks], object]) -> tuple[PartitionLook, Blocks] | None:
    """A partition once its volume was resized on a view, and that view.

    None where that would be too much work for a forecast. Raises FitError, FormatError.
    """
    window = card.window(partition.index) if card.is_planned else None
    if window is None or max(window.size, partition.length) > TRIED_UP_TO:
        return None
    view = Overlay(Longer(window, partition.length))
    resize(view)
    fitting = Window(view, 0, partition.length)
    return look_into(partition, fitting), fitting
