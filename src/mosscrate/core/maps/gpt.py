"""GUID partition table: two copies of a header and an array of entries, each with a CRC.

Little-endian. Source: UEFI specification 2.10, 5.3 (header 5.3.2, entries 5.3.3) and 5.2.3 for the
protective MBR. GUIDs are stored with their first three fields little-endian. The map is only taken
for one where the first sector says so with a partition of type 0xEE.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from uuid import UUID, uuid4

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import MOST_ENTRIES as MOST_SHOWN
from mosscrate.core.declared import Declared, Words
from mosscrate.core.errors import FitError, FormatError, NotReadYet
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import mbr
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.format import MapFormat, exchanged
from mosscrate.core.maps.soundness import faults

MAGIC = b"EFI PART"
REVISION = 0x00010000
HEADER = np.dtype([                     # 92 bytes, 5.3.2
    ("signature", "V8"), ("revision", "<u4"), ("header_size", "<u4"), ("header_crc32", "<u4"), ("reserved", "<u4"),
    ("my_lba", "<u8"), ("alternate_lba", "<u8"), ("first_usable_lba", "<u8"), ("last_usable_lba", "<u8"),
    ("disk_guid", "V16"), ("partition_entry_lba", "<u8"), ("number_of_entries", "<u4"),
    ("size_of_entry", "<u4"), ("entries_crc32", "<u4")])
ENTRY = np.dtype([                      # 128 bytes, 5.3.3
    ("type_guid", "V16"), ("unique_guid", "V16"), ("starting_lba", "<u8"), ("ending_lba", "<u8"),
    ("attributes", "<u8"), ("name", "V72")])
ENTRIES = 128
FIRST_LBA = 1
MOST_ENTRIES = 1024                     # more than any table in use; a lie must not allocate memory
PROTECTIVE = 0xEE
NAME_UNITS = 36
TYPES = {
    "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": "basic data", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "EFI system",
    "0fc63daf-8483-4772-8e79-3d69d8477de4": "Linux", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "Linux swap",
    "e3c9e316-0b5c-4db8-817d-f92df00215ae": "reserved", "21686148-6449-6e6f-744e-656564454649": "BIOS boot",
    "bc13c2ff-59e6-4262-a352-b275fd6f7172": "Linux boot", "e6d6d379-f507-44c2-a23c-238f2a3df928": "Linux LVM"}
_BY_NAME = {name: guid for guid, name in TYPES.items()}
FLAGS = {"required": 1 << 0, "no block IO": 1 << 1, "active": 1 << 2, "read-only": 1 << 60, "hidden": 1 << 62,
         "no automount": 1 << 63}


@dataclass(frozen=True)
class _Copy:
    """One header that proved sound, and its entries. Shape of `entries`: (number_of_entries,)."""

    header: Record
    entries: Record
    raw_entries: bytes


def probe(first: bytes) -> bool:
    """Whether the first sector protects a GPT: the header itself may be damaged, or the protection missing."""
    if len(first) < 1024:
        return False
    if first[510:512] != b"\x55\xaa":
        return any(first[at:at + 8] == MAGIC for at in (512, 4096))
    entries = Place("MBR", mbr.SECTOR, 0).read(first)["entries"]
    return bool(((entries["type"] == PROTECTIVE) & (entries["first_lba"] <= 1) & (entries["sector_count"] > 0)).any())


def read(blocks: Blocks) -> PartitionMap:
    """The map, from whichever copy is sound. Raises FormatError where neither is."""
    first, problem = _attempt(blocks, FIRST_LBA)
    backup_lba = int(first.header["alternate_lba"]) if first else blocks.size // blocks.sector - 1
    second, other_problem = _attempt(blocks, backup_lba)
    if second is None and first is not None:
        second, _ = _attempt(blocks, blocks.size // blocks.sector - 1)
    copy = first or second
    if copy is None:
        assert problem is not None, "no copy means a reason"
        raise problem
    findings = list(_about_copies(blocks, first, second, problem, other_problem))
    partitions = _partitions(copy, blocks.sector)
    findings += faults(partitions, blocks.size)
    if blocks.read(510, 2) != b"\x55\xaa":
        findings.append(Finding(Severity.WARNING, "The first sector does not protect the GPT: older systems may take "
                                "the medium for an empty one.", "partition map",
                                remedy="Writing the map again mends it; the partitions are not touched."))
    if is_hybrid(blocks.read(0, 512)):
        findings.append(Finding(Severity.NOTE, "The map is a hybrid: its first sector also lists partitions for "
                                "machines that know no GPT.", "partition map",
                                remedy="They are kept as they are; a change of a partition does not follow into them."))
    span = (int(copy.header["last_usable_lba"]) + 1) * blocks.sector
    return PartitionMap(MapKind.GPT, str(_guid(copy.header["disk_guid"])), partitions, blocks.sector,
                        tuple(findings), blocks.read(0, 512) + copy.header.tobytes() + copy.raw_entries, span)


def is_hybrid(first: bytes) -> bool:
    """Whether the first sector names other partitions beside the protective one."""
    types = Place("MBR", mbr.SECTOR, 0).read(first)["entries"]["type"]
    return bool(((types != 0) & (types != PROTECTIVE)).any())


def new(size: int, sector: int, id: str) -> PartitionMap:
    """An empty map with 128 entries; `id` is the disk's GUID."""
    header = np.zeros((), HEADER)
    header["signature"], header["revision"], header["header_size"] = np.void(MAGIC), REVISION, HEADER.itemsize
    header["number_of_entries"], header["size_of_entry"] = ENTRIES, ENTRY.itemsize
    raw = bytes(512) + header.tobytes() + bytes(ENTRIES * ENTRY.itemsize)
    return PartitionMap(MapKind.GPT, id, (), sector, origin=raw)


