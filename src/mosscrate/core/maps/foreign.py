"""Maps that are recognised by their signature but cannot be opened yet.

"Not readable here" is not "broken": the finding says so.
Sources: RDB: "RDSK" in one of the first 16 blocks; Apple: "ER" in block 0 and "PM" in block 1.
"""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps.base import MapKind, PartitionMap
from mosscrate.core.maps.format import MapFormat

_NAMES = {
    MapKind.RDB: "the map of a big-endian home computer (RDB)",
    MapKind.APPLE: "a driver descriptor and partition map of a 68000-class desktop computer",
}


def probe(first: bytes) -> bool:
    """Whether one of the signatures is there."""
    return _kind(first) is not None


def read(blocks: Blocks) -> PartitionMap:
    """A map without partitions and a finding that names it. Raises MediumError."""
    kind = _kind(blocks.read(0, min(blocks.size, 64 << 10)))
    assert kind is not None, "probe comes first"
    if kind == MapKind.RDB:                              # a sound one was read before
        return PartitionMap(kind, "", (), blocks.sector, (Finding(
            Severity.WARNING, f"This medium carries {_NAMES[kind]}, but the checksum of its first block is wrong.",
            "partition map", remedy="Keep it exactly before anything else; decline any offer to format it."),))
    return PartitionMap(kind, "", (), blocks.sector, (Finding(
        Severity.GOOD, f"This medium carries {_NAMES[kind]}. It is not broken, only not opened here yet.",
        "partition map", remedy="Decline any offer of the desktop to format it; keeping it exactly works."),))


def _kind(first: bytes) -> MapKind | None:
    if any(first[at:at + 4] == b"RDSK" for at in range(0, 16 * 512, 512)):
        return MapKind.RDB
    if first[:2] == b"ER" and (first[512:514] == b"PM" or first[2048:2050] == b"PM"):
        return MapKind.APPLE
    return None


class Foreign(MapFormat):
    """See above; what it reads goes by the kind of its family."""

    kind = MapKind("")

    def probe(self, first: bytes) -> bool:
        """See MapFormat."""
        return probe(first)

    def read(self, blocks: Blocks) -> PartitionMap:
        """See MapFormat."""
        return read(blocks)
