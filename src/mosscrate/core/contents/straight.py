"""A medium as its machine sees it: drives whose bytes an adapter swaps are recognised by themselves.

Whole images are kept and written as they stand on the card; everything that looks into a card or
changes what is on it goes through here.
"""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.swapped import SwappedBlocks, swapped
from mosscrate.core.maps import MapKind, PartitionMap, ahdi, apple, is_a_map, map_format, mbr, rdb
from mosscrate.core.volumes import FORMATS, name_by_signature
from mosscrate.core.volumes.signatures import FIRST_BYTES

SWAPPED = "swapped"


def straight(blocks: Blocks) -> Blocks:
    """The blocks themselves, or a view that swaps where only that makes sense of them. Raises MediumError."""
    if blocks.container == SWAPPED:
        return blocks
    first = blocks.read(0, min(blocks.size, FIRST_BYTES) // 2 * 2)
    if not any(first) or _is_recognised(first):
        return blocks
    return SwappedBlocks(blocks) if _makes_sense(swapped(first)) else blocks


def is_known_swapped(blocks: Blocks) -> bool:
    """Whether a straight medium, or the straight view of one, is known again when it is swapped. Raises MediumError."""
    return begins_known(blocks.read(0, min(blocks.size, FIRST_BYTES) // 2 * 2))


def begins_known(first: bytes) -> bool:
    """Whether a medium that begins like this is known again when its bytes are swapped, and as nothing else."""
    return _makes_sense(first) and not _is_recognised(swapped(first))


def map_is_known_swapped(map: PartitionMap) -> bool:
    """The same of a medium with a map: an empty root sector of AHDI looks like one in either order."""
    return map.kind != MapKind.NONE and (map_format(map.kind).is_known_empty or bool(map.partitions))


def _is_recognised(first: bytes) -> bool:
    """Whether a map or a volume begins like this."""
    return is_a_map(first) or any(m.probe(first) for m in FORMATS) or \
        bool(name_by_signature(first))


def _makes_sense(first: bytes) -> bool:
    """Whether a map or a volume that cannot be there by chance begins like this."""
    has_mark = first[510:512] == b"\x55\xaa"
    is_dos_type = first[:3] == b"DOS" and first[3:4] < b"\x08"
    return any(m.probe(first) for m in (rdb, ahdi, apple)) or is_dos_type or (has_mark and (
        mbr.probe(first) or any(m.probe(first) for m in FORMATS)))
