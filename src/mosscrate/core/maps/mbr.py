"""Master boot record: four entries in the first sector, logical drives in a chain of their own.

Little-endian. Sources: the partition table as published in the UEFI specification 2.10, 5.2.1;
extended boot records as in "FAT: General Overview of On-Disk Format". CHS fields hold head,
sector | cylinder bits 8-9, cylinder bits 0-7. `logical` has the chain.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError, NotReadYet
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import ahdi, logical
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.format import Level, MapFormat, exchanged
from mosscrate.core.maps.geometry import CHS_BEYOND as CHS_BEYOND
from mosscrate.core.maps.geometry import TRACK, derived
from mosscrate.core.maps.geometry import Geometry as Geometry
from mosscrate.core.maps.mbr_sector import (
    ACTIVE as ACTIVE,
)
from mosscrate.core.maps.mbr_sector import (
    ENTRY as ENTRY,
)
from mosscrate.core.maps.mbr_sector import (
    EXTENDED as EXTENDED,
)
from mosscrate.core.maps.mbr_sector import (
    HIDDEN_BIT as HIDDEN_BIT,
)
from mosscrate.core.maps.mbr_sector import (
    HIDEABLE as HIDEABLE,
)
from mosscrate.core.maps.mbr_sector import (
    LARGEST as LARGEST,
)
from mosscrate.core.maps.mbr_sector import (
    MAX_LOGICAL as MAX_LOGICAL,
)
from mosscrate.core.maps.mbr_sector import (
    PRIMARIES as PRIMARIES,
)
from mosscrate.core.maps.mbr_sector import (
    SECTOR as SECTOR,
)
from mosscrate.core.maps.mbr_sector import (
    SIGNATURE as SIGNATURE,
)
from mosscrate.core.maps.mbr_sector import (
    TITLE as TITLE,
)
from mosscrate.core.maps.mbr_sector import (
    TYPES as TYPES,
)
from mosscrate.core.maps.mbr_sector import (
    geometry_in,
)
from mosscrate.core.maps.mbr_sector import (
    geometry_of as geometry_of,
)
from mosscrate.core.maps.mbr_sector import (
    is_extended as is_extended,
)
from mosscrate.core.maps.mbr_sector import (
    partition_of as partition_of,
)
from mosscrate.core.maps.mbr_sector import (
    put_entry as put_entry,
)
from mosscrate.core.maps.soundness import faults
from mosscrate.core.sizes import counted

_TO_LBA = {0x06: 0x0E, 0x0B: 0x0C, 0x05: 0x0F}
_SMALL_FAT16 = 32 << 20


def probe(first: bytes) -> bool:
    """Whether sector 0 is a partition table rather than the boot sector of a bare volume."""
    if len(first) < SECTOR.itemsize:
        return False
    raw = Place("MBR", SECTOR, 0).read(first)
    entries = raw["entries"]
    if int(raw["signature"]) != SIGNATURE or not np.isin(entries["status"], (0, ACTIVE)).all():
        return False
    used = entries[(entries["type"] != 0) & (entries["sector_count"] != 0)]
    if len(used) == 0:
        return not _is_volume_boot_sector(first)
    return not bool((used["first_lba"] == 0).any())


def read(blocks: Blocks) -> PartitionMap:
    """The partitions of a medium: primaries first, logical drives after them. Raises FormatError."""
    origin = blocks.read(0, SECTOR.itemsize)
    at = Place("MBR", SECTOR, 0)
    raw = at.read(origin)
    at.require("signature", int(raw["signature"]), {SIGNATURE})
    partitions: list[Partition] = []
    findings: list[Finding] = []
    unit, chain = blocks.sector, []
    for number, entry in enumerate(raw["entries"], start=1):
        if not entry["type"] or not entry["sector_count"]:
            continue
        if int(entry["type"]) in EXTENDED:
            chain.append(int(entry["first_lba"]))
        partitions.append(partition_of(number, entry, 0, unit))
    for start in chain:
        try:
            partitions += logical.read(blocks, start, max(5, len(partitions) + 1), findings)
        except NotReadYet:
            findings.append(Finding(Severity.NOTE, "Its logical drives have not been read yet.", "partition map"))
    findings += faults((p for p in partitions if not is_extended(p)), blocks.size)
    beside = ahdi.count_beside(origin)
    if beside:
        findings.append(Finding(Severity.NOTE, f"The first sector also names {counted(beside, 'partition')} as "
                                "an AHDI root sector does, for machines of another family.", "partition map",
                                remedy="Partitions added here can overwrite those entries: they share their bytes."))
    geometry = geometry_in(raw, blocks.size // unit)
    return PartitionMap(MapKind.MBR, f"{int(raw['disk_signature']):08x}", tuple(partitions), unit,
                        tuple(findings), origin, heads=geometry.heads, sectors=geometry.sectors)


def new(size: int, sector: int, id: str, geometry: Geometry | None = None) -> PartitionMap:
    """An empty map; `id` is the disk signature as eight hexadecimal digits."""
    geometry = geometry or derived(size // sector)
    return PartitionMap(MapKind.MBR, id, (), sector, origin=build((), disk_signature=int(id, 16)), span=size,
                        heads=geometry.heads, sectors=geometry.sectors)


def room(map: PartitionMap, size: int) -> Room:
    """Where partitions can lie."""
    return Room(map.sector, min(size, LARGEST * map.sector) // map.sector * map.sector, map.sector)


def write(blocks: Blocks, map: PartitionMap) -> None:
    """Write the map: records of logical drives first, the first sector last.

    Boot code, disk signature and every entry that did not change stay as they were.
    Raises FitError before anything is written.
    """
    geometry = geometry_of(map)
    sector = first_sector(map, geometry)
    if not map.partitions and geometry != derived(blocks.size // map.sector):
        sector = _noting(sector, geometry)
    for at, record in logical.records(blocks, map, geometry):
        blocks.write(at, record)
    blocks.write(0, sector)


def first_sector(map: PartitionMap, geometry: Geometry) -> bytes:
    """The sector with the primaries of a map, all else from its origin. Raises FitError."""
    at = Place("MBR", SECTOR, 0)
    raw = at.read(map.origin or build((), disk_signature=0))
    at.put(raw, disk_signature=int(map.id, 16), signature=SIGNATURE)
    wanted = {p.index: p for p in map.partitions if p.index <= PRIMARIES}
    for number in range(1, PRIMARIES + 1):
        found = wanted.get(number)
        entry = raw["entries"][number - 1]
        if found is not None:
            put_entry(entry, found, 0, map.sector, geometry)
        elif entry["type"] and entry["sector_count"]:        # an unused one may hold what another map put there
            raw["entries"][number - 1] = np.zeros((), ENTRY)
    return bytes(raw.tobytes())


def _noting(sector: bytes, geometry: Geometry) -> bytes:
    """A first sector whose empty table tells in what geometry its entries are to be written."""
    place = Place("MBR", SECTOR, 0)
    raw = place.read(sector)
    raw["entries"][0]["chs_last"] = np.void(geometry.last)
    return bytes(raw.tobytes())


def type_for(kind: str, length: int, end: int, geometry: Geometry, *, sector: int = 512) -> str:
    """The type byte that says what a file system is, for a partition of `length` bytes that ends at `end`."""
    reaches = geometry.reaches(end // sector - 1)
    match kind:
        case "fat12":
            return "0x01"
        case "fat16" if length < _SMALL_FAT16 and reaches:
            return "0x04"
        case "fat16":
            return "0x06" if reaches else "0x0e"
        case "fat32":
            return "0x0b" if reaches else "0x0c"
        case "exfat" | "ntfs":
            return "0x07"
        case "swap":
            return "0x82"
        case "extended":
            return "0x05" if reaches else "0x0f"
        case _:
            return "0x83"


def retyped(partition: Partition, geometry: Geometry, *, sector: int = 512) -> Partition:
    """The same partition with a type that says that it leaves the reach of CHS, where it does."""
    kind = int(partition.type, 16)
    if geometry.reaches(partition.end // sector - 1):
        return partition
    far = _TO_LBA.get(kind & ~HIDDEN_BIT if kind & ~HIDDEN_BIT in HIDEABLE else kind, kind)
    if kind & HIDDEN_BIT and kind & ~HIDDEN_BIT in HIDEABLE:
        far |= HIDDEN_BIT
    return with_type(partition, f"0x{far:02x}")


def with_type(partition: Partition, type: str) -> Partition:
    """The same partition under another type; the flag "hidden" follows from it."""
    kind = int(type, 16)
    plain = kind & ~HIDDEN_BIT
    is_hidden = bool(kind & HIDDEN_BIT) and plain in HIDEABLE
    flags = tuple(f for f in partition.flags if f != "hidden") + (("hidden",) if is_hidden else ())
    return replace(partition, type=type, flags=flags, type_name=TYPES.get(plain if is_hidden else kind, "unknown"))


def flagged(partition: Partition, flag: str, *, is_set: bool) -> Partition:
    """Set or clear "active" or "hidden". Raises FitError for a flag or type that cannot have it."""
    if flag == "active":
        flags = tuple(f for f in partition.flags if f != "active")
        return replace(partition, flags=("active", *flags) if is_set else flags)
    plain = int(partition.type, 16) & ~HIDDEN_BIT
    if flag != "hidden" or plain not in HIDEABLE:
        raise FitError(f"Partition {partition.index} ({partition.type_name or partition.type}) cannot carry the "
                       f"flag “{flag}”.")
    return with_type(partition, f"0x{plain | HIDDEN_BIT if is_set else plain:02x}")


def build(partitions: Iterable[Partition], *, disk_signature: int, boot_code: bytes = b"",
          geometry: Geometry | None = None, sector: int = 512) -> bytes:
    """A fresh first sector. Partition types are hexadecimal text; raises FitError, FormatError."""
    place, geometry = Place("MBR", SECTOR, 0), geometry or Geometry()
    raw: Record = np.zeros((), SECTOR)
    place.put(raw, boot_code=boot_code.ljust(440, b"\0"), disk_signature=disk_signature, signature=SIGNATURE)
    for p in partitions:
        if not 1 <= p.index <= PRIMARIES:
            raise FitError(f"Partition {p.index} does not fit into the four entries of an MBR.")
        put_entry(raw["entries"][p.index - 1], p, 0, sector, geometry)
    return bytes(raw.tobytes())


def _is_volume_boot_sector(first: bytes) -> bool:
    """A jump, and a plausible BPB behind it (bytes a sector, clusters, reserved sectors, FATs, media)."""
    jumps = first[0] == 0xE9 or (first[0] == 0xEB and first[2] == 0x90)
    sector = int.from_bytes(first[11:13], "little")
    return bool(first[:3] == b"\xeb\x76\x90" or
                (jumps and sector in (512, 1024, 2048, 4096) and first[13] and first[21] >= 0xF0))


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """The sector, and the records of logical drives."""
    yield Declared(TITLE, SECTOR, 0)
    for at in sorted({p.record for p in map.partitions if p.record}):
        yield Declared("Extended boot record", SECTOR, at)


class Mbr(MapFormat):
    """See above; its second level are the logical drives."""

    kind = MapKind.MBR
    is_written = True
    flags = ("active", "hidden")
    within = "logical"
    limit = "an MBR counts sectors in 32 bits"

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
        """See MapFormat: the extended partition does."""
        return is_extended(partition)

    def new(self, size: int, sector: int, *, heads: int, sectors: int) -> PartitionMap:
        """See MapFormat."""
        if not (0 <= heads <= 255 and 0 <= sectors <= TRACK):
            raise FitError(f"An MBR counts in 1 to 255 heads and 1 to 63 sectors of a track, not {heads} and "
                           f"{sectors}.")
        usual = derived(size // sector)
        return new(size, sector, secrets.token_hex(4), Geometry(heads or usual.heads, sectors or usual.sectors))

    def write(self, blocks: Blocks, map: PartitionMap) -> None:
        """See MapFormat."""
        write(blocks, map)

    def room(self, map: PartitionMap, size: int) -> Room:
        """See MapFormat."""
        return room(map, size)

    def reach(self, map: PartitionMap) -> int:
        """See MapFormat."""
        return LARGEST * map.sector

    def own(self, map: PartitionMap, partition: Partition) -> int:
        """See MapFormat."""
        return map.sector if partition.index > PRIMARIES else 0

    def levels(self, map: PartitionMap, size: int) -> tuple[Level, ...]:
        """See MapFormat."""
        whole, outer = room(map, size), logical.container(map)
        first = Level(whole.first, whole.end, tuple(p for p in map.partitions if p.index <= PRIMARIES))
        if outer is None:
            return (first,)
        return (first, Level(outer.start, self._reach(map, outer, size), tuple(logical.drives(map)), map.sector))

    def level_for_new(self, map: PartitionMap, size: int, *, is_within: bool) -> Level:
        """See MapFormat."""
        levels = self.levels(map, size)
        return levels[-1] if is_within else levels[0]

    def prepared(self, map: PartitionMap, size: int, *, is_within: bool, alignment: int) -> PartitionMap:
        """See MapFormat: the extended partition is made, and stretched over the free room behind it."""
        return self.stretched(map, size) if is_within else map

    def free_index(self, map: PartitionMap, *, is_within: bool) -> int:
        """See MapFormat."""
        used = {p.index for p in map.partitions}
        if is_within:
            return max([PRIMARIES, *used]) + 1
        index = next((k for k in range(1, PRIMARIES + 1) if k not in used), None)
        if index is None:
            raise FitError("All four entries of the MBR are taken; a logical drive may still fit.")
        return index

    def type_for(self, map: PartitionMap, kind: str, start: int, length: int) -> str:
        """See MapFormat."""
        return type_for(kind, length, start + length, geometry_of(map), sector=map.sector)

    def made(self, map: PartitionMap, partition: Partition, label: str, *, is_within: bool) -> Partition:
        """See MapFormat."""
        return with_type(partition, partition.type)

    def numbered(self, map: PartitionMap) -> PartitionMap:
        """See MapFormat: logical drives count from 5 in the order in which they lie."""
        primaries = sorted((p for p in map.partitions if p.index <= PRIMARIES), key=lambda p: p.index)
        drives = [replace(p, index=PRIMARIES + k) for k, p in enumerate(logical.drives(map), start=1)]
        return replace(map, partitions=(*primaries, *drives))

    def without(self, map: PartitionMap, gone: Partition) -> tuple[Partition, ...]:
        """See MapFormat: an extended partition goes with its logical drives."""
        rest = super().without(map, gone)
        return tuple(p for p in rest if p.index <= PRIMARIES) if is_extended(gone) else rest

    def placed(self, map: PartitionMap, old: Partition, new: Partition, size: int) -> tuple[PartitionMap, Partition]:
        """See MapFormat."""
        new = retyped(new, geometry_of(map), sector=map.sector)
        return (self.stretched(map, size, to=new.end) if old.index > PRIMARIES else map), new

    def must_be_sound(self, map: PartitionMap, size: int) -> None:
        """See MapFormat."""
        outer, drives = logical.container(map), logical.drives(map)
        if outer is None:
            return
        for p in drives:
            if p.start <= outer.start or p.end > outer.end:
                raise FitError(f"Logical drive {p.index} would leave the extended partition.")
        logical.places_in(outer, drives, map.sector)          # each has a record in front of it

    def retyped(self, map: PartitionMap, old: Partition, type: str) -> Partition:
        """See MapFormat: hidden stays hidden."""
        made = with_type(old, type)
        return flagged(made, "hidden", is_set=True) if "hidden" in old.flags and int(type, 16) in HIDEABLE else made

    def flagged(self, map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
        """See MapFormat: only one primary can be active."""
        if flag == "active" and is_set:
            map = replace(map, partitions=tuple(flagged(p, "active", is_set=False) for p in map.partitions))
        return exchanged(map, flagged(map.partition(index), flag, is_set=is_set))

    def typed(self, old: Partition, type: str) -> Partition:
        """See MapFormat."""
        if is_extended(old):
            raise FitError(f"Partition {old.index} holds the logical drives; its type says so.")
        try:
            code = int(type, 16).to_bytes(1)
        except (ValueError, OverflowError):
            raise FitError(f"“{type}” is not a type of an MBR: two hexadecimal digits such as 0x0c.") from None
        if code[0] in EXTENDED:
            raise FitError("An extended partition is made with its first logical drive, not by a type.")
        return with_type(old, f"0x{code.hex()}")

    def as_it_was(self, map: PartitionMap, came: Partition, made: Partition) -> Partition:
        """See MapFormat."""
        if not (came.type.startswith("0x") and len(came.type) == 4):
            return made
        return retyped(with_type(made, came.type), geometry_of(map), sector=map.sector)

    def stretched(self, map: PartitionMap, size: int, *, to: int | None = None) -> PartitionMap:
        """The extended partition lengthened to `to`, or over all the free room behind it."""
        outer = logical.container(map)
        if outer is None:
            return map
        end = self._reach(map, outer, size)
        end = end if to is None else min(end, to)
        if end <= outer.end:
            return map
        length = (end - outer.start) // map.sector * map.sector
        return exchanged(map, retyped(replace(outer, length=length), geometry_of(map), sector=map.sector))

    @staticmethod
    def _reach(map: PartitionMap, outer: Partition, size: int) -> int:
        """How far the extended partition could reach."""
        behind = [p.start for p in map.partitions if p.index <= PRIMARIES and p.start >= outer.end]
        return min([*behind, room(map, size).end])