def room(map: PartitionMap, size: int) -> Room:
    """Where partitions can lie: both copies take their share."""
    header = _header_of(map)
    table = _table_sectors(header, map.sector) * map.sector
    end = size // map.sector * map.sector - table - map.sector
    return Room(2 * map.sector + table, end, map.sector)


def write(blocks: Blocks, map: PartitionMap) -> None:
    """Write both copies for the medium's size: the backup at its end first, then the first one.

    Entries keep what is not modelled; the boot code and hybrid entries of sector 0 stay. Raises FitError.
    """
    header, raw_entries = _header_of(map), bytearray(map.origin[512 + HEADER.itemsize:])
    sectors, place = blocks.size // map.sector, room(map, blocks.size)
    table = _table_sectors(header, map.sector)
    for p in map.partitions:
        if p.start < place.first or p.end > place.end:
            raise FitError(f"Partition {p.index} leaves the room between the two copies of the GPT.")
    entries = _entries(map, header, raw_entries)
    padded = entries.ljust(table * map.sector, b"\0")
    header["disk_guid"] = np.void(UUID(map.id).bytes_le)
    header["first_usable_lba"], header["last_usable_lba"] = place.first // map.sector, place.end // map.sector - 1
    header["entries_crc32"] = zlib.crc32(entries)
    backup = _sealed(header, my=sectors - 1, other=1, table=sectors - 1 - table)
    primary = _sealed(header, my=1, other=sectors - 1, table=2)
    blocks.write((sectors - 1 - table) * map.sector, padded)
    blocks.write((sectors - 1) * map.sector, backup.ljust(map.sector, b"\0"))
    blocks.write(2 * map.sector, padded)
    blocks.write(map.sector, primary.ljust(map.sector, b"\0"))
    blocks.write(0, _protective(map.origin[:512], sectors))


def type_for(kind: str) -> str:
    """The type GUID that says what a file system is."""
    if kind == "swap":
        return _BY_NAME["Linux swap"]
    return _BY_NAME["basic data"] if kind.startswith("fat") or kind in ("exfat", "ntfs") else _BY_NAME["Linux"]


