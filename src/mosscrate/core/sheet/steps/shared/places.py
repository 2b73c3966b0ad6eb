"""Where partitions begin and how long they are by default, and what stays of a card that is cleared."""

from __future__ import annotations

from collections.abc import Iterable

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.contents.fresh import fresh_view
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.maps import MapKind, Partition, edits
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sizes import MIB
from mosscrate.core.volumes import Making, format_for, format_of
from mosscrate.core.volumes.signatures import FIRST_BYTES
from mosscrate.core.watch import Watch

SMALL_CARD = 256 * MIB                 # below this, room is worth more than erase blocks
EDGE = 1 << 20


def alignment_for(size: int) -> int:
    """Where partitions of a card of `size` bytes start by default."""
    return edits.ALIGNMENT if size >= SMALL_CARD else MIB if size >= 16 * MIB else edits.TRACK


def must_be_arranged(card: Sight) -> None:
    """Raises FitError where the card has no map whose partitions can be changed."""
    if card.map.kind == MapKind.NONE:
        raise FitError("This medium has no partition map. Put one on it first.")
    if not card.can_be_arranged:
        raise FitError("The partitions of this map cannot be changed here.")


def make_volume(card: Card, partition: Partition, making: Making) -> None:
    """Put a fresh volume on a partition. Raises FitError before anything is written."""
    format_for(making.kind).make(card.place(partition.start, partition.length), making)


def fresh_bytes(card: Sight, looks: Iterable[PartitionLook], makings: Iterable[Making]) -> dict[int, Blocks]:
    """{number: bytes} of partitions with fresh volumes, for a card that is planned."""
    return {look.index: fresh_view(making, look.partition.length, card.sector)
            for look, making in zip(looks, makings, strict=True) if card.is_planned and making.kind}


def forgo(blocks: Blocks, partition: Partition) -> None:
    """What lies where a new partition will be belongs to nobody."""
    blocks.forgo([Extent(partition.start, partition.length)])


def rebase(card: Card, partition: Partition) -> None:
    """Let a volume note where its partition lies now; an unknown one is left exactly as it is."""
    window = card.place(partition.start, partition.length)
    try:
        format_of(window).rebase(window, card.seat(partition))
    except FormatError:
        return


def clear_signatures(window: Blocks) -> None:
    """Remove the marks by which file systems are recognised."""
    window.zero(0, min(FIRST_BYTES, window.size))


def clear_edges(card: Card, watch: Watch) -> None:
    """Clear both ends of the medium, and both ends of every partition that a map names."""
    blocks = card.blocks
    edge = min(EDGE, blocks.size)
    stretches = [(0, edge), (blocks.size - edge, edge)]
    for p in card.map_or_none.partitions:
        if p.start < blocks.size:
            length = min(p.length, blocks.size - p.start)
            stretches += [(p.start, min(EDGE, length)), (p.start + max(0, length - EDGE), min(EDGE, length))]
    for start, length in stretches:
        blocks.zero(start, length)
        watch.check()
