"""FAT volumes: boot sector, FSInfo and directory entries, and the geometry that follows from them.

Little-endian. Source: "FAT: General Overview of On-Disk Format" 1.03 (its "BPB"); field names as
there. The type follows from the count of clusters only, but a volume without BPB_FATSz16 is FAT32
whatever its size: that is how every driver lays it out.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import IntEnum

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.errors import FormatError

BOOT_COMMON = [
    ("jump", "V3"), ("oem_name", "V8"), ("bytes_per_sector", "<u2"), ("sectors_per_cluster", "u1"),
    ("reserved_sectors", "<u2"), ("fat_count", "u1"), ("root_entries", "<u2"), ("total_sectors_16", "<u2"),
    ("media", "u1"), ("fat_sectors_16", "<u2"), ("sectors_per_track", "<u2"), ("heads", "<u2"),
    ("hidden_sectors", "<u4"), ("total_sectors_32", "<u4")]
BOOT_TAIL = [
    ("drive_number", "u1"), ("state", "u1"), ("boot_signature", "u1"), ("volume_id", "<u4"),
    ("label", "V11"), ("type_text", "V8")]
BOOT16 = np.dtype([*BOOT_COMMON, *BOOT_TAIL, ("boot_code", "V448"), ("signature", "<u2")])
BOOT32 = np.dtype([
    *BOOT_COMMON, ("fat_sectors_32", "<u4"), ("ext_flags", "<u2"), ("version", "<u2"),
    ("root_cluster", "<u4"), ("fsinfo_sector", "<u2"), ("backup_boot_sector", "<u2"), ("reserved", "V12"),
    *BOOT_TAIL, ("boot_code", "V420"), ("signature", "<u2")])
BOOT_GEMDOS = np.dtype([("branch", "V2"), ("loader", "V6"), ("serial", "V3"), *BOOT_COMMON[2:-2],
                        ("hidden_sectors", "<u2"), ("boot_code", "V482")])             # 512 bytes
FSINFO = np.dtype([
    ("lead_signature", "<u4"), ("reserved_1", "V480"), ("struct_signature", "<u4"), ("free_count", "<u4"),
    ("next_free", "<u4"), ("reserved_2", "V12"), ("trail_signature", "<u4")])
FSINFO_SIGNATURES = (0x41615252, 0x61417272, 0xAA550000)
UNKNOWN = 0xFFFFFFFF
LEAST_GEMDOS = (1 + 2 * 16 + 32 + 2 * 4085) * 512  # boot sector, FATs, root, so many clusters that all count in 16 bits
LARGEST_GEMDOS = 65535 * 16384         # logical sectors are counted in 16 bits and have 16 KiB at most
DIRECTORY_ENTRY = np.dtype([
    ("name", "V11"), ("attributes", "u1"), ("case", "u1"), ("created_tenth", "u1"), ("created_time", "<u2"),
    ("created_date", "<u2"), ("accessed_date", "<u2"), ("cluster_high", "<u2"), ("written_time", "<u2"),
    ("written_date", "<u2"), ("cluster_low", "<u2"), ("size", "<u4")])
LONG_NAME = np.dtype([
    ("order", "u1"), ("name_1", "V10"), ("attributes", "u1"), ("type", "u1"), ("checksum", "u1"),
    ("name_2", "V12"), ("cluster_low", "<u2"), ("name_3", "V4")])
ENTRY_SIZE = 32
SECTORS = (512, 1024, 2048, 4096, 8192, 16384)     # the largest ones are GEMDOS's logical sectors
READ_ONLY, IS_HIDDEN, SYSTEM, VOLUME_LABEL, IS_FOLDER, ARCHIVE, IS_LONG_NAME = 1, 2, 4, 8, 16, 32, 15
SIGNATURE = 0xAA55
DIRTY_BIT = {16: 0x8000, 32: 0x0800_0000}      # in FAT[1]; set means: put away properly
MAX_DIRECTORY = 65536 * ENTRY_SIZE             # §6: a directory holds at most 65,536 entries


class FatType(IntEnum):
    """Bits of a FAT entry."""

    FAT12 = 12
    FAT16 = 16
    FAT32 = 32


MAX_CLUSTERS = {FatType.FAT12: 4084, FatType.FAT16: 65524, FatType.FAT32: 0x0FFFFFF5}


@dataclass(frozen=True)
class Geometry:
    """Where everything lies, in sectors from the start of the volume unless it says bytes."""

    type: FatType
    sector: int                    # bytes
    cluster_sectors: int
    reserved: int
    fat_count: int
    fat_sectors: int               # of one FAT
    root_entries: int              # 0 for FAT32
    total_sectors: int
    root_cluster: int = 0          # FAT32 only

    @property
    def root_sectors(self) -> int:
        """Length of the fixed root directory."""
        return -(-self.root_entries * ENTRY_SIZE // self.sector)

    @property
    def root_start(self) -> int:
        """First sector of the fixed root directory."""
        return self.reserved + self.fat_count * self.fat_sectors

    @property
    def data_start(self) -> int:
        """First sector of cluster 2."""
        return self.root_start + self.root_sectors

    @property
    def cluster_count(self) -> int:
        """Clusters of the data area: numbered 2 to cluster_count + 1."""
        return (self.total_sectors - self.data_start) // self.cluster_sectors

    @property
    def cluster(self) -> int:
        """Bytes in a cluster."""
        return self.cluster_sectors * self.sector

    @property
    def size(self) -> int:
        """Bytes of the volume."""
        return self.total_sectors * self.sector

    def fat_offset(self, copy: int) -> int:
        """Byte at which a copy of the FAT starts."""
        return (self.reserved + copy * self.fat_sectors) * self.sector

    def cluster_offset(self, cluster: int) -> int:
        """Byte at which a cluster starts."""
        return (self.data_start + (cluster - 2) * self.cluster_sectors) * self.sector

    def fat_sectors_for(self, clusters: int) -> int:
        """Sectors that a FAT of so many clusters needs at least."""
        return -(-((clusters + 2) * self.type + 7) // 8 // self.sector)


@dataclass(frozen=True)
class BootSector:
    """The boot sector as read, and what follows from it."""

    geometry: Geometry
    raw: Record                    # BOOT16 or BOOT32, 0-d
    warnings: tuple[str, ...] = ()

    @property
    def is_fat32(self) -> bool:
        """Whether the FAT32 fields are there."""
        return self.geometry.type == FatType.FAT32

    @property
    def is_gemdos(self) -> bool:
        """Whether it is of the big-endian family: no PC signature, two sectors a cluster, names of 8.3."""
        return not self.is_fat32 and _is_of_gemdos(self.raw)

    @property
    def is_floppy_shaped(self) -> bool:
        """Whether it names the tracks of a floppy and fills them."""
        return _is_floppy_shaped(self.raw, self.geometry.total_sectors)

    @property
    def volume_id(self) -> int:
        """Serial number; 0 where the fields are not there."""
        if self.is_gemdos:
            return int.from_bytes(self.raw["oem_name"].tobytes()[5:8], "little")   # bytes 8 to 10 of the sector
        return int(self.raw["volume_id"]) if int(self.raw["boot_signature"]) in (0x28, 0x29) else 0

    @property
    def label(self) -> bytes:
        """The 11 bytes of the boot sector's label."""
        return bytes(self.raw["label"].tobytes())

    @property
    def active_fat(self) -> int:
        """The copy that counts: only FAT32 can turn mirroring off (BPB_ExtFlags, bit 7)."""
        flags = int(self.raw["ext_flags"]) if self.is_fat32 else 0
        return min(flags & 15, self.geometry.fat_count - 1) if flags & 0x80 else 0


