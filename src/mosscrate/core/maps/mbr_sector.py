"""The sector of an MBR and of every record of its chain: four entries, their types, flags and CHS fields.

Little-endian. Source: UEFI specification 2.10, 5.2.1. CHS fields hold head, sector | cylinder bits 8-9,
cylinder bits 0-7.
"""

from __future__ import annotations

import numpy as np

from mosscrate.core.binary import Record
from mosscrate.core.errors import FitError
from mosscrate.core.maps.base import Partition, PartitionMap
from mosscrate.core.maps.geometry import Geometry, derived, read_off

TITLE = "Master boot record"
SIGNATURE = 0xAA55
ENTRY = np.dtype([                        # 16 bytes
    ("status", "u1"),                     # 0x80: active
    ("chs_first", "V3"), ("type", "u1"), ("chs_last", "V3"),
    ("first_lba", "<u4"), ("sector_count", "<u4")])
SECTOR = np.dtype([                       # 512 bytes
    ("boot_code", "V440"), ("disk_signature", "<u4"), ("reserved", "<u2"),
    ("entries", ENTRY, 4), ("signature", "<u2")])
ACTIVE = 0x80
LARGEST = 2**32 - 1                       # sectors: start and length are 32-bit fields
MAX_LOGICAL = 128
PRIMARIES = 4
EXTENDED = {0x05, 0x0F, 0x85}
HIDDEN_BIT = 0x10
HIDEABLE = {0x01, 0x04, 0x06, 0x07, 0x0B, 0x0C, 0x0E}
TYPES = {
    0x01: "FAT12", 0x04: "FAT16 below 32 MiB", 0x05: "extended", 0x06: "FAT16", 0x07: "exFAT or NTFS",
    0x0B: "FAT32", 0x0C: "FAT32 (LBA)", 0x0E: "FAT16 (LBA)", 0x0F: "extended (LBA)", 0x82: "Linux swap",
    0x83: "Linux", 0xEE: "GPT protective", 0xEF: "EFI system", 0x8E: "Linux LVM", 0xA5: "BSD"}


def is_extended(partition: Partition) -> bool:
    """Whether it only holds logical drives."""
    return partition.type.startswith("0x") and int(partition.type, 16) in EXTENDED


def put_entry(entry: Record | np.void, partition: Partition, base: int, sector: int, geometry: Geometry) -> None:
    """Fill one entry; `base` is the sector that its first_lba counts from. Raises FitError."""
    first, count = partition.start // sector, partition.length // sector
    if count > LARGEST or first + count > LARGEST or count == 0:
        raise FitError("An MBR counts sectors in 32 bits: a partition must end below "
                       f"{LARGEST * sector} bytes.")
    kind = int(partition.type, 16)
    entry["status"] = ACTIVE if "active" in partition.flags else 0
    if (int(entry["first_lba"]) + base, int(entry["sector_count"]), int(entry["type"])) == (first, count, kind):
        return
    entry["first_lba"], entry["sector_count"], entry["type"] = first - base, count, kind
    entry["chs_first"] = np.void(geometry.chs(first))
    entry["chs_last"] = np.void(geometry.chs(first + count - 1))


def geometry_of(map: PartitionMap) -> Geometry:
    """The geometry that its entries are written in; 255 heads, 63 sectors where none is told."""
    return Geometry(map.heads, map.sectors) if map.heads and map.sectors else Geometry()


def geometry_in(raw: Record, size: int) -> Geometry:
    """The geometry that a sector's entries tell, on a medium of so many sectors; an empty table may note it."""
    used = [e for e in raw["entries"] if e["type"] and e["sector_count"]]
    note = raw["entries"][0]["chs_last"].tobytes()
    if not used and note[1] & 63 and note == Geometry(note[0] + 1 if note[0] < 255 else 255, note[1] & 63).last:
        return Geometry(note[0] + 1, note[1] & 63)
    fields = [(int(e["first_lba"]) + more, e[field].tobytes()) for e in used
              for field, more in (("chs_first", 0), ("chs_last", int(e["sector_count"]) - 1))]
    return read_off(fields, derived(size))


def partition_of(number: int, entry: Record | np.void, base: int, unit: int) -> Partition:
    """An entry as a partition; `base` is the sector it counts from, `unit` bytes in a sector."""
    kind = int(entry["type"])
    plain = kind & ~HIDDEN_BIT
    is_hidden = kind & HIDDEN_BIT and plain in HIDEABLE
    flags = (("active",) if entry["status"] == ACTIVE else ()) + (("hidden",) if is_hidden else ())
    name = TYPES.get(plain if is_hidden else kind, "unknown")
    return Partition(number, (base + int(entry["first_lba"])) * unit, int(entry["sector_count"]) * unit,
                     f"0x{kind:02x}", name, flags=flags)
