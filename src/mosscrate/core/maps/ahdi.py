"""AHDI root sectors: four big-endian entries, a second style with eight more, chains of extended ones.

Source: the published hard-disk driver notes: an entry is a flag, a three-letter id, start and size in
sectors at 0x1C6; "XGM" leads to a chain of further root sectors, each with one partition that is counted
from it and one link that is counted from the start of the chain; the second style keeps eight more
entries at 0x156. There is no magic number, so ids and places have to be plausible. A sector whose
big-endian words sum to 0x1234 is one that its machine boots from.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared, Verdict
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.format import Level, MapFormat, exchanged
from mosscrate.core.maps.soundness import faults, of_another_family
from mosscrate.core.sizes import binary

ENTRY = np.dtype([("flag", "u1"), ("id", "V3"), ("start", ">u4"), ("size", ">u4")])          # 12 bytes
ROOT = np.dtype([                         # 512 bytes
    ("boot_code", "V342"), ("more", ENTRY, 8), ("reserved", "V12"), ("hd_size", ">u4"), ("entries", ENTRY, 4),
    ("bad_start", ">u4"), ("bad_count", ">u4"), ("checksum", ">u2")])
EXISTS, BOOTABLE = 0x01, 0x80
KNOWN = {b"GEM", b"BGM", b"XGM", b"RAW", b"LNX", b"SWP", b"MIX", b"UNX", b"F32", b"MAC", b"QWA", b"MNX"}
SMALL = 16 << 20                          # below it a partition is GEM, from it on BGM
BOOT_SUM = 0x1234
PRIMARIES, MORE, MOST_CHAINED = 4, 8, 64
_NAMES = {"GEM": "GEMDOS below 16 MiB", "BGM": "GEMDOS", "RAW": "raw", "LNX": "Linux", "SWP": "Linux swap"}


def probe(first: bytes) -> bool:
    """Whether the first sector holds at least one plausible entry and nothing that contradicts it.

    A sound MBR in the same sector has been asked for before.
    """
    if len(first) < ROOT.itemsize:
        return False
    raw = Place("AHDI", ROOT, 0).read(first)
    used = [e for e in raw["entries"] if int(e["flag"]) & EXISTS]
    if not used:                          # an empty one says nothing but how large the drive is
        return int(raw["hd_size"]) > 0 and not any(first[:0x1C2]) and not any(first[0x1C6:512])
    return any(e["id"].tobytes() in KNOWN for e in used) and all(
        e["id"].tobytes().isalnum() and int(e["start"]) > 0 and int(e["size"]) > 0 for e in used)


def read(blocks: Blocks) -> PartitionMap:
    """Primary entries, then those of the second style, then chained ones. Raises FormatError, MediumError."""
    origin = blocks.read(0, ROOT.itemsize)
    raw = Place("AHDI", ROOT, 0).read(origin)
    findings: list[Finding] = []
    found: list[Partition] = []
    chains = []
    for number, entry in enumerate(raw["entries"]):
        if int(entry["flag"]) & EXISTS:
            if entry["id"].tobytes() == b"XGM":
                chains.append(int(entry["start"]))
            else:
                found.append(_partition(entry, 0, 0x1C6 + 12 * number))
    if not chains:
        for number, entry in enumerate(raw["more"]):
            if int(entry["flag"]) & EXISTS and entry["id"].tobytes() in KNOWN and int(entry["size"]):
                found.append(_partition(entry, 0, 0x156 + 12 * number))
    for start in chains:
        found += _chain(blocks, start, findings)
    partitions = tuple(replace(p, index=k) for k, p in enumerate(found, start=1))
    findings += faults(partitions, blocks.size)
    for p in partitions:
        if (p.type == "GEM" and p.length >= SMALL) or (p.type == "BGM" and p.length < SMALL):
            right = "BGM" if p.type == "GEM" else "GEM"
            findings.append(Finding(Severity.NOTE, f"Partition {p.index} is marked {p.type} but has "
                                    f"{binary(p.length)}: GEM is for less than 16 MiB, BGM from there on.",
                                    "partition map", p.index,
                                    f"Old systems look at the id alone. Its type can be set to {right}."))
    findings.append(of_another_family(findings))
    return PartitionMap(MapKind.AHDI, "", partitions, 512, tuple(findings), origin, int(raw["hd_size"]) * 512)


def count_beside(first: bytes) -> int:
    """How many entries an MBR's sector also holds, for drives that machines of both families read."""
    raw = Place("AHDI", ROOT, 0).read(first)
    return sum(bool(int(e["flag"]) & EXISTS) and e["id"].tobytes() in KNOWN and int(e["start"]) > 0
               and int(e["size"]) > 0 for e in (*raw["more"], *raw["entries"]))


