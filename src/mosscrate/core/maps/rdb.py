"""Rigid disk block: the map of big-endian home computers, a chain of blocks at the start of the drive.

Big-endian. Source: the published include "devices/hardblocks.h": RDSK in one of the first 16 blocks, PART
blocks for partitions, FSHD and LSEG for embedded file-system code, BADB for bad blocks. The longs of
every block sum to zero over SummedLongs. Partitions are counted in cylinders of their own geometry.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import mbr
from mosscrate.core.maps.base import Environment, MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.soundness import faults, of_another_family
from mosscrate.core.sizes import counted, exact

END = 0xFFFFFFFF
RDSK = np.dtype([
    ("id", "V4"), ("summed_longs", ">u4"), ("checksum", ">i4"), ("host_id", ">u4"), ("block_bytes", ">u4"),
    ("flags", ">u4"), ("bad_block_list", ">u4"), ("partition_list", ">u4"), ("file_sys_header_list", ">u4"),
    ("drive_init", ">u4"), ("reserved_1", "V24"), ("cylinders", ">u4"), ("sectors", ">u4"), ("heads", ">u4"),
    ("interleave", ">u4"), ("park", ">u4"), ("reserved_2", "V12"), ("write_precomp", ">u4"), ("reduced_write", ">u4"),
    ("step_rate", ">u4"), ("reserved_3", "V20"), ("rdb_blocks_lo", ">u4"), ("rdb_blocks_hi", ">u4"),
    ("lo_cylinder", ">u4"), ("hi_cylinder", ">u4"), ("cyl_blocks", ">u4"), ("auto_park_seconds", ">u4"),
    ("high_rdsk_block", ">u4"), ("reserved_4", ">u4"), ("disk_vendor", "V8"), ("disk_product", "V16"),
    ("disk_revision", "V4"), ("controller_vendor", "V8"), ("controller_product", "V16"),
    ("controller_revision", "V4"), ("reserved_5", "V40")])                          # 256 bytes
PART = np.dtype([
    ("id", "V4"), ("summed_longs", ">u4"), ("checksum", ">i4"), ("host_id", ">u4"), ("next", ">u4"), ("flags", ">u4"),
    ("reserved_1", "V8"), ("dev_flags", ">u4"), ("drive_name", "V32"), ("reserved_2", "V60"),
    ("table_size", ">u4"), ("size_block", ">u4"), ("sec_org", ">u4"), ("surfaces", ">u4"), ("sectors_per_block", ">u4"),
    ("blocks_per_track", ">u4"), ("reserved", ">u4"), ("pre_alloc", ">u4"), ("interleave", ">u4"), ("low_cyl", ">u4"),
    ("high_cyl", ">u4"), ("num_buffers", ">u4"), ("buf_mem_type", ">u4"), ("max_transfer", ">u4"), ("mask", ">u4"),
    ("boot_pri", ">i4"), ("dos_type", "V4"), ("baud", ">u4"), ("control", ">u4"), ("boot_blocks", ">u4"),
    ("reserved_3", "V48")])                                                         # 256 bytes
BADB = np.dtype([("id", "V4"), ("summed_longs", ">u4"), ("checksum", ">i4"), ("host_id", ">u4"), ("next", ">u4"),
                 ("reserved", ">u4"), ("pairs", [("bad_block", ">u4"), ("good_block", ">u4")], 61)])    # 512 bytes
SEARCHED = 16                          # blocks in which RDSK may stand
SUMMED = 64
BOOTABLE, NO_MOUNT = 1, 2
MOST = 128                             # partitions; a longer chain is a loop or a lie
HEADS, SECTORS = 16, 63                # a geometry that every driver of these machines takes
NO_VOLUME = "0x444f5303"               # for a partition that nothing is on yet: its machine offers to format it
_NAMES = ("OFS", "FFS", "OFS international", "FFS international", "OFS with directory cache",
          "FFS with directory cache", "OFS with long names", "FFS with long names")


def probe(first: bytes) -> bool:
    """Whether one of the first 16 blocks is an RDSK whose checksum is right."""
    return _find(first) is not None


def read(blocks: Blocks) -> PartitionMap:
    """The partitions in the order of their chain. Raises FormatError, MediumError."""
    first = blocks.read(0, min(blocks.size, SEARCHED * 512))
    place = _find(first)
    if place is None:
        raise FormatError("RDB", "id", 0, first[:4], "RDSK in one of the first 16 blocks")
    head = Place("RDSK", RDSK, place * 512).read(first[place * 512:])
    at = Place("RDSK", RDSK, place * 512)
    unit = at.require("block_bytes", int(head["block_bytes"]), {512, 1024, 2048, 4096})
    findings: list[Finding] = []
    partitions = list(_chain(blocks, int(head["partition_list"]), unit, findings))
    end = (int(head["hi_cylinder"]) + 1) * int(head["cyl_blocks"]) * unit
    if end > blocks.size:
        findings.append(Finding(Severity.WARNING, f"The map counts with a drive that is {exact(end - blocks.size)} "
                                "longer than this medium.", "partition map",
                                remedy="The image may be cut short, or the card smaller than the original."))
    findings += faults(partitions, blocks.size)
    if place and mbr.probe(first):
        count = len(mbr.read(blocks).partitions)
        findings.append(Finding(Severity.NOTE, f"The first sector holds an MBR too ({counted(count, 'partition')}), "
                                "for machines of another family.", "partition map",
                                remedy="It is left as it is; the two maps do not know of each other."))
    is_whole = 0 < int(head["cyl_blocks"]) <= blocks.size // unit
    if not is_whole:
        findings.append(Finding(Severity.WARNING, "The map does not say how many blocks a cylinder of the drive has; "
                                "its partitions are left as they are.", "partition map"))
    findings.append(of_another_family(findings))
    area = min(blocks.size, max(SEARCHED, int(head["rdb_blocks_hi"]) + 1) * unit, 4 << 20)
    origin = blocks.read(0, area) if is_whole else b""     # without it nothing is changed
    return PartitionMap(MapKind.RDB, "", tuple(partitions), unit, tuple(findings), origin, end)


def tracks(map: PartitionMap) -> tuple[int, int]:
    """(heads, sectors of a track) of the drive that a map counts in; zeros where it is not whole."""
    place = _find(map.origin) if map.origin else None
    if place is None:
        return 0, 0
    head = Place("RDSK", RDSK, place * 512).read(map.origin[place * 512:])
    return int(head["heads"]), int(head["sectors"])


def new(size: int, heads: int = HEADS, sectors: int = SECTORS) -> PartitionMap:
    """An empty map for a drive of `size` bytes, its first cylinders kept for the map itself.

    `heads` and `sectors` of a track are the geometry that partitions are counted in. Raises FitError.
    """
    if not (0 < heads <= 255 and 0 < sectors <= 255):
        raise FitError(f"A drive has 1 to 255 heads and 1 to 255 sectors in a track, not {heads} and {sectors}.")
    cylinder = heads * sectors
    cylinders, own = size // 512 // cylinder, max(2, -(-2 * SEARCHED // cylinder))
    if cylinders < own + 2:
        raise FitError("The drive is too small for a map of this kind.")
    raw = np.zeros((), RDSK)
    for field, value in (
            ("id", np.void(b"RDSK")), ("summed_longs", SUMMED), ("host_id", 7), ("block_bytes", 512), ("flags", 0x17),
            ("bad_block_list", END), ("partition_list", END), ("file_sys_header_list", END), ("drive_init", END),
            ("reserved_1", np.void(b"\xff" * 24)), ("cylinders", cylinders), ("sectors", sectors), ("heads", heads),
            ("interleave", 1), ("park", cylinders), ("write_precomp", cylinders), ("reduced_write", cylinders),
            ("step_rate", 3), ("rdb_blocks_lo", 0), ("rdb_blocks_hi", own * cylinder - 1), ("lo_cylinder", own),
            ("hi_cylinder", cylinders - 1), ("cyl_blocks", cylinder), ("high_rdsk_block", 0),
            ("disk_vendor", np.void(b"MOSSCRAT")), ("disk_product", np.void(b"DRIVE".ljust(16))),
            ("disk_revision", np.void(b"1   "))):
        raw[field] = value
    return PartitionMap(MapKind.RDB, "", (), 512, origin=sealed(raw).ljust(own * cylinder * 512, b"\0"), span=size)


def room(map: PartitionMap, size: int) -> Room:
    """Where partitions can lie: behind the cylinders of the map, in whole cylinders of the medium."""
    head = head_of(map)[1]
    cylinder = int(head["cyl_blocks"]) * map.sector
    return Room(int(head["lo_cylinder"]) * cylinder, size // cylinder * cylinder, cylinder)


def write(blocks: Blocks, map: PartitionMap) -> None:
    """Write the chain and the RDSK, which goes last. Bad-block lists stay where they are; `rdb_code` writes its own.

    Raises FitError where a partition does not lie on cylinders, or the map has no room for its block.
    """
    place, head = head_of(map)
    whole = room(map, blocks.size)
    free = iter(free_blocks(map, place, head))
    chain: list[tuple[int, Record]] = []
    for p in map.partitions:
        if not p.record and (p.start % whole.unit or p.length % whole.unit or p.start < whole.first
                             or p.end > whole.end):                # an older one may count in cylinders of its own
            raise FitError(f"Partition {p.index} must lie on whole cylinders of {whole.unit} bytes.")
        number = p.record // map.sector if p.record else next(free, None)
        if number is None:
            raise FitError("The map has no free block left for another partition.")
        chain.append((number, _part(map, head, p)))
    old = {p.record // map.sector for p in map.partitions if p.record}
    for (number, raw), following in zip(chain, (*(n for n, _ in chain[1:]), END), strict=False):
        raw["next"], is_old = following, number in old
        base = number * map.sector
        blocks.write(base, sealed(raw, map.origin[base:base + 512] if is_old else b""))
    head["partition_list"] = chain[0][0] if chain else END
    head["high_rdsk_block"] = max([int(head["high_rdsk_block"]), *(n for n, _ in chain)])
    last = whole.end // whole.unit - 1
    if last > int(head["hi_cylinder"]):                     # the image has come onto a larger card
        head["hi_cylinder"], head["cylinders"] = last, last + 1
    blocks.write(place * 512, sealed(head, map.origin[place * 512:place * 512 + 512]))


def dos_type_name(dos_type: bytes) -> str:
    """What a DosType stands for, in words; the type itself for those that are not known."""
    if dos_type[:3] == b"DOS" and dos_type[3] < len(_NAMES):
        return _NAMES[dos_type[3]]
    return dos_type_text(dos_type)


def dos_type_text(dos_type: bytes) -> str:
    """A DosType as its people write it: DOS\\3."""
    text = dos_type[:3].decode("latin-1")
    return f"{text}\\{dos_type[3]}" if text.isprintable() else f"0x{dos_type.hex()}"


def dos_type_of(text: str) -> bytes:
    """The four bytes of a DosType such as "0x50465303". Raises FitError."""
    try:
        return int(text, 16).to_bytes(4, "big")
    except (ValueError, OverflowError):
        raise FitError(f"“{text}” is not a DosType: eight hexadecimal digits such as 0x444f5303.") from None


def type_for(kind: str) -> str:
    """The DosType of a kind of volume, as the map's partitions carry it."""
    from mosscrate.core.maps.dostypes import DOS_TYPES
    if not kind:
        return NO_VOLUME
    if kind not in DOS_TYPES:
        raise FitError(f"A drive with this map does not carry {kind}; it takes {', '.join(DOS_TYPES)}.")
    return f"0x{(b'DOS' + bytes((DOS_TYPES[kind],))).hex()}"


