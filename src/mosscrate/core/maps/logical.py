"""Logical drives: a chain of extended boot records inside an extended partition.

Each record has the shape of an MBR. Its first entry is the drive, counted from the record itself;
its second leads to the next record, counted from the start of the extended partition. The first
record stands in the extended partition's first sector.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import mbr_sector as mbr
from mosscrate.core.maps.base import Partition, PartitionMap
from mosscrate.core.maps.geometry import Geometry

NAME = "extended boot record"


def read(blocks: Blocks, extended: int, number: int, findings: list[Finding]) -> list[Partition]:
    """Follow the chain from a sector on; a loop or a lie ends it with a finding. Raises MediumError."""
    found: list[Partition] = []
    seen, at = set(), extended
    while at not in seen and len(found) < mbr.MAX_LOGICAL and (at + 1) * blocks.sector <= blocks.size:
        seen.add(at)
        raw = Place(NAME, mbr.SECTOR, at * blocks.sector).read(
            blocks.read(at * blocks.sector, mbr.SECTOR.itemsize))
        if int(raw["signature"]) != mbr.SIGNATURE:
            break
        drive, link = raw["entries"][0], raw["entries"][1]
        if drive["type"] and drive["sector_count"]:
            found.append(replace(mbr.partition_of(number + len(found), drive, at, blocks.sector),
                                 record=at * blocks.sector))
        if int(link["type"]) not in mbr.EXTENDED or not link["sector_count"]:
            return found
        at = extended + int(link["first_lba"])
    findings.append(Finding(Severity.PROBLEM, f"The chain of logical drives breaks at sector {at}.",
                            "partition map", remedy="The drives before that place are shown and intact."))
    return found


def container(map: PartitionMap) -> Partition | None:
    """The extended partition, if there is one."""
    return next((p for p in map.partitions if p.index <= mbr.PRIMARIES and mbr.is_extended(p)), None)


def drives(map: PartitionMap) -> list[Partition]:
    """The logical drives in the order in which they lie."""
    return sorted((p for p in map.partitions if p.index > mbr.PRIMARIES), key=lambda p: p.start)


def records(blocks: Blocks, map: PartitionMap, geometry: Geometry) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes) of every record of the chain. Raises FitError where a record finds no place."""
    outer, logical = container(map), drives(map)
    if outer is None:
        if logical:
            raise FitError("Logical drives need an extended partition around them.")
        return
    if not logical:
        yield outer.start, _record(blocks, outer.start, None, None, outer, map.sector, geometry)
        return
    places = places_in(outer, logical, map.sector)
    for number, (drive, at) in enumerate(zip(logical, places, strict=True)):
        following = None
        if number + 1 < len(logical):
            end = logical[number + 1].end
            following = Partition(0, places[number + 1], end - places[number + 1], "0x05")
        yield at, _record(blocks, at, drive, following, outer, map.sector, geometry)


def places_in(outer: Partition, logical: list[Partition], sector: int) -> list[int]:
    """Where each record goes: where it was if it can stay there, else close in front of its drive."""
    places, free = [], outer.start
    for number, drive in enumerate(logical):
        low, high = free, drive.start - sector
        if drive.end > outer.end or high < low:
            raise FitError(f"Logical drive {drive.index} needs a free sector in front of it, inside the extended "
                           "partition.")
        usual = max(low, drive.start - (63 * sector if drive.start % (1 << 20) else 1 << 20))
        places.append(outer.start if number == 0 else drive.record if low <= drive.record <= high else usual)
        free = drive.end
    return places


def _record(blocks: Blocks, at: int, drive: Partition | None, following: Partition | None, outer: Partition,
            sector: int, geometry: Geometry) -> bytes:
    """One record; what it held beside its entries stays where it already was a record."""
    old = blocks.read(at, mbr.SECTOR.itemsize)
    is_record = old[-2:] == b"\x55\xaa"
    raw: Record = Place(NAME, mbr.SECTOR, at).read(old if is_record else bytes(mbr.SECTOR.itemsize))
    base = at // sector
    kept = raw["entries"][:2].copy()
    raw["entries"] = np.zeros(4, mbr.ENTRY)
    if drive is not None:
        raw["entries"][0] = kept[0]
        mbr.put_entry(raw["entries"][0], drive, base, sector, geometry)
    if following is not None:
        raw["entries"][1] = kept[1]
        mbr.put_entry(raw["entries"][1], following, outer.start // sector, sector, geometry)
    raw["signature"] = mbr.SIGNATURE
    return bytes(raw.tobytes())


def gaps(outer: Partition, logical: list[Partition]) -> list[tuple[int, int]]:
    """(start, end) of the stretches inside the extended partition that no drive takes."""
    edges = [outer.start, *(e for p in logical for e in (p.start, p.end)), outer.end]
    return [(a, b) for a, b in list(pairwise(edges))[::2] if b > a]


