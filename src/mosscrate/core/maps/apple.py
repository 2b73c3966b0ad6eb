"""Partition map of 68000-class desktop computers: a driver descriptor, then one block for each entry. Read only.

Big-endian. Source: "Inside Macintosh: Devices", chapter 3 (the published layout of block 0 and of the
map's entries). The first entry is the map itself.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import MOST_ENTRIES, Declared
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap
from mosscrate.core.maps.format import MapFormat
from mosscrate.core.maps.soundness import faults, of_another_family

DRIVER = np.dtype([("signature", "V2"), ("block_size", ">u2"), ("block_count", ">u4")])
ENTRY = np.dtype([("signature", "V2"), ("pad", "V2"), ("map_blocks", ">u4"), ("start", ">u4"), ("count", ">u4"),
                  ("name", "V32"), ("type", "V32"), ("data_start", ">u4"), ("data_count", ">u4"), ("status", ">u4")])
MOST = 256
_SERVICE = ("Apple_partition_map", "Apple_Driver", "Apple_FWDriver", "Apple_Patches", "Apple_Free", "Apple_Void")


def probe(first: bytes) -> bool:
    """Whether a driver descriptor stands first and a map entry behind it."""
    size = int.from_bytes(first[2:4], "big")
    return first[:2] == b"ER" and size in (512, 1024, 2048, 4096) and first[size:size + 2] == b"PM"


def read(blocks: Blocks) -> PartitionMap:
    """Every entry in its order. Raises FormatError, MediumError."""
    unit = int.from_bytes(blocks.read(2, 2), "big")
    found: list[Partition] = []
    findings: list[Finding] = []
    count = 1
    for index in range(1, MOST + 1):
        if index > count or (index + 1) * unit > blocks.size:
            break
        entry = Place("partition map entry", ENTRY, index * unit).read(blocks.read(index * unit, 512))
        if entry["signature"].tobytes() != b"PM":
            findings.append(Finding(Severity.PROBLEM, f"Entry {index} of the map is damaged; those before it are "
                                    "shown.", "partition map"))
            break
        count = max(count, int(entry["map_blocks"]))
        start, length = int(entry["start"]) * unit, int(entry["count"]) * unit
        kind, name = (entry[f].tobytes().partition(b"\0")[0].decode("mac_roman") for f in ("type", "name"))
        if length:
            found.append(Partition(index, start, length, kind, kind.replace("_", " "), name))
    findings += faults(found, blocks.size)
    findings.append(of_another_family(findings))
    return PartitionMap(MapKind.APPLE, "", tuple(found), unit, tuple(findings))


def is_service(partition: Partition) -> bool:
    """Whether an entry holds the map itself, a driver for the drive, or nothing, rather than a volume."""
    return partition.type.startswith(_SERVICE)


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """The driver descriptor and the map's entries."""
    yield Declared("Driver descriptor", DRIVER, 0)
    for index in range(1, min(len(map.partitions), MOST_ENTRIES) + 1):
        yield Declared(f"Map entry {index}", ENTRY, index * map.sector)


class Apple(MapFormat):
    """See above."""

    kind = MapKind.APPLE

    def probe(self, first: bytes) -> bool:
        """See MapFormat."""
        return probe(first)

    def read(self, blocks: Blocks) -> PartitionMap:
        """See MapFormat."""
        return read(blocks)

    def declared(self, blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
        """See MapFormat."""
        return declared(blocks, map)

    def serves(self, partition: Partition) -> bool:
        """See MapFormat."""
        return is_service(partition)