def new(size: int) -> PartitionMap:
    """An empty root sector, not bootable."""
    raw = np.zeros((), ROOT)
    raw["hd_size"] = min(size // 512, 2**32 - 1)
    return PartitionMap(MapKind.AHDI, "", (), 512, origin=bytes(raw.tobytes()), span=size)


def room(map: PartitionMap, size: int) -> Room:
    """Behind the root sector, to the end of what 32-bit sector numbers reach."""
    return Room(2 * 512, min(size, (2**32 - 1) * 512) // 512 * 512, 512)


def is_chained(partition: Partition) -> bool:
    """Whether a partition has a root sector of its own, in front of it."""
    return partition.record >= ROOT.itemsize


def is_bootable(sector: bytes) -> bool:
    """Whether a machine starts from a root sector: its words sum to 0x1234."""
    return word_sum(sector) == BOOT_SUM


def must_have_entries(map: PartitionMap) -> None:
    """Raises FitError where the root sector has fewer entries than the map needs."""
    plain = sum(not is_chained(p) for p in map.partitions)
    has_chain = plain < len(map.partitions)
    most = PRIMARIES - 1 if has_chain else PRIMARIES + MORE
    if plain > most:
        raise FitError(f"The root sector has room for {most} partitions" + (" beside its chain." if has_chain else "."))


def write(blocks: Blocks, map: PartitionMap) -> None:
    """Write the chain, then the root sector: four entries, and eight of the second style where nothing is chained.

    Raises FitError.
    """
    raw = Place("AHDI", ROOT, 0).read(map.origin)
    chained = sorted((p for p in map.partitions if is_chained(p)), key=lambda p: p.record)
    plain = [p for p in map.partitions if not is_chained(p)]
    must_have_entries(map)
    was_bootable = is_bootable(map.origin)
    for at, sector in _chain_sectors(blocks, chained):
        blocks.write(at, sector)
    raw["entries"] = np.zeros(PRIMARIES, ENTRY)
    raw["more"] = _more_kept(raw, map)
    for number, p in enumerate(plain):
        slot, place = ("entries", number) if number < PRIMARIES else ("more", number - PRIMARIES)
        raw[slot][place] = _entry(p, 0)
    if chained:
        raw["entries"][len(plain)] = _link(chained, 0)
    raw["hd_size"] = min(blocks.size // 512, 2**32 - 1)
    data = bytearray(raw.tobytes())
    rest = word_sum(bytes(data[:510]) + b"\0\0")
    if was_bootable:
        data[510:512] = ((BOOT_SUM - rest) & 0xFFFF).to_bytes(2, "big")
    elif word_sum(bytes(data)) == BOOT_SUM or data[510:512] == b"\x55\xaa":
        data[510:512] = bytes(2)
    blocks.write(0, bytes(data))


def type_for(kind: str, length: int) -> str:
    """The id of a partition for a kind of volume."""
    if kind.startswith(("fat", "gemdos")):
        return "GEM" if length < SMALL else "BGM"
    return "LNX" if kind.startswith("ext") else "RAW"


def type_name(id: str) -> str:
    """What an id stands for."""
    return _NAMES.get(id, id)


def _entry(p: Partition, base: int) -> tuple[int, np.void, int, int]:
    """The entry of a partition in a root sector at byte `base`."""
    flag = EXISTS | (BOOTABLE if "active" in p.flags else 0)
    return flag, np.void(p.type.encode("latin-1")), (p.start - base) // 512, p.length // 512


def _link(following: list[Partition], base: int) -> tuple[int, np.void, int, int]:
    """The entry that leads to the next root sector of a chain, counted from byte `base`.

    From the root sector it spans the whole chain, within the chain the next sector with its partition.
    """
    end = max(p.end for p in following) if base == 0 else following[0].end
    return EXISTS, np.void(b"XGM"), (following[0].record - base) // 512, (end - following[0].record) // 512


def _chain_sectors(blocks: Blocks, chained: list[Partition]) -> Iterator[tuple[int, bytes]]:
    """(byte, sector) of every root sector of the chain; what stood beside the entries of an old one stays."""
    old = {p.record for p in read(blocks).partitions} if chained and probe(blocks.read(0, 512)) else set()
    for number, p in enumerate(chained):
        if p.start < p.record + 512 or (number and p.record < chained[number - 1].end):
            raise FitError(f"Partition {p.index} needs a free sector in front of it, for its place in the chain.")
        raw = Place("AHDI", ROOT, p.record).read(blocks.read(p.record, 512) if p.record in old else bytes(512))
        raw["entries"] = np.zeros(PRIMARIES, ENTRY)
        raw["entries"][0] = _entry(p, p.record)
        if number + 1 < len(chained):
            raw["entries"][1] = _link(chained[number + 1:], chained[0].record)
        yield p.record, bytes(raw.tobytes())


def _more_kept(raw: Record, map: PartitionMap) -> Record:
    """The second style's place: cleared where it held entries, otherwise it is boot code and stays."""
    more = raw["more"].copy()
    held = any(0x156 <= p.record < 0x1B6 for p in map.partitions) or any(
        int(e["flag"]) & EXISTS and e["id"].tobytes() in KNOWN for e in more)
    if held or len(map.partitions) > PRIMARIES:
        more[...] = np.zeros(MORE, ENTRY)
    return more


def _partition(entry: Record | np.void, base: int, record: int) -> Partition:
    id = entry["id"].tobytes().decode("latin-1")
    flags = ("active",) if int(entry["flag"]) & BOOTABLE else ()
    return Partition(0, (base + int(entry["start"])) * 512, int(entry["size"]) * 512, id, type_name(id), flags=flags,
                     record=record)


def _chain(blocks: Blocks, first: int, findings: list[Finding]) -> list[Partition]:
    """Follow the extended root sectors; a loop or a lie ends the chain with a finding."""
    found: list[Partition] = []
    at, seen = first, set[int]()
    while len(found) < MOST_CHAINED:
        if at in seen or (at + 1) * 512 > blocks.size:
            findings.append(Finding(Severity.PROBLEM, f"The chain of partitions breaks at sector {at}.",
                                    "partition map", remedy="The partitions before that place are shown and intact."))
            return found
        seen.add(at)
        entries = Place("AHDI", ROOT, at * 512).read(blocks.read(at * 512, 512))["entries"]
        here = next((e for e in entries if int(e["flag"]) & EXISTS and e["id"].tobytes() != b"XGM"), None)
        link = next((e for e in entries if int(e["flag"]) & EXISTS and e["id"].tobytes() == b"XGM"), None)
        if here is not None:
            found.append(_partition(here, at, at * 512))
        if link is None:
            return found
        at = first + int(link["start"])
    return found


def word_sum(sector: bytes) -> int:
    """The sum of its big-endian words, in 16 bits."""
    return int(np.frombuffer(sector, ">u2").sum(dtype=np.uint64)) & 0xFFFF


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """The root sector, and those of the chain."""
    for at in (0, *(p.record for p in map.partitions if is_chained(p))):
        yield Declared("Root sector" if at == 0 else "Chained root sector", ROOT, at, verdict=_boots)


def _boots(sector: bytes) -> Verdict:
    return Verdict("its machine boots from it" if is_bootable(sector) else "not marked to boot from")


class Ahdi(MapFormat):
    """See above; partitions in the chain have a root sector of their own in front of them."""

    kind = MapKind.AHDI
    is_written = True
    flags = ("active",)
    bootable = "bootable"
    within = "chained"
    is_known_empty = False                     # an empty root sector looks alike in both orders

    def probe(self, first: bytes) -> bool:
        """See MapFormat."""
        return probe(first)

    def read(self, blocks: Blocks) -> PartitionMap:
        """See MapFormat."""
        return read(blocks)

    def declared(self, blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
        """See MapFormat."""
        return declared(blocks, map)

    def new(self, size: int, sector: int, *, heads: int, sectors: int) -> PartitionMap:
        """See MapFormat."""
        return new(size)

    def write(self, blocks: Blocks, map: PartitionMap) -> None:
        """See MapFormat."""
        write(blocks, map)

    def room(self, map: PartitionMap, size: int) -> Room:
        """See MapFormat."""
        return room(map, size)

    def begin(self, partition: Partition) -> int:
        """See MapFormat."""
        return partition.record if is_chained(partition) else partition.start

    def own(self, map: PartitionMap, partition: Partition) -> int:
        """See MapFormat."""
        return map.sector if is_chained(partition) else 0

    def level_for_new(self, map: PartitionMap, size: int, *, is_within: bool) -> Level:
        """See MapFormat."""
        level = self.levels(map, size)[0]
        return replace(level, own=map.sector if is_within or _has_chain(map) else 0)

    def prepared(self, map: PartitionMap, size: int, *, is_within: bool, alignment: int) -> PartitionMap:
        """See MapFormat."""
        return map

    def type_for(self, map: PartitionMap, kind: str, start: int, length: int) -> str:
        """See MapFormat."""
        return type_for(kind, length)

    def made(self, map: PartitionMap, partition: Partition, label: str, *, is_within: bool) -> Partition:
        """See MapFormat."""
        is_linked = is_within or _has_chain(map)
        return replace(partition, type_name=type_name(partition.type), record=partition.start - 512 if is_linked else 0)

    def numbered(self, map: PartitionMap) -> PartitionMap:
        """See MapFormat: numbers follow the chain."""
        ordered = sorted(map.partitions, key=lambda p: p.record if is_chained(p) else 0)
        return replace(map, partitions=tuple(replace(p, index=k) for k, p in enumerate(ordered, start=1)))

    def placed(self, map: PartitionMap, old: Partition, new: Partition, size: int) -> tuple[PartitionMap, Partition]:
        """See MapFormat."""
        new = _with_id_of_its_size(new)
        return map, replace(new, record=old.record + new.start - old.start) if is_chained(old) else new

    def must_be_sound(self, map: PartitionMap, size: int) -> None:
        """See MapFormat."""
        must_have_entries(map)

    def retyped(self, map: PartitionMap, old: Partition, type: str) -> Partition:
        """See MapFormat."""
        return replace(old, type=type, type_name=type_name(type))

    def flagged(self, map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
        """See MapFormat."""
        if flag != "active":
            raise FitError(f"A map of this kind knows no flag “{flag}”; it knows active.")
        return exchanged(map, replace(map.partition(index), flags=("active",) if is_set else ()))

    def typed(self, old: Partition, type: str) -> Partition:
        """See MapFormat."""
        if len(type) != 3 or not type.isalnum() or not type.isascii():
            raise FitError(f"“{type}” is not an id of this map: three letters such as BGM.")
        return replace(old, type=type.upper(), type_name=type_name(type.upper()))

    def as_it_was(self, map: PartitionMap, came: Partition, made: Partition) -> Partition:
        """See MapFormat."""
        if len(came.type) != 3:
            return made
        return _with_id_of_its_size(replace(made, type=came.type, type_name=came.type_name, flags=came.flags))


def _with_id_of_its_size(partition: Partition) -> Partition:
    """Drivers take the id as a promise: GEM ends where 16 MiB begin."""
    if partition.type not in ("GEM", "BGM"):
        return partition
    id = type_for("gemdos", partition.length)
    return replace(partition, type=id, type_name=type_name(id))


def _has_chain(map: PartitionMap) -> bool:
    return any(is_chained(p) for p in map.partitions)
