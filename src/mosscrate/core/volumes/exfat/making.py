"""A fresh exFAT volume: both boot regions, FAT, bitmap, up-case table and an empty root.

Source: "exFAT file system specification" 1.00, §2 and §7. The heap starts on a 1 MiB boundary of
the volume where there is room for that; the slack in front of it lets the FAT grow later.
"""

from __future__ import annotations

import secrets

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import GIB, KIB, MIB, binary
from mosscrate.core.volumes.base import Making
from mosscrate.core.volumes.exfat import names
from mosscrate.core.volumes.exfat.structures import (
    BITMAP,
    BITMAP_ENTRY,
    BOOT,
    END_OF_CHAIN,
    ENTRY_SIZE,
    JUMP,
    LABEL,
    LABEL_ENTRY,
    MAX_CLUSTERS,
    MAX_LABEL,
    NAME,
    REGION_SECTORS,
    SIGNATURE,
    UPCASE,
    UPCASE_ENTRY,
    Geometry,
    boot_region,
)
from mosscrate.core.volumes.signatures import FIRST_BYTES

_CLUSTERS = ((256 * MIB, 4 * KIB), (32 * GIB, 32 * KIB))          # up to, bytes
LARGEST_CLUSTER = 128 * KIB
LEAST = 1 * MIB


def plan_geometry(size: int, sector: int, cluster: int | None) -> Geometry:
    """The geometry of a fresh volume of `size` bytes. Raises FitError."""
    unit = cluster or next((c for limit, c in _CLUSTERS if size <= limit), LARGEST_CLUSTER)
    if unit < sector or unit > 32 * MIB or unit & (unit - 1):
        raise FitError(f"An exFAT volume cannot have clusters of {binary(unit)}.")
    total = size // sector
    if size < LEAST:
        raise FitError(f"An exFAT volume has at least {binary(LEAST)}, not {binary(size)}.")
    step = unit // sector
    fat_start = 2 * REGION_SECTORS
    align = MIB // sector if size >= 64 * MIB else step
    if size >= 64 * MIB:
        fat_start = 64 * KIB // sector
    g = Geometry(sector, step, fat_start, 1, 1, fat_start + 1, max(1, total // step), 0, total)
    needed = g.fat_sectors_for(g.cluster_count)
    heap = -(-(fat_start + needed) // align) * align
    count = min((total - heap) // step, MAX_CLUSTERS)
    if count < 3 + names_clusters(unit):
        raise FitError(f"{binary(size)} are too few for an exFAT volume with clusters of {binary(unit)}.")
    g = Geometry(sector, step, fat_start, needed, 1, heap, count, 0, total)
    root = 2 + -(-g.bitmap_bytes // unit) + names_clusters(unit)
    return Geometry(sector, step, fat_start, needed, 1, heap, count, root, total)


def names_clusters(unit: int) -> int:
    """Clusters of the up-case table."""
    return -(-len(names.fresh_table()) // unit)


def make(blocks: Blocks, making: Making) -> None:
    """Make an empty volume over all of `blocks`. Raises FitError before anything is written, MediumError."""
    g = plan_geometry(blocks.size, max(512, blocks.sector), making.block)
    label = label_entry(making.label)
    try:
        serial = int(making.id.replace("-", ""), 16) if making.id else secrets.randbits(32)
    except ValueError:
        raise FitError(f"“{making.id}” is not a serial number such as 1A2B-3C4D.") from None
    table = names.fresh_table()
    bitmap_clusters, used = -(-g.bitmap_bytes // g.cluster), g.root_cluster - 1
    blocks.zero(0, max(FIRST_BYTES, g.cluster_offset(g.root_cluster + 1)))
    bits = np.zeros(g.cluster_count, bool)
    bits[:used] = True
    blocks.write(g.cluster_offset(2), np.packbits(bits, bitorder="little").tobytes())
    blocks.write(g.cluster_offset(2 + bitmap_clusters), table)
    blocks.write(g.cluster_offset(g.root_cluster),
                 label + special_entry(BITMAP, 2, g.bitmap_bytes)
                 + special_entry(UPCASE, 2 + bitmap_clusters, len(table), checksum=names.table_checksum(table)))
    fat = np.arange(1, used + 3, dtype="<u4")                # each of the three chains lies in one piece
    fat[0], fat[1] = 0xFFFFFFF8, 0xFFFFFFFF
    for last in (1 + bitmap_clusters, g.root_cluster - 1, g.root_cluster):
        fat[last] = END_OF_CHAIN
    blocks.write(g.fat_offset(0), fat[:g.root_cluster + 1].tobytes())
    region = boot_region(boot_sector(g, serial, making.seat.first_sector), b"", g.sector)
    blocks.write(REGION_SECTORS * g.sector, region)
    blocks.write(0, region)


def boot_sector(g: Geometry, serial: int, partition_offset: int) -> bytes:
    """The main boot sector, without boot code."""
    raw = np.zeros((), BOOT)
    for field, value in (
            ("jump", np.void(JUMP)), ("file_system_name", np.void(NAME)), ("partition_offset", partition_offset),
            ("volume_length", g.total_sectors), ("fat_offset", g.fat_start), ("fat_length", g.fat_sectors),
            ("cluster_heap_offset", g.heap_start), ("cluster_count", g.cluster_count),
            ("first_cluster_of_root", g.root_cluster), ("volume_serial_number", serial & 0xFFFFFFFF),
            ("file_system_revision", 0x0100), ("bytes_per_sector_shift", g.sector.bit_length() - 1),
            ("sectors_per_cluster_shift", g.cluster_sectors.bit_length() - 1), ("number_of_fats", 1),
            ("drive_select", 0x80), ("boot_code", np.void(b"\xf4" * 390)), ("boot_signature", SIGNATURE)):
        raw[field] = value
    return bytes(raw.tobytes())


def label_entry(label: str) -> bytes:
    """The 32-byte entry of a label; one that is marked as unused for "". Raises FitError."""
    units = label.encode("utf-16-le")
    if len(units) > 2 * MAX_LABEL or any(ord(c) < 32 for c in label):
        raise FitError(f"“{label}” cannot be an exFAT label: it holds {MAX_LABEL} characters at most.")
    raw = np.zeros((), LABEL_ENTRY)
    raw["type"], raw["count"] = LABEL if label else LABEL & 0x7F, len(units) // 2
    raw["label"] = np.void(units.ljust(22, b"\0"))
    return bytes(raw.tobytes())


def special_entry(type: int, first_cluster: int, length: int, *, checksum: int = 0) -> bytes:
    """The root's entry of the bitmap or of the up-case table."""
    raw = np.zeros((), BITMAP_ENTRY if type == BITMAP else UPCASE_ENTRY)
    raw["type"], raw["first_cluster"], raw["data_length"] = type, first_cluster, length
    if type == UPCASE:
        raw["checksum"] = checksum
    return bytes(raw.tobytes()).ljust(ENTRY_SIZE, b"\0")
