"""A fresh FAT volume: boot sector, FSInfo, FATs and an empty root, nothing else.

Source: "FAT: General Overview of On-Disk Format" 1.03, §3. The boot code is left empty: the volume
does not boot by itself.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from mosscrate.core.binary import Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.maps import ahdi
from mosscrate.core.maps.geometry import Geometry as Counted
from mosscrate.core.sizes import binary, exact
from mosscrate.core.volumes.base import BARE, Seat
from mosscrate.core.volumes.clusters import END, FREE
from mosscrate.core.volumes.fat import directory, names
from mosscrate.core.volumes.fat.structures import (
    BOOT16,
    BOOT32,
    BOOT_GEMDOS,
    FSINFO,
    FSINFO_SIGNATURES,
    LEAST_GEMDOS,
    MAX_CLUSTERS,
    SIGNATURE,
    VOLUME_LABEL,
    FatType,
    Geometry,
)
from mosscrate.core.volumes.fat.table import encode
from mosscrate.core.volumes.signatures import FIRST_BYTES

MEDIA = 0xF8
RESERVED_32 = 32
ROOT_ENTRIES = 512
BACKUP_BOOT = 6
FLOPPIES = {                        # bytes of the disk: (sectors a cluster, root entries, media, of a track)
    368640: (2, 112, 0xFD, 9), 737280: (2, 112, 0xF9, 9), 819200: (2, 112, 0xF9, 10), 1228800: (1, 224, 0xF9, 15),
    1474560: (1, 224, 0xF0, 18), 2949120: (2, 240, 0xF0, 36)}
FLOPPY_HEADS = 2
GEMDOS_FLOPPIES, GEMDOS_FLOPPY_FAT = (737280, 819200), 5
MOST_GEMDOS = 32765                # clusters: its numbers are signed
_CLUSTERS_32 = ((260 << 20, 1), (8 << 30, 8), (16 << 30, 16), (32 << 30, 32))   # up to, sectors


def plan_geometry(size: int, type: FatType, *, cluster: int | None = None, sector: int = 512) -> Geometry:
    """The geometry of a fresh volume of `size` bytes. Raises FitError when the type cannot have it.

    Args:
        size: of the partition in bytes.
        type: of the FAT.
        cluster: bytes in a cluster; None takes what the size asks for.
        sector: bytes.
    """
    if cluster and (cluster not in range(sector, 128 * sector + 1) or cluster & (cluster - 1)):
        raise FitError(f"A FAT volume cannot have clusters of {exact(cluster)}: they are a power of two from "
                       f"{binary(sector)} to {binary(128 * sector)}.")
    sizes = [cluster // sector] if cluster else _cluster_sizes(size, type)
    total = min(size // sector, 2**32 - 1)
    reserved, root = (RESERVED_32, 0) if type == FatType.FAT32 else (1, ROOT_ENTRIES)
    if type == FatType.FAT12 and size in FLOPPIES and sector == 512:
        per_cluster, root, _, _ = FLOPPIES[size]
        sizes = sizes if cluster else [per_cluster]
    for cluster_sectors in sizes:
        geometry = Geometry(type, sector, cluster_sectors, reserved, 2, 1, root, total,
                            2 if type == FatType.FAT32 else 0)
        for _ in range(8):                             # the FAT's length and the cluster count settle
            geometry = replace(geometry, fat_sectors=geometry.fat_sectors_for(max(1, geometry.cluster_count)))
        lowest = {FatType.FAT12: 1, FatType.FAT16: MAX_CLUSTERS[FatType.FAT12] + 1, FatType.FAT32: 65525}[type]
        if geometry.cluster_count > MAX_CLUSTERS[type]:
            geometry = _ending_early(geometry, size)
        if lowest <= geometry.cluster_count <= MAX_CLUSTERS[type]:
            return geometry
    raise FitError(f"A FAT{int(type)} volume cannot be {binary(size)} large"
                   + (f" with clusters of {binary(cluster)}." if cluster else "."))


def _ending_early(geometry: Geometry, size: int) -> Geometry:
    """One with as many clusters as its type has, where that is only a little less than the room: 2 GiB of FAT16."""
    most = MAX_CLUSTERS[geometry.type]
    shorter = replace(geometry, fat_sectors=geometry.fat_sectors_for(most))
    shorter = replace(shorter, total_sectors=shorter.data_start + most * geometry.cluster_sectors)
    return shorter if shorter.size >= size - size // 500 else geometry


def make(blocks: Blocks, geometry: Geometry, *, label: str = "", volume_id: int, seat: Seat = BARE,
         modified: int | None = None, is_gemdos: bool = False) -> None:
    """Write an empty volume; one for GEMDOS carries no PC signature. Raises FitError, MediumError."""
    raw_label = names.as_label(label) if label else b"NO NAME    "
    g = geometry
    blocks.zero(0, min(blocks.size, max(FIRST_BYTES, g.data_start * g.sector)))
    boot = _boot_sector(g, raw_label, volume_id, seat).tobytes()
    if is_gemdos:
        boot = _for_gemdos(boot, volume_id)
    media = boot[BOOT16.fields["media"][1]]  # type: ignore[index]
    blocks.write(0, boot)
    root = b""
    if label:
        root = directory.short_entry(raw_label, attributes=VOLUME_LABEL, cluster=0, size=0, modified=modified)
    table = np.full(2, END, np.uint32)
    if g.type == FatType.FAT32:
        info = fsinfo(g.cluster_count - 1, 3)
        for base in (0, BACKUP_BOOT):
            blocks.write((base + 1) * g.sector, info)
        blocks.write(BACKUP_BOOT * g.sector, boot)
        blocks.zero(g.cluster_offset(2), g.cluster)
        blocks.write(g.cluster_offset(2), root)
        table = np.append(table, np.uint32(END))
    else:
        blocks.write(g.root_start * g.sector, root)
    mask = (1 << min(int(g.type), 28)) - 1
    for copy in range(g.fat_count):
        blocks.write(g.fat_offset(copy), encode(table, g.type, head=(mask & ~0xFF | media, mask)))
    assert FREE == 0, "the rest of the FAT was zeroed"


def plan_gemdos(size: int) -> Geometry:
    """A GEMDOS volume: two sectors a cluster, logical sectors as large as the count of clusters asks for."""
    for shift in range(6):
        sector = 512 << shift
        geometry = Geometry(FatType.FAT16, sector, 2, 1, 2, 1, ROOT_ENTRIES, min(size // sector, 65535))
        for _ in range(8):
            geometry = replace(geometry, fat_sectors=geometry.fat_sectors_for(max(1, geometry.cluster_count)))
        if size // sector <= 65535 and MAX_CLUSTERS[FatType.FAT12] < geometry.cluster_count <= MOST_GEMDOS:
            return geometry
    why = f"below {binary(LEAST_GEMDOS)} it would have so few clusters that other machines read its table otherwise" \
        if size < LEAST_GEMDOS else "it ends at 1 GiB"
    raise FitError(f"A GEMDOS volume cannot be {binary(size)} large: {why}.")


def plan_gemdos_floppy(size: int) -> Geometry:
    """A floppy of that system: 12-bit entries, two sectors a cluster, five sectors for a FAT as it lays them out."""
    if size not in GEMDOS_FLOPPIES:
        known = " or ".join(binary(s) for s in GEMDOS_FLOPPIES)
        raise FitError(f"A GEMDOS floppy has {known}, not {binary(size)}.")
    _, root, _, _ = FLOPPIES[size]
    return Geometry(FatType.FAT12, 512, 2, 1, 2, GEMDOS_FLOPPY_FAT, root, size // 512)


def carry_boot_code(blocks: Blocks, old: bytes) -> None:
    """Take what starts a machine from the boot sector of a volume of the same kind; what describes the volume stays.

    A sector of GEMDOS that its machine starts from goes on summing to 0x1234.
    """
    new = blocks.read(0, 512)
    is_fat32, is_pc = new[22:24] == b"\0\0", new[510:512] == b"\x55\xaa"
    if len(old) < 512 or (old[22:24] == b"\0\0") != is_fat32 or (old[510:512] == b"\x55\xaa") != is_pc:
        return
    dtype = BOOT32 if is_fat32 else BOOT16 if is_pc else BOOT_GEMDOS
    kept = ("jump", "oem_name", "boot_code") if is_pc else ("branch", "loader", "boot_code")
    raw, came = (np.frombuffer(data, dtype, count=1)[0].copy() for data in (new, old))
    for field in kept:
        raw[field] = came[field]
    sector = bytes(raw.tobytes())
    is_started_from = ahdi.is_bootable(old)
    if not is_pc and is_started_from != ahdi.is_bootable(sector):
        last = ahdi.BOOT_SUM - ahdi.word_sum(sector[:510]) + (0 if is_started_from else 1)
        sector = sector[:510] + (last & 0xFFFF).to_bytes(2, "big")
    blocks.write(0, sector)
    if is_fat32:
        blocks.write(BACKUP_BOOT * int(raw["bytes_per_sector"]), sector)


def fsinfo(free_count: int, next_free: int) -> bytes:
    """A FSInfo sector."""
    raw = np.zeros((), FSINFO)
    raw["lead_signature"], raw["struct_signature"], raw["trail_signature"] = FSINFO_SIGNATURES
    raw["free_count"], raw["next_free"] = free_count, next_free
    return bytes(raw.tobytes())


def _boot_sector(g: Geometry, label: bytes, volume_id: int, seat: Seat) -> Record:
    is_fat32 = g.type == FatType.FAT32
    raw = np.zeros((), BOOT32 if is_fat32 else BOOT16)
    counted = seat.geometry or Counted()
    is_small = g.total_sectors < 65536 and not is_fat32
    values: dict[str, int | np.void] = {
        "jump": np.void(b"\xeb\x58\x90" if is_fat32 else b"\xeb\x3c\x90"), "oem_name": np.void(b"MOSSCRAT"),
        "bytes_per_sector": g.sector, "sectors_per_cluster": g.cluster_sectors, "reserved_sectors": g.reserved,
        "fat_count": g.fat_count, "root_entries": g.root_entries, "media": MEDIA, "sectors_per_track": counted.sectors,
        "heads": counted.heads, "hidden_sectors": seat.first_sector, "drive_number": 0x80, "boot_signature": 0x29,
        "volume_id": volume_id, "label": np.void(label), "type_text": np.void(f"FAT{int(g.type)}   ".encode()),
        "signature": SIGNATURE, "total_sectors_16" if is_small else "total_sectors_32": g.total_sectors}
    if g.size in FLOPPIES and g.type == FatType.FAT12:
        _, _, values["media"], values["sectors_per_track"] = FLOPPIES[g.size]
        values |= {"heads": FLOPPY_HEADS, "drive_number": 0}
    if is_fat32:
        values |= {"fat_sectors_32": g.fat_sectors, "root_cluster": g.root_cluster, "fsinfo_sector": 1,
                   "backup_boot_sector": BACKUP_BOOT}
    else:
        values["fat_sectors_16"] = g.fat_sectors
    for field, value in values.items():
        raw[field] = value
    return raw


def _cluster_sizes(size: int, type: FatType) -> list[int]:
    """Sectors a cluster worth trying, the usual one first."""
    if type == FatType.FAT32:
        usual = next((sectors for limit, sectors in _CLUSTERS_32 if size <= limit), 64)
        return [usual, *(s for s in (64, 32, 16, 8, 4, 2, 1) if s < usual)]
    return [1, 2, 4, 8, 16, 32, 64]


def _for_gemdos(boot: bytes, volume_id: int) -> bytes:
    """The common fields alone, a branch in front, a 24-bit serial number; words that do not sum to 0x1234.

    Only a floppy names its tracks.
    """
    data = bytearray(boot[:0x1E].ljust(512, b"\0"))
    data[0:2], data[2:8], data[8:11] = b"\x60\x1c", b"MOSS  ", (volume_id & 0xFFFFFF).to_bytes(3, "little")
    if int.from_bytes(data[0x1A:0x1C], "little") != FLOPPY_HEADS:
        data[0x18:0x1E] = bytes(6)
    return bytes(data)