def flagged(partition: Partition, flag: str, *, is_set: bool) -> Partition:
    """Set or clear one of FLAGS. Raises FitError for an unknown one."""
    if flag not in FLAGS:
        raise FitError(f"A GPT knows no flag “{flag}”; it knows {', '.join(FLAGS)}.")
    rest = tuple(f for f in partition.flags if f != flag)
    return replace(partition, flags=(*rest, flag) if is_set else rest)


def fresh_id() -> str:
    """A GUID for a new disk or partition."""
    return str(uuid4())


def _attempt(blocks: Blocks, lba: int) -> tuple[_Copy | None, FormatError | None]:
    try:
        return _copy(blocks, lba), None
    except FormatError as error:
        return None, error
    except NotReadYet:
        if lba == FIRST_LBA:
            raise
        return None, None


def _copy(blocks: Blocks, lba: int) -> _Copy:
    """One copy, both CRCs checked. Raises FormatError."""
    base = lba * blocks.sector
    at = Place("GPT header", HEADER, base)
    if base + blocks.sector > blocks.size:
        raise at.error("my_lba", lba, "a sector of the medium")
    data = blocks.read(base, blocks.sector)
    raw = at.read(data)
    at.require("signature", raw["signature"].tobytes(), {MAGIC})
    size = at.require("header_size", int(raw["header_size"]), range(HEADER.itemsize, blocks.sector + 1))
    blank = data[:16] + bytes(4) + data[20:size]
    at.require("header_crc32", int(raw["header_crc32"]), {zlib.crc32(blank)})
    at.require("my_lba", int(raw["my_lba"]), {lba})
    count = at.require("number_of_entries", int(raw["number_of_entries"]), range(1, MOST_ENTRIES + 1))
    width = at.require("size_of_entry", int(raw["size_of_entry"]), {128 << k for k in range(5)})
    start = int(raw["partition_entry_lba"]) * blocks.sector
    if start + count * width > blocks.size:
        raise at.error("partition_entry_lba", start // blocks.sector, "a table on the medium")
    table = blocks.read(start, count * width)
    at.require("entries_crc32", int(raw["entries_crc32"]), {zlib.crc32(table)})
    rows = np.frombuffer(table, np.uint8).reshape(count, width)[:, :ENTRY.itemsize]
    return _Copy(raw, np.frombuffer(rows.tobytes(), ENTRY), table)


def _partitions(copy: _Copy, sector: int) -> tuple[Partition, ...]:
    found = []
    for number, entry in enumerate(copy.entries, start=1):
        if not any(entry["type_guid"].tobytes()) or int(entry["ending_lba"]) < int(entry["starting_lba"]):
            continue
        guid = str(_guid(entry["type_guid"]))
        start, end = int(entry["starting_lba"]), int(entry["ending_lba"])
        if end >= 2**55:
            continue
        name = entry["name"].tobytes().decode("utf-16-le", "replace").partition("\0")[0]
        flags = tuple(f for f, bit in FLAGS.items() if int(entry["attributes"]) & bit)
        found.append(Partition(number, start * sector, (end - start + 1) * sector, guid,
                               TYPES.get(guid, "unknown"), name, flags, str(_guid(entry["unique_guid"]))))
    return tuple(found)


def _about_copies(blocks: Blocks, first: _Copy | None, second: _Copy | None, problem: FormatError | None,
                  other: FormatError | None) -> list[Finding]:
    mend = "Writing the map again mends it; the partitions are not touched."
    if first is None:
        return [Finding(Severity.WARNING, f"The first copy of the GPT is damaged ({problem}). The copy at the end "
                        "of the medium is used.", "partition map", remedy=mend)]
    last = blocks.size // blocks.sector - 1
    if second is None:
        return [Finding(Severity.WARNING, f"The second copy of the GPT, at the end of the medium, is missing or "
                        f"damaged ({other}).", "partition map", remedy=mend)]
    if int(second.header["my_lba"]) != last:
        room = (last - int(first.header["alternate_lba"])) * blocks.sector
        return [Finding(Severity.NOTE, f"The second copy of the GPT is not at the end of the medium: {room} bytes lie "
                        "behind it. The image comes from a smaller card.", "partition map",
                        remedy="Giving the room to a partition moves the copy to the end.")]
    if first.raw_entries != second.raw_entries:
        return [Finding(Severity.WARNING, "The two copies of the GPT differ; the first is used.", "partition map",
                        remedy=mend)]
    return []


def _header_of(map: PartitionMap) -> Record:
    return Place("GPT header", HEADER, map.sector).read(map.origin[512:512 + HEADER.itemsize])


def _table_sectors(header: Record, sector: int) -> int:
    return -(-int(header["number_of_entries"]) * int(header["size_of_entry"]) // sector)


def _entries(map: PartitionMap, header: Record, raw: bytearray) -> bytes:
    """The array with the partitions of the map; entries of others are cleared."""
    width, wanted = int(header["size_of_entry"]), {p.index: p for p in map.partitions}
    if any(not 1 <= index <= int(header["number_of_entries"]) for index in wanted):
        raise FitError(f"The GPT has room for {int(header['number_of_entries'])} partitions.")
    known = sum(FLAGS.values())
    for number in range(1, int(header["number_of_entries"]) + 1):
        base = (number - 1) * width
        p = wanted.get(number)
        if p is None:
            raw[base:base + width] = bytes(width)
            continue
        entry = np.frombuffer(raw, ENTRY, count=1, offset=base).reshape(())
        name = p.label.encode("utf-16-le")
        if len(name) > 2 * NAME_UNITS:
            raise FitError(f"The partition name “{p.label}” is longer than the {NAME_UNITS} characters of a GPT.")
        entry["type_guid"] = np.void(UUID(p.type).bytes_le)
        entry["unique_guid"] = np.void(UUID(p.id or fresh_id()).bytes_le)
        entry["starting_lba"], entry["ending_lba"] = p.start // map.sector, p.end // map.sector - 1
        bits = sum(FLAGS[f] for f in p.flags if f in FLAGS)
        entry["attributes"] = int(entry["attributes"]) & ~known | bits
        entry["name"] = np.void(name.ljust(2 * NAME_UNITS, b"\0"))
    return bytes(raw)


def _sealed(header: Record, *, my: int, other: int, table: int) -> bytes:
    """A header of one copy with its CRC; what a longer header held behind the known fields is dropped."""
    copy = header.copy()
    copy["my_lba"], copy["alternate_lba"], copy["partition_entry_lba"] = my, other, table
    copy["header_size"], copy["header_crc32"] = HEADER.itemsize, 0
    copy["header_crc32"] = zlib.crc32(copy.tobytes())
    return bytes(copy.tobytes())


def _protective(first: bytes, sectors: int) -> bytes:
    """Sector 0: the protective entry covers the medium as far as 32 bits reach, all else stays."""
    raw = Place("MBR", mbr.SECTOR, 0).read(first)
    entries = raw["entries"]
    at = next((k for k in range(4) if int(entries[k]["type"]) == PROTECTIVE), None)
    if at is None:
        raw["entries"][0] = np.zeros((), mbr.ENTRY)
        at = 0
    entry = raw["entries"][at]
    if not is_hybrid(raw.tobytes()):
        count = min(sectors - 1, mbr.LARGEST)
        entry["type"], entry["first_lba"], entry["sector_count"] = PROTECTIVE, 1, count
        entry["chs_first"] = np.void(b"\x00\x02\x00")
        entry["chs_last"] = np.void(mbr.Geometry().chs(count) if count < 16450560 else b"\xff\xff\xff")
    raw["signature"] = mbr.SIGNATURE
    return bytes(raw.tobytes())


def _guid(raw: np.void | Record) -> UUID:
    return UUID(bytes_le=raw.tobytes())


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """Sector 0, both headers, and the entries that are in use. Raises MediumError."""
    yield Declared(mbr.TITLE, mbr.SECTOR, 0)
    guids: dict[str, Words] = {name: _shown_guid for name in ("disk_guid", "type_guid", "unique_guid")}
    yield Declared("GPT header", HEADER, map.sector, guids)
    header = Place("GPT", HEADER, map.sector).read(blocks.read(map.sector, HEADER.itemsize))
    first, size = int(header["partition_entry_lba"]) * map.sector, int(header["size_of_entry"])
    words = guids | {"name": lambda raw: raw.decode("utf-16-le", "replace").partition("\0")[0]}
    for p in map.partitions[:MOST_SHOWN]:
        at = first + (p.index - 1) * size
        if size >= ENTRY.itemsize and at + size <= blocks.size:
            yield Declared(f"GPT entry {p.index}", ENTRY, at, words)
    backup = int(header["alternate_lba"]) * map.sector
    if 0 < backup <= blocks.size - map.sector:
        yield Declared("GPT header, second copy", HEADER, backup, guids)


def _shown_guid(raw: bytes) -> str:
    return str(UUID(bytes_le=raw))


class Gpt(MapFormat):
    """See above."""

    kind = MapKind.GPT
    is_written = True
    flags = tuple(FLAGS)
    bootable = "bootable by a BIOS"

    def probe(self, first: bytes) -> bool:
        """See MapFormat."""
        return probe(first)

    def read(self, blocks: Blocks) -> PartitionMap:
        """See MapFormat."""
        return read(blocks)

    def claimed_size(self, first: bytes, map: PartitionMap) -> int:
        """See MapFormat: its second copy stands in the last sector."""
        header = _header_of(map)
        last = max(int(header["alternate_lba"]), int(header["my_lba"]))
        return max(super().claimed_size(first, map), (last + 1) * map.sector)

    def declared(self, blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
        """See MapFormat."""
        return declared(blocks, map)

    def new(self, size: int, sector: int, *, heads: int, sectors: int) -> PartitionMap:
        """See MapFormat."""
        return new(size, sector, fresh_id())

    def write(self, blocks: Blocks, map: PartitionMap) -> None:
        """See MapFormat."""
        write(blocks, map)

    def room(self, map: PartitionMap, size: int) -> Room:
        """See MapFormat."""
        return room(map, size)

    def free_index(self, map: PartitionMap, *, is_within: bool) -> int:
        """See MapFormat."""
        used = {p.index for p in map.partitions}
        index = next((k for k in range(1, ENTRIES + 1) if k not in used), None)
        if index is None:
            raise FitError("All entries of the GPT are taken.")
        return index

    def type_for(self, map: PartitionMap, kind: str, start: int, length: int) -> str:
        """See MapFormat."""
        return type_for(kind)

    def made(self, map: PartitionMap, partition: Partition, label: str, *, is_within: bool) -> Partition:
        """See MapFormat."""
        return replace(self.named(partition, label), id=fresh_id(), type_name=TYPES.get(partition.type, ""))

    def retyped(self, map: PartitionMap, old: Partition, type: str) -> Partition:
        """See MapFormat: one that says what the partition is for stays."""
        same = TYPES.get(old.type, "") in ("basic data", "Linux", "EFI system") or not old.type
        return replace(old, type=type, type_name=TYPES[type]) if same else old

    def flagged(self, map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
        """See MapFormat."""
        return exchanged(map, flagged(map.partition(index), flag, is_set=is_set))

    def typed(self, old: Partition, type: str) -> Partition:
        """See MapFormat."""
        wanted = next((g for g, name in TYPES.items() if type.lower() in (g, name.lower())), None)
        if wanted is None:
            raise FitError(f"“{type}” is not a type that this map knows.")
        return replace(old, type=wanted, type_name=TYPES[wanted])

    def named(self, old: Partition, label: str) -> Partition:
        """See MapFormat."""
        if len(label.encode("utf-16-le")) > 2 * NAME_UNITS:
            raise FitError(f"The partition name “{label}” is longer than the {NAME_UNITS} characters of a GPT.")
        return replace(old, label=label)