def probe(first: bytes) -> bool:
    """Whether the first sector is a plausible FAT boot sector."""
    if len(first) < 512:
        return False
    raw = np.frombuffer(first, BOOT16, count=1)[0]
    return (int(raw["bytes_per_sector"]) in SECTORS and _is_power(int(raw["sectors_per_cluster"]))
            and int(raw["reserved_sectors"]) > 0 and 1 <= int(raw["fat_count"]) <= 4
            and (int(raw["media"]) == 0xF0 or int(raw["media"]) >= 0xF8)
            and (int(raw["total_sectors_16"]) or int(raw["total_sectors_32"])) > 0)


def kind_of(first: bytes) -> str:
    """fat12, fat16 or fat32, from a first sector that `probe` knows; "fat" where it contradicts itself."""
    try:
        return f"fat{int(parse_boot(first, None).geometry.type)}"
    except FormatError:
        return "fat"


def parse_boot(sector: bytes, volume_size: int | None) -> BootSector:
    """Read the boot sector. Raises FormatError.

    Args:
        sector: at least its first 512 bytes.
        volume_size: bytes there are; None trusts the boot sector.
    """
    at = Place("FAT boot sector", BOOT16, 0)
    raw = at.read(sector)
    at.require("bytes_per_sector", int(raw["bytes_per_sector"]), set(SECTORS))
    at.require("sectors_per_cluster", int(raw["sectors_per_cluster"]), {1 << k for k in range(8)})
    at.require("fat_count", int(raw["fat_count"]), range(1, 5))
    at.require("reserved_sectors", int(raw["reserved_sectors"]), range(1, 65536))
    is_fat32 = int(raw["fat_sectors_16"]) == 0
    if is_fat32:
        at = Place("FAT32 boot sector", BOOT32, 0)
        raw = at.read(sector)
        at.require("fat_sectors_32", int(raw["fat_sectors_32"]), range(1, 2**32))
        at.require("version", int(raw["version"]), {0})
        at.require("root_entries", int(raw["root_entries"]), {0})
    else:
        at.require("root_entries", int(raw["root_entries"]), range(1, 65536))
    geometry, warnings = _geometry(raw, is_fat32=is_fat32), []
    clusters = geometry.cluster_count
    at.require("total_sectors_32", clusters, range(1, MAX_CLUSTERS[geometry.type] + 1),
               "room for at least one cluster, and no more than the type can number")
    capacity = geometry.fat_sectors * geometry.sector * 8 // geometry.type - 2
    if volume_size is not None and geometry.size > volume_size:
        if geometry.cluster_offset(2) > volume_size:
            raise at.error("total_sectors_32", geometry.total_sectors, f"at most {volume_size} bytes")
        warnings.append(f"The volume says that it is {geometry.size - volume_size} bytes longer than "
                        "its partition.")
        clusters = (volume_size // geometry.sector - geometry.data_start) // geometry.cluster_sectors
    if capacity < clusters:
        warnings.append("The FAT is too short for the volume; the clusters behind its end cannot be used.")
        clusters = capacity
    if clusters != geometry.cluster_count:
        at.require("fat_sectors", clusters, range(1, 2**32), "room for at least one cluster")
        geometry = _cut(geometry, clusters)
    if is_fat32:
        at.require("root_cluster", geometry.root_cluster, range(2, clusters + 2))
    return BootSector(geometry, raw, tuple(warnings))


def read_entries(data: bytes) -> np.ndarray[tuple[int], np.dtype[np.void]]:
    """A directory's bytes as its entries, up to the end mark. Shape (n,)."""
    entries = np.frombuffer(data, DIRECTORY_ENTRY, count=len(data) // ENTRY_SIZE)
    first = np.frombuffer(data, np.uint8)[:len(entries) * ENTRY_SIZE:ENTRY_SIZE]
    ends = np.flatnonzero(first == 0)
    return entries[:ends[0]] if len(ends) else entries


def _geometry(raw: Record, *, is_fat32: bool) -> Geometry:
    total = int(raw["total_sectors_16"]) or int(raw["total_sectors_32"])
    fat_sectors = int(raw["fat_sectors_32"] if is_fat32 else raw["fat_sectors_16"])
    plain = Geometry(FatType.FAT32, int(raw["bytes_per_sector"]), int(raw["sectors_per_cluster"]),
                     int(raw["reserved_sectors"]), int(raw["fat_count"]), fat_sectors,
                     int(raw["root_entries"]), total, int(raw["root_cluster"]) if is_fat32 else 0)
    if is_fat32:
        return plain
    is_fat12 = plain.cluster_count <= MAX_CLUSTERS[FatType.FAT12] and not _is_in_16_bits(raw, plain)
    return replace(plain, type=FatType.FAT12 if is_fat12 else FatType.FAT16)


def _is_of_gemdos(raw: Record) -> bool:
    """No PC signature, two sectors a cluster."""
    return int(raw["signature"]) != SIGNATURE and int(raw["sectors_per_cluster"]) == 2


def _is_floppy_shaped(raw: Record, total_sectors: int) -> bool:
    track, heads = int(raw["sectors_per_track"]), int(raw["heads"])
    return 8 <= track <= 42 and heads in (1, 2) and total_sectors % (track * heads) == 0


def _is_in_16_bits(raw: Record, small: Geometry) -> bool:
    """Whether a small volume was laid out by the hard-disk drivers of GEMDOS, which know no entries of 12 bits."""
    return _is_of_gemdos(raw) and not _is_floppy_shaped(raw, small.total_sectors) and \
        small.fat_sectors * small.sector >= 2 * (small.cluster_count + 2)


def _cut(geometry: Geometry, clusters: int) -> Geometry:
    """The same volume with fewer clusters, for reading what is there."""
    return replace(geometry, total_sectors=geometry.data_start + clusters * geometry.cluster_sectors)


def _is_power(number: int) -> bool:
    return number > 0 and number & (number - 1) == 0
