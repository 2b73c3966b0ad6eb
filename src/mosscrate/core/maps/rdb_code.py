"""File-system code embedded in a rigid disk block: FSHD headers, each with a chain of LSEG blocks.

A machine loads it for the partitions of its DosType. Big-endian. Source: the published include
"devices/hardblocks.h". Here it is moved from drive to drive byte for byte: only the numbers of blocks in
it, and the checksums over them, follow its new place.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import MOST_ENTRIES, SUMS, SUMS_NOT, Declared, Verdict, Words, as_hex
from mosscrate.core.errors import FitError, FormatError, MossError
from mosscrate.core.maps import mbr, rdb
from mosscrate.core.maps.base import PartitionMap

FSHD = np.dtype([
    ("id", "V4"), ("summed_longs", ">u4"), ("checksum", ">i4"), ("host_id", ">u4"), ("next", ">u4"), ("flags", ">u4"),
    ("reserved_1", "V8"), ("dos_type", "V4"), ("version", ">u4"), ("patch_flags", ">u4"), ("type", ">u4"),
    ("task", ">u4"), ("lock", ">u4"), ("handler", ">u4"), ("stack_size", ">u4"), ("priority", ">i4"),
    ("startup", ">u4"), ("seg_list_blocks", ">u4"), ("global_vec", ">u4"), ("reserved_2", "V92"),
    ("reserved_3", "V84")])                                                         # 256 bytes
LSEG = np.dtype([
    ("id", "V4"), ("summed_longs", ">u4"), ("checksum", ">i4"), ("host_id", ">u4"), ("next", ">u4"),
    ("load_data", "V492")])                                                         # 512 bytes
NEXT, SEGMENTS = 16, 72                # bytes from the start of a block


@dataclass(frozen=True)
class FileSystemCode:
    """One embedded file system.

    Attributes:
        dos_type: of the partitions that it is loaded for.
        version: major and minor.
        header: the FSHD block as it was read.
        segments: its LSEG blocks as they were read, in their order.
        numbers: blocks that header and segments stood in.
    """

    dos_type: bytes
    version: tuple[int, int]
    header: bytes
    segments: tuple[bytes, ...]
    numbers: tuple[int, ...] = ()

    @property
    def name(self) -> str:
        """DosType and version in words."""
        return f"{rdb.dos_type_name(self.dos_type)} {self.version[0]}.{self.version[1]}"

    @property
    def load(self) -> bytes:
        """What a machine loads: the data of all segments, one behind the other."""
        return b"".join(s[LSEG.fields["load_data"][1]:4 * int.from_bytes(s[4:8], "big")] for s in self.segments)  # type: ignore[index]


def codes_in(map: PartitionMap) -> tuple[FileSystemCode, ...]:
    """Everything that is embedded, in the order of the chain. Raises FormatError where a chain cannot be followed."""
    return tuple(_follow(map))


def with_code(map: PartitionMap, code: FileSystemCode) -> PartitionMap:
    """The map with a file system in it; one of the same DosType is replaced. Raises FitError, FormatError."""
    map = without_code(map, code.dos_type, may_be_missing=True)
    place, head = rdb.head_of(map)
    free = list(rdb.free_blocks(map, place, head))
    count = 1 + len(code.segments)
    if len(free) < count:
        raise FitError(f"The map has {len(free)} free blocks; the file-system code {code.name} needs {count}.")
    number, *segments = free[:count]
    origin = bytearray(map.origin)
    for at, block, following in zip(segments, code.segments, (*segments[1:], rdb.END), strict=True):
        _put(origin, at * map.sector, block, {NEXT: following})
    _put(origin, number * map.sector, code.header, {NEXT: int(head["file_sys_header_list"]),
                                                    SEGMENTS: segments[0] if segments else rdb.END})
    head["file_sys_header_list"] = number
    head["high_rdsk_block"] = max(int(head["high_rdsk_block"]), *free[:count])
    origin[place * 512:place * 512 + 512] = rdb.sealed(head, bytes(origin[place * 512:place * 512 + 512]))
    return replace(map, origin=bytes(origin))


def without_code(map: PartitionMap, dos_type: bytes, *, may_be_missing: bool = False) -> PartitionMap:
    """The map without the file system of a DosType; its blocks become free. Raises FitError, FormatError."""
    codes = codes_in(map)
    rest = [c for c in codes if c.dos_type != dos_type]
    if len(rest) == len(codes):
        if may_be_missing:
            return map
        raise FitError(f"No file-system code for {rdb.dos_type_name(dos_type)} is embedded in this drive.")
    origin = bytearray(map.origin)
    firsts = [c.numbers[0] for c in rest]
    for code, following in zip(rest, [*firsts, rdb.END][1:], strict=True):
        _put(origin, code.numbers[0] * map.sector, code.header, {NEXT: following})
    place, head = rdb.head_of(map)
    head["file_sys_header_list"] = firsts[0] if firsts else rdb.END
    origin[place * 512:place * 512 + 512] = rdb.sealed(head, bytes(origin[place * 512:place * 512 + 512]))
    return replace(map, origin=bytes(origin))


def write(blocks: Blocks, map: PartitionMap) -> None:
    """Write the blocks of embedded code that are others than those on the medium; a broken chain is left as it is."""
    with suppress(FormatError):
        for number in (n for code in codes_in(map) for n in code.numbers):
            base = number * map.sector
            if blocks.read(base, 512) != map.origin[base:base + 512]:
                blocks.write(base, map.origin[base:base + 512])


def _follow(map: PartitionMap) -> Iterator[FileSystemCode]:
    number, seen = int(rdb.head_of(map)[1]["file_sys_header_list"]), set[int]()
    while number != rdb.END:
        block = _block(map, number, b"FSHD", FSHD, seen)
        raw = Place("FSHD", FSHD, number * map.sector).read(block)
        numbers, segments = [number], []
        at = int(raw["seg_list_blocks"])
        while at != rdb.END:
            segments.append(_block(map, at, b"LSEG", LSEG, seen))
            numbers.append(at)
            at = int.from_bytes(segments[-1][NEXT:NEXT + 4], "big")
        version = int(raw["version"])
        yield FileSystemCode(raw["dos_type"].tobytes(), (version >> 16, version & 0xFFFF), block, tuple(segments),
                             tuple(numbers))
        number = int(raw["next"])


def _block(map: PartitionMap, number: int, id: bytes, dtype: np.dtype[np.void], seen: set[int]) -> bytes:
    """A block of a chain, verified and noted as seen. Raises FormatError."""
    base = number * map.sector
    block = map.origin[base:base + 512]
    found = block[:4] if len(block) == 512 else f"block {number}, behind the map"
    at = Place(id.decode(), dtype, base)
    at.require("id", found, {id}, f"{id.decode()}, in the blocks of the map")
    if number in seen:
        raise at.error("id", f"block {number} once more", "a chain that ends")
    if not rdb.sums_to_zero(block):
        raise at.error("checksum", "longs that do not sum to 0", "longs that do")
    seen.add(number)
    return block


def _put(origin: bytearray, base: int, block: bytes, links: dict[int, int]) -> None:
    """A block with other links, its longs made to sum to zero again."""
    changed = bytearray(block.ljust(512, b"\0"))
    for at, number in links.items():
        changed[at:at + 4] = number.to_bytes(4, "big")
    origin[base:base + 512] = rdb.sealed_bytes(bytes(changed))


def declared(blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
    """Everything that the blocks of an RDB lead to: partitions, bad blocks, file-system code."""
    links = ("next", "bad_block_list", "partition_list", "file_sys_header_list", "drive_init", "seg_list_blocks")
    words: dict[str, Words] = {"drive_name": lambda raw: f"“{rdb.bcpl(raw)}”", "dos_type": rdb.dos_type_name,
                               "mask": as_hex, "max_transfer": as_hex, **dict.fromkeys(links, _link)}
    if not map.origin:
        return
    place = rdb.head_of(map)[0]
    if place and mbr.probe(blocks.read(0, 512)):
        yield Declared(mbr.TITLE, mbr.SECTOR, 0)
    yield Declared("RDSK, rigid disk block", rdb.RDSK, place * 512, words, _longs)
    for p in map.partitions[:MOST_ENTRIES]:
        yield Declared(f"PART, {p.label}", rdb.PART, p.record, words, _longs)
    number, seen = int(rdb.head_of(map)[1]["bad_block_list"]), set[int]()
    while number != rdb.END and number not in seen and len(seen) < MOST_ENTRIES:
        seen.add(number)
        at = number * map.sector
        yield Declared("BADB, bad blocks", rdb.BADB, at, words, _longs)
        number = int(Place("BADB", rdb.BADB, at).read(blocks.read(at, rdb.BADB.itemsize))["next"])
    with suppress(MossError):
        for code in codes_in(map):
            yield Declared(f"FSHD, {code.name}", FSHD, code.numbers[0] * map.sector, words, _longs)


def _link(raw: bytes) -> str:
    number = int.from_bytes(raw, "big")
    return "none" if number == rdb.END else f"block {number}"


def _longs(block: bytes) -> Verdict:
    return SUMS if rdb.sums_to_zero(block) else SUMS_NOT
