"""exFAT on disk: boot region, directory entries, and the geometry that follows.

Little-endian. Source: "exFAT file system specification" 1.00; § is its section.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.binary import Place, Record
from mosscrate.core.errors import FormatError

NAME = b"EXFAT   "
BOOT = np.dtype([                                            # §3.1, 512 bytes
    ("jump", "V3"), ("file_system_name", "V8"), ("must_be_zero", "V53"), ("partition_offset", "<u8"),
    ("volume_length", "<u8"), ("fat_offset", "<u4"), ("fat_length", "<u4"), ("cluster_heap_offset", "<u4"),
    ("cluster_count", "<u4"), ("first_cluster_of_root", "<u4"), ("volume_serial_number", "<u4"),
    ("file_system_revision", "<u2"), ("volume_flags", "<u2"), ("bytes_per_sector_shift", "u1"),
    ("sectors_per_cluster_shift", "u1"), ("number_of_fats", "u1"), ("drive_select", "u1"), ("percent_in_use", "u1"),
    ("reserved", "V7"), ("boot_code", "V390"), ("boot_signature", "<u2")])
JUMP, SIGNATURE = b"\xeb\x76\x90", 0xAA55
REGION_SECTORS = 12                                          # §2.1: main boot region, then its backup
EXTENDED_SIGNATURE = 0xAA550000
NOT_SUMMED = (106, 107, 112)                                 # §3.4: volume_flags and percent_in_use
ACTIVE_FAT, VOLUME_DIRTY = 1, 2

ENTRY_SIZE = 32
BITMAP_ENTRY = np.dtype([("type", "u1"), ("flags", "u1"), ("reserved", "V18"), ("first_cluster", "<u4"),
                         ("data_length", "<u8")])
UPCASE_ENTRY = np.dtype([("type", "u1"), ("reserved_1", "V3"), ("checksum", "<u4"), ("reserved_2", "V12"),
                         ("first_cluster", "<u4"), ("data_length", "<u8")])
LABEL_ENTRY = np.dtype([("type", "u1"), ("count", "u1"), ("label", "V22"), ("reserved", "V8")])
FILE_ENTRY = np.dtype([
    ("type", "u1"), ("secondary_count", "u1"), ("set_checksum", "<u2"), ("attributes", "<u2"), ("reserved_1", "<u2"),
    ("create", "<u4"), ("modify", "<u4"), ("access", "<u4"), ("create_10ms", "u1"), ("modify_10ms", "u1"),
    ("create_offset", "u1"), ("modify_offset", "u1"), ("access_offset", "u1"), ("reserved_2", "V7")])
STREAM_ENTRY = np.dtype([
    ("type", "u1"), ("flags", "u1"), ("reserved_1", "u1"), ("name_length", "u1"), ("name_hash", "<u2"),
    ("reserved_2", "<u2"), ("valid_data_length", "<u8"), ("reserved_3", "<u4"), ("first_cluster", "<u4"),
    ("data_length", "<u8")])
BITMAP, UPCASE, LABEL, FILE, STREAM, FILE_NAME = 0x81, 0x82, 0x83, 0x85, 0xC0, 0xC1
CAN_ALLOCATE, NO_FAT_CHAIN = 1, 2
READ_ONLY, IS_HIDDEN, SYSTEM, IS_FOLDER, ARCHIVE = 1, 2, 4, 16, 32
NAME_UNITS = 15                                              # UTF-16 units in one name entry
MAX_NAME, MAX_LABEL = 255, 11
MAX_FOLDER = 256 << 20                                       # §7.4: bytes of a directory
MAX_CLUSTERS = 0x0FFFFFF0                                    # that chains are followed through here
END_OF_CHAIN, BAD_CLUSTER = 0xFFFFFFFF, 0xFFFFFFF7


@dataclass(frozen=True)
class Geometry:
    """Where everything lies, in sectors from the start of the volume unless it says bytes."""

    sector: int                    # bytes
    cluster_sectors: int
    fat_start: int
    fat_sectors: int               # of one FAT
    fat_count: int
    heap_start: int
    cluster_count: int
    root_cluster: int
    total_sectors: int

    type = 32                      # bits of a FAT entry

    @property
    def cluster(self) -> int:
        """Bytes in a cluster."""
        return self.cluster_sectors * self.sector

    @property
    def size(self) -> int:
        """Bytes of the volume."""
        return self.total_sectors * self.sector

    @property
    def bitmap_bytes(self) -> int:
        """Bytes of the allocation bitmap."""
        return -(-self.cluster_count // 8)

    def fat_offset(self, copy: int) -> int:
        """Byte at which a copy of the FAT starts."""
        return (self.fat_start + copy * self.fat_sectors) * self.sector

    def cluster_offset(self, cluster: int) -> int:
        """Byte at which a cluster starts."""
        return (self.heap_start + (cluster - 2) * self.cluster_sectors) * self.sector

    def fat_sectors_for(self, clusters: int) -> int:
        """Sectors that a FAT of so many clusters needs at least."""
        return -(-(clusters + 2) * 4 // self.sector)


@dataclass(frozen=True)
class BootSector:
    """The main boot sector as read, and what follows from it."""

    geometry: Geometry
    raw: Record
    warnings: tuple[str, ...] = ()

    @property
    def active_fat(self) -> int:
        """The copy of the FAT (and bitmap) that counts; two exist only on TexFAT media."""
        return int(self.raw["volume_flags"]) & ACTIVE_FAT if self.geometry.fat_count == 2 else 0


def probe(first: bytes) -> bool:
    """Whether the first sector is that of an exFAT volume."""
    return first[3:11] == NAME


def parse_boot(sector: bytes, volume_size: int | None) -> BootSector:
    """Read the boot sector. Raises FormatError; `volume_size` None trusts it."""
    at = Place("exFAT boot sector", BOOT, 0)
    raw = at.read(sector)
    at.require("file_system_name", raw["file_system_name"].tobytes(), {NAME})
    at.require("boot_signature", int(raw["boot_signature"]), {SIGNATURE})
    shift = at.require("bytes_per_sector_shift", int(raw["bytes_per_sector_shift"]), range(9, 13))
    at.require("sectors_per_cluster_shift", int(raw["sectors_per_cluster_shift"]), range(25 - shift + 1))
    count = at.require("number_of_fats", int(raw["number_of_fats"]), {1, 2})
    at.require("file_system_revision", int(raw["file_system_revision"]) >> 8, {1}, "revision 1")
    clusters = at.require("cluster_count", int(raw["cluster_count"]), range(1, MAX_CLUSTERS))
    g = Geometry(1 << shift, 1 << int(raw["sectors_per_cluster_shift"]), int(raw["fat_offset"]),
                 int(raw["fat_length"]), count, int(raw["cluster_heap_offset"]), clusters,
                 int(raw["first_cluster_of_root"]), int(raw["volume_length"]))
    at.require("fat_offset", g.fat_start, range(2 * REGION_SECTORS, 2**32))
    if g.fat_sectors < g.fat_sectors_for(clusters):
        raise at.error("fat_length", g.fat_sectors, f"at least {g.fat_sectors_for(clusters)} sectors")
    if g.heap_start < g.fat_start + g.fat_count * g.fat_sectors:
        raise at.error("cluster_heap_offset", g.heap_start, "a heap behind the FAT")
    if g.cluster_offset(clusters + 2) > g.size:
        raise at.error("volume_length", g.total_sectors, "room for all clusters")
    at.require("first_cluster_of_root", g.root_cluster, range(2, clusters + 2))
    if volume_size is not None and g.cluster_offset(clusters + 2) > volume_size:
        raise at.error("volume_length", g.total_sectors, f"at most the {volume_size} bytes of the partition")
    warnings = () if volume_size is None or g.size <= volume_size else (
        f"The volume says that it is {g.size - volume_size} bytes longer than its partition.",)
    return BootSector(g, raw, warnings)


def boot_checksum(region: bytes, sector: int) -> int:
    """§3.4: over the first eleven sectors of a boot region."""
    total = 0
    for index, byte in enumerate(region[:11 * sector]):
        if index not in NOT_SUMMED:
            total = ((total >> 1) | (total & 1) << 31) + byte & 0xFFFFFFFF
    return total


def boot_region(boot: bytes, rest: bytes, sector: int) -> bytes:
    """Twelve sectors: the boot sector, what followed it (or fresh sectors for b""), and the checksum."""
    if not rest:
        extended = bytes(sector - 4) + EXTENDED_SIGNATURE.to_bytes(4, "little")
        rest = extended * 8 + bytes(2 * sector)
    region = boot.ljust(sector, b"\0") + rest
    return region + boot_checksum(region, sector).to_bytes(4, "little") * (sector // 4)


def set_checksums(sets: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """§6.3.3: checksums of entry sets of one length. Shape (n, bytes) to (n,)."""
    total = np.zeros(len(sets), np.uint16)
    for index in range(sets.shape[1]):
        if index not in (2, 3):
            rotated = (total >> np.uint16(1)) | (total << np.uint16(15))
            total = (rotated + sets[:, index]).astype(np.uint16)
    return total


def set_checksum(entry_set: bytes) -> int:
    """The same of one set."""
    total = 0
    for byte in entry_set[:2] + entry_set[4:]:
        total = ((total >> 1) | (total & 1) << 15) + byte & 0xFFFF
    return total


def must_be_whole(data: bytes, where: str) -> None:
    """Raises FormatError for a folder that is not made of entries."""
    if len(data) % ENTRY_SIZE:
        raise FormatError("exFAT folder", where, 0, len(data), "a multiple of 32 bytes")