def free_name(map: PartitionMap, wanted: str = "") -> str:
    """`wanted` where it is free, else the next name that drivers give to a partition: DH0, DH1 ..."""
    taken = {p.label.upper() for p in map.partitions}
    if wanted and wanted.upper() not in taken:
        return wanted
    return next(f"DH{number}" for number in range(MOST + 1) if f"DH{number}" not in taken)


def _find(first: bytes) -> int | None:
    for number in range(min(SEARCHED, len(first) // 512)):
        block = first[number * 512:(number + 1) * 512]
        if block[:4] == b"RDSK" and sums_to_zero(block):
            return number
    return None


def sums_to_zero(block: bytes) -> bool:
    """Whether the longs that a block says it sums do sum to zero."""
    count = int.from_bytes(block[4:8], "big")
    if not 2 <= count <= len(block) // 4:
        return False
    return int(np.frombuffer(block, ">u4", count=count).sum(dtype=np.uint64)) & 0xFFFFFFFF == 0


def sealed(raw: Record, around: bytes = b"") -> bytes:
    """A block of 512 bytes whose longs sum to zero; what lies behind the record comes from `around`."""
    return sealed_bytes(raw.tobytes() + around[raw.nbytes:512].ljust(512 - raw.nbytes, b"\0"))


def sealed_bytes(block: bytes) -> bytes:
    """A block with a checksum that makes its longs sum to zero."""
    count = min(int.from_bytes(block[4:8], "big"), len(block) // 4)
    longs = np.frombuffer(block[:8] + bytes(4) + block[12:], ">u4", count=count)
    value = (-int(longs.sum(dtype=np.uint64))) & 0xFFFFFFFF
    return block[:8] + value.to_bytes(4, "big") + block[12:]


def _chain(blocks: Blocks, number: int, unit: int, findings: list[Finding]) -> Iterator[Partition]:
    """Follow the PART blocks; one with a wrong checksum is passed over with a finding."""
    seen: set[int] = set()
    index = 0
    while number != END:
        if number in seen or len(seen) >= MOST or (number + 1) * unit > blocks.size:
            findings.append(Finding(Severity.PROBLEM, f"The chain of partitions breaks at block {number}.",
                                    "partition map", remedy="The partitions before that place are shown and intact."))
            return
        seen.add(number)
        data = blocks.read(number * unit, 512)
        raw = Place("PART", PART, number * unit).read(data)
        if data[:4] != b"PART":
            findings.append(Finding(Severity.PROBLEM, f"Block {number} should be a partition, but is none.",
                                    "partition map"))
            return
        number_here, number = number, int(raw["next"])
        if not sums_to_zero(data):
            findings.append(Finding(Severity.WARNING, f"The partition in block {number_here} has a wrong checksum; "
                                    "it is left out, as its machines do.", "partition map"))
            continue
        sector = _sector_of(blocks, raw, unit)
        cylinder = int(raw["surfaces"]) * int(raw["blocks_per_track"]) * sector
        low, high = int(raw["low_cyl"]), int(raw["high_cyl"])
        if not cylinder or high < low or (high + 1) * cylinder > 2**53:
            findings.append(Finding(Severity.PROBLEM, f"The partition in block {number_here} has an impossible "
                                    "geometry.", "partition map"))
            continue
        index += 1
        flags = (("active",) if int(raw["flags"]) & BOOTABLE else ()) + \
            (("no automount",) if int(raw["flags"]) & NO_MOUNT else ())
        dos_type = raw["dos_type"].tobytes()
        yield Partition(index, low * cylinder, (high + 1 - low) * cylinder, f"0x{dos_type.hex()}",
                        dos_type_name(dos_type), bcpl(raw["drive_name"].tobytes()), flags, record=number_here * unit,
                        environment=_environment(raw, sector))


def _sector_of(blocks: Blocks, raw: Record, unit: int) -> int:
    """Bytes of the sectors that a partition's cylinders count: those of its own table, as its drivers take them.

    Where they are not the drive's, the place at which the volume shows its DosType decides.
    """
    own, track = int(raw["size_block"] or 128) * 4, int(raw["surfaces"]) * int(raw["blocks_per_track"])
    for sector in (own, unit) if own != unit else ():
        start = int(raw["low_cyl"]) * track * sector
        if start + 512 <= blocks.size and blocks.read(start, 3) == raw["dos_type"].tobytes()[:3]:
            return sector
    return own


def _part(map: PartitionMap, head: Record, p: Partition) -> Record:
    """The block of a partition: its own from the origin, changed where it has to be, or a fresh one."""
    old = map.origin[p.record:p.record + PART.itemsize] if p.record else b""
    raw = Place("PART", PART, p.record).read(old if old[:4] == b"PART" else bytes(PART.itemsize))
    if old[:4] != b"PART":
        for field, value in (
                ("id", np.void(b"PART")), ("summed_longs", SUMMED), ("host_id", 7), ("table_size", 16),
                ("size_block", map.sector // 4), ("surfaces", int(head["heads"])),
                ("blocks_per_track", int(head["sectors"])), ("reserved", 2), ("boot_blocks", 0)):
            raw[field] = value
    _put_environment(raw, p.environment or Environment())
    sector = p.environment.sector if p.environment and old[:4] == b"PART" else map.sector
    own = int(raw["surfaces"]) * int(raw["blocks_per_track"]) * sector
    if p.start % own or p.length % own:
        raise FitError(f"Partition {p.index} counts in cylinders of {own} bytes and must lie on them.")
    name = p.label.encode("latin-1", "replace")
    if len(name) > 30 or not name:
        raise FitError(f"“{p.label}” cannot be the name of a partition: it has 1 to 30 characters.")
    raw["drive_name"] = np.void((bytes((len(name),)) + name).ljust(32, b"\0"))
    raw["low_cyl"], raw["high_cyl"] = p.start // own, p.end // own - 1
    raw["dos_type"] = np.void(bytes.fromhex(p.type[2:]))
    bits = (BOOTABLE if "active" in p.flags else 0) | (NO_MOUNT if "no automount" in p.flags else 0)
    raw["flags"] = int(raw["flags"]) & ~(BOOTABLE | NO_MOUNT) | bits
    return raw


def head_of(map: PartitionMap) -> tuple[int, Record]:
    """(block, record) of the RDSK of a map that has been read or made."""
    place = _find(map.origin)
    assert place is not None, "a map of this kind has an RDSK"
    return place, Place("RDSK", RDSK, place * 512).read(map.origin[place * 512:])


def free_blocks(map: PartitionMap, place: int, head: Record) -> Iterator[int]:
    """Blocks of the map's area that none of its chains uses."""
    used = {place, *(p.record // map.sector for p in map.partitions if p.record)}
    count = len(map.origin) // map.sector
    for field, inner in (("file_sys_header_list", 72), ("bad_block_list", 0), ("drive_init", 0)):
        pending = [int(head[field])]
        while pending:
            number = pending.pop()
            if number >= count or number in used:
                continue
            used.add(number)
            block = map.origin[number * map.sector:number * map.sector + 256]
            pending.append(int.from_bytes(block[16:20], "big"))
            if inner and block[:4] == b"FSHD":
                pending.append(int.from_bytes(block[inner:inner + 4], "big"))
    first = max(1, int(head["rdb_blocks_lo"]))
    last = min(int(head["rdb_blocks_hi"]) + 1, count)
    yield from (n for n in range(first, last) if n not in used)


def _environment(raw: Record, sector: int) -> Environment:
    return Environment(int(raw["boot_pri"]), int(raw["mask"]), int(raw["max_transfer"]), int(raw["num_buffers"]),
                       int(raw["size_block"] or 128) * 4 * max(1, int(raw["sectors_per_block"])), sector)


def _put_environment(raw: Record, e: Environment) -> None:
    Place("PART", PART, 0).put(raw, boot_pri=e.boot_priority, mask=e.mask, max_transfer=e.max_transfer,
                               num_buffers=e.buffers)
    unit = int(raw["size_block"] or 128) * 4
    if e.block // unit != int(raw["sectors_per_block"] or 1) or not int(raw["sectors_per_block"]):
        raw["sectors_per_block"] = max(1, e.block // unit)


def bcpl(raw: bytes) -> str:
    """Text behind its length."""
    return raw[1:1 + min(raw[0], len(raw) - 1)].decode("latin-1")


def flagged(partition: Partition, flag: str, *, is_set: bool) -> Partition:
    """Set or clear "active" (bootable) or "no automount". Raises FitError for another one."""
    if flag not in ("active", "no automount"):
        raise FitError(f"A map of this kind knows no flag “{flag}”; it knows active and no automount.")
    rest = tuple(f for f in partition.flags if f != flag)
    return replace(partition, flags=(*rest, flag) if is_set else rest)
