"""Master boot record: four entries in the first sector, logical drives in a chain of their own.

Little-endian. Sources: the partition table as published in the UEFI specification 2.10, 5.2.1;
extended boot records as in "FAT: General Overview of On-Disk Format". CHS fields hold head,
sector | cylinder bits 8-9, cylinder bits 0-7.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap

SIGNATURE = 0xAA55
ENTRY = np.dtype([                        # 16 bytes
    ("status", "u1"),                     # 0x80: active
    ("chs_first", "V3"), ("type", "u1"), ("chs_last", "V3"),
    ("first_lba", "<u4"), ("sector_count", "<u4")])
SECTOR = np.dtype([                       # 512 bytes
    ("boot_code", "V440"), ("disk_signature", "<u4"), ("reserved", "<u2"),
    ("entries", ENTRY, 4), ("signature", "<u2")])
ACTIVE = 0x80
CHS_BEYOND = bytes((0xFE, 0xFF, 0xFF))    # for sectors that CHS cannot name
MAX_CYLINDERS = 1024
LARGEST = 2**32 - 1                       # sectors: start and length are 32-bit fields
MAX_LOGICAL = 128
EXTENDED = {0x05, 0x0F, 0x85}
HIDDEN_BIT = 0x10
HIDEABLE = {0x01, 0x04, 0x06, 0x07, 0x0B, 0x0C, 0x0E}
TYPES = {
    0x01: "FAT12", 0x04: "FAT16 below 32 MiB", 0x05: "extended", 0x06: "FAT16", 0x07: "exFAT or NTFS",
    0x0B: "FAT32", 0x0C: "FAT32 (LBA)", 0x0E: "FAT16 (LBA)", 0x0F: "extended (LBA)", 0x82: "Linux swap",
    0x83: "Linux", 0xEE: "GPT protective", 0xEF: "EFI system", 0x8E: "Linux LVM", 0xA5: "BSD"}
_TO_LBA = {0x06: 0x0E, 0x0B: 0x0C}


@dataclass(frozen=True)
class Geometry:
    """Heads and sectors of a track that CHS fields are counted in."""

    heads: int = 255
    sectors: int = 63

    def chs(self, lba: int) -> bytes:
        """The three bytes for a sector, or the mark for one that is out of reach."""
        cylinder, rest = divmod(lba, self.heads * self.sectors)
        if cylinder >= MAX_CYLINDERS:
            return CHS_BEYOND
        head, sector = divmod(rest, self.sectors)
        return bytes((head, sector + 1 | cylinder >> 2 & 0xC0, cylinder & 0xFF))


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
        partitions.append(_partition(number, entry, 0, unit))
    for start in chain:
        partitions += _logical(blocks, start, max(5, len(partitions) + 1), findings)
    findings += _faults(partitions, blocks.size)
    return PartitionMap(MapKind.MBR, f"{int(raw['disk_signature']):08x}", tuple(partitions), unit,
                        tuple(findings), origin)


def geometry_of(map: PartitionMap) -> Geometry:
    """The geometry that the entries were written with; 255 heads, 63 sectors where none is told."""
    raw = Place("MBR", SECTOR, 0).read(map.origin)
    for entry in raw["entries"]:
        last = entry["chs_last"].tobytes()
        end = int(entry["first_lba"]) + int(entry["sector_count"]) - 1
        if entry["type"] and last != CHS_BEYOND and last[1] & 63:
            guess = Geometry(last[0] + 1, last[1] & 63)       # partitions mostly end with a cylinder
            if guess.chs(end) == last:
                return guess
    return Geometry()


def resized(map: PartitionMap, index: int, length: int, *, type: int | None = None) -> bytes:
    """The sector with one primary's length in bytes (and type) changed, everything else kept.

    Raises FitError where 32-bit sector numbers do not reach, FormatError for an unknown index.
    """
    if not 1 <= index <= 4:
        raise FitError(f"Partition {index} is a logical drive; only primary partitions can be sized so far.")
    at = Place("MBR", SECTOR, 0)
    raw = at.read(map.origin)
    entry = raw["entries"][index - 1]
    first, count = int(entry["first_lba"]), length // map.sector
    if count > LARGEST or first + count > LARGEST:
        raise FitError("An MBR counts sectors in 32 bits: a partition must end below "
                       f"{LARGEST * map.sector} bytes.")
    kind = int(entry["type"]) if type is None else type
    last = geometry_of(map).chs(first + count - 1)
    if last == CHS_BEYOND:
        kind = _TO_LBA.get(kind & ~HIDDEN_BIT, kind & ~HIDDEN_BIT) | kind & HIDDEN_BIT
    entry["sector_count"], entry["type"], entry["chs_last"] = count, kind, np.void(last)
    return raw.tobytes()


def build(partitions: tuple[Partition, ...], *, disk_signature: int, boot_code: bytes = b"",
          geometry: Geometry | None = None, sector: int = 512) -> bytes:
    """A fresh first sector. Partition types are hexadecimal text; raises FitError, FormatError."""
    place, geometry = Place("MBR", SECTOR, 0), geometry or Geometry()
    raw: Record = np.zeros((), SECTOR)
    place.put(raw, boot_code=boot_code.ljust(440, b"\0"), disk_signature=disk_signature, signature=SIGNATURE)
    for p in partitions:
        first, count = p.start // sector, p.length // sector
        if not 1 <= p.index <= 4 or first + count > LARGEST:
            raise FitError(f"Partition {p.index} does not fit into the four entries of an MBR.")
        raw["entries"][p.index - 1] = (
            ACTIVE if "active" in p.flags else 0, np.void(geometry.chs(first)), int(p.type, 16),
            np.void(geometry.chs(first + count - 1)), first, count)
    return raw.tobytes()


def _partition(number: int, entry: Record | np.void, base: int, unit: int) -> Partition:
    kind = int(entry["type"])
    plain = kind & ~HIDDEN_BIT
    is_hidden = kind & HIDDEN_BIT and plain in HIDEABLE
    flags = (("active",) if entry["status"] == ACTIVE else ()) + (("hidden",) if is_hidden else ())
    name = TYPES.get(plain if is_hidden else kind, "unknown")
    return Partition(number, (base + int(entry["first_lba"])) * unit, int(entry["sector_count"]) * unit,
                     f"0x{kind:02x}", name, flags=flags)


def _logical(blocks: Blocks, extended: int, number: int, findings: list[Finding]) -> list[Partition]:
    """Follow the chain of extended boot records; a loop or a lie ends it with a finding."""
    found: list[Partition] = []
    seen, at = set(), extended
    while at not in seen and len(found) < MAX_LOGICAL and (at + 1) * blocks.sector <= blocks.size:
        seen.add(at)
        raw = Place("extended boot record", SECTOR, at * blocks.sector).read(
            blocks.read(at * blocks.sector, SECTOR.itemsize))
        if int(raw["signature"]) != SIGNATURE:
            break
        drive, link = raw["entries"][0], raw["entries"][1]
        if drive["type"] and drive["sector_count"]:
            found.append(_partition(number + len(found), drive, at, blocks.sector))
        if int(link["type"]) not in EXTENDED or not link["sector_count"]:
            return found
        at = extended + int(link["first_lba"])
    findings.append(Finding(Severity.PROBLEM, f"The chain of logical drives breaks at sector {at}.",
                            "partition map", remedy="The drives before that place are shown and intact."))
    return found


def _faults(partitions: list[Partition], size: int) -> list[Finding]:
    found = []
    real = sorted((p for p in partitions if int(p.type, 16) not in EXTENDED), key=lambda p: p.start)
    for p in real:
        if p.end > size:
            found.append(Finding(
                Severity.PROBLEM, f"Partition {p.index} ends {p.end - size} bytes behind the end of the medium.",
                "partition map", p.index, "The image may be cut short, or the card smaller than the original."))
    for a, b in pairwise(real):
        if b.start < a.end:
            found.append(Finding(Severity.PROBLEM, f"Partitions {a.index} and {b.index} overlap.",
                                 "partition map", b.index))
    return found


def _is_volume_boot_sector(first: bytes) -> bool:
    """A jump, and a plausible BPB behind it (bytes a sector, clusters, reserved sectors, FATs, media)."""
    jumps = first[0] == 0xE9 or (first[0] == 0xEB and first[2] == 0x90)
    sector = int.from_bytes(first[11:13], "little")
    return bool(first[:3] == b"\xeb\x76\x90" or
                (jumps and sector in (512, 1024, 2048, 4096) and first[13] and first[21] >= 0xF0))
