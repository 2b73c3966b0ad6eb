"""Master boot record: four entries in the first sector, logical drives in a chain of their own.

Little-endian. Sources: the partition table as published in the UEFI specification 2.10, 5.2.1;
extended boot records as in "FAT: General Overview of On-Disk Format". CHS fields hold head,
sector | cylinder bits 8-9, cylinder bits 0-7. `logical` has the chain.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import ahdi, logical
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.mbr_sector import (
    ACTIVE as ACTIVE,
)
from mosscrate.core.maps.mbr_sector import (
    CHS_BEYOND as CHS_BEYOND,
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
    MAX_CYLINDERS as MAX_CYLINDERS,
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
    Geometry as Geometry,
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
        partitions += logical.read(blocks, start, max(5, len(partitions) + 1), findings)
    findings += faults((p for p in partitions if not is_extended(p)), blocks.size)
    beside = ahdi.count_beside(origin)
    if beside:
        findings.append(Finding(Severity.NOTE, f"The first sector also names {counted(beside, 'partition')} as "
                                "an AHDI root sector does, for machines of another family.", "partition map",
                                remedy="Partitions added here can overwrite those entries: they share their bytes."))
    return PartitionMap(MapKind.MBR, f"{int(raw['disk_signature']):08x}", tuple(partitions), unit,
                        tuple(findings), origin)


def new(size: int, sector: int, id: str) -> PartitionMap:
    """An empty map; `id` is the disk signature as eight hexadecimal digits."""
    return PartitionMap(MapKind.MBR, id, (), sector, origin=build((), disk_signature=int(id, 16)), span=size)


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
