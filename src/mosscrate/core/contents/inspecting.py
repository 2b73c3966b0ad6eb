"""The structures that a medium's map and volumes stand on, field by field: name, value, bytes."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any
from uuid import UUID

import numpy as np

from mosscrate.core.binary import Place
from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import MossError
from mosscrate.core.maps import MapKind, Partition, PartitionMap, ahdi, apple, gpt, mbr, rdb, rdb_code, read_map
from mosscrate.core.volumes import Volume, open_volume
from mosscrate.core.volumes.exfat import structures as exfat
from mosscrate.core.volumes.ext import structures as ext
from mosscrate.core.volumes.fat import FatVolume
from mosscrate.core.volumes.fat import structures as fat
from mosscrate.core.volumes.ffs import FfsVolume
from mosscrate.core.volumes.ffs import structures as ffs
from mosscrate.core.volumes.hfs import structures as hfs

Words = Callable[[bytes], str]
MOST_ENTRIES = 64                      # of a chain or table that are shown


@dataclass(frozen=True)
class Field:
    """One field. `offset` counts from the start of its structure; `value` is for people."""

    name: str
    offset: int
    raw: bytes
    value: str


@dataclass(frozen=True)
class Structure:
    """One structure on a medium.

    Attributes:
        offset: byte on the medium.
        data: its bytes.
        partition: whose it is; None for the map itself.
        owner: the name of its volume.
        verdict: what its checksum or signature says; "" where it has none.
    """

    title: str
    offset: int
    fields: tuple[Field, ...]
    data: bytes
    partition: int | None = None
    verdict: str = ""
    owner: str = ""

    @property
    def heading(self) -> str:
        """What it is and whose."""
        return f"{self.title} of {self.owner}" if self.owner else self.title


@dataclass(frozen=True)
class _Kind:
    """How a structure is read and shown; `words` has what single fields mean."""

    title: str
    dtype: np.dtype[Any]
    words: dict[str, Words] = field(default_factory=dict)
    verdict: Words | None = None


def inspect(blocks: Blocks) -> tuple[Structure, ...]:
    """Everything that is known by fields, the map first, then the volumes in the order of the map.

    What cannot be read is left out; the survey has said why. Raises MediumError, FormatError for the map.
    """
    blocks = straight(blocks)
    map_ = read_map(blocks)
    found = list(_of_map(blocks, map_))
    for partition in map_.partitions:
        with suppress(MossError):
            window = partition_window(blocks, partition)
            owner = partition.label or (f"partition {partition.index}" if partition.index else "")
            try:
                volume = open_volume(window)
                own = tuple(_of_volume(blocks, volume, partition))
                owner = volume.label or owner
            except MossError:
                own = tuple(_of_closed(blocks, window, partition))
            found += [replace(structure, owner=owner) for structure in own]
    return tuple(found)


# --- maps ----------------------------------------------------------------------------------------


def _of_map(blocks: Blocks, map: PartitionMap) -> Iterator[Structure]:
    match map.kind:
        case MapKind.RDB if map.origin:
            yield from _of_rdb(blocks, map)
        case MapKind.AHDI:
            for at in (0, *(p.record for p in map.partitions if ahdi.is_chained(p))):
                yield _shown(blocks, _Kind("Root sector" if at == 0 else "Chained root sector", ahdi.ROOT,
                                           verdict=_boots), at)
        case MapKind.APPLE:
            yield _shown(blocks, _Kind("Driver descriptor", apple.DRIVER), 0)
            for index in range(1, min(len(map.partitions), MOST_ENTRIES) + 1):
                yield _shown(blocks, _Kind(f"Map entry {index}", apple.ENTRY), index * map.sector)
        case MapKind.MBR | MapKind.GPT:
            yield _shown(blocks, _Kind("Master boot record", mbr.SECTOR), 0)
            if map.kind == MapKind.GPT:
                yield from _of_gpt(blocks, map)
            for at in sorted({p.record for p in map.partitions if p.record and map.kind == MapKind.MBR}):
                yield _shown(blocks, _Kind("Extended boot record", mbr.SECTOR), at)


def _of_rdb(blocks: Blocks, map: PartitionMap) -> Iterator[Structure]:
    links = ("next", "bad_block_list", "partition_list", "file_sys_header_list", "drive_init", "seg_list_blocks")
    words: dict[str, Words] = {"drive_name": _bcpl, "dos_type": rdb.dos_type_name, "mask": _hex, "max_transfer": _hex,
                               **dict.fromkeys(links, _link)}
    place = rdb.head_of(map)[0]
    if place and mbr.probe(blocks.read(0, 512)):
        yield _shown(blocks, _Kind("Master boot record", mbr.SECTOR), 0)
    yield _shown(blocks, _Kind("RDSK, rigid disk block", rdb.RDSK, words, _longs), place * 512)
    for p in map.partitions[:MOST_ENTRIES]:
        yield _shown(blocks, _Kind(f"PART, {p.label}", rdb.PART, words, _longs), p.record)
    number, seen = int(rdb.head_of(map)[1]["bad_block_list"]), set[int]()
    while number != rdb.END and number not in seen and len(seen) < MOST_ENTRIES:
        seen.add(number)
        shown = _shown(blocks, _Kind("BADB, bad blocks", rdb.BADB, words, _longs), number * map.sector)
        yield shown
        number = next(int.from_bytes(f.raw, "big") for f in shown.fields if f.name == "next")
    with suppress(MossError):
        for code in rdb_code.codes_in(map):
            kind = _Kind(f"FSHD, {code.name}", rdb_code.FSHD, words, _longs)
            yield _shown(blocks, kind, code.numbers[0] * map.sector)


def _of_gpt(blocks: Blocks, map: PartitionMap) -> Iterator[Structure]:
    guids: dict[str, Words] = {name: _guid for name in ("disk_guid", "type_guid", "unique_guid")}
    yield _shown(blocks, _Kind("GPT header", gpt.HEADER, guids), map.sector)
    header = Place("GPT", gpt.HEADER, map.sector).read(blocks.read(map.sector, gpt.HEADER.itemsize))
    first, size = int(header["partition_entry_lba"]) * map.sector, int(header["size_of_entry"])
    words = guids | {"name": lambda raw: raw.decode("utf-16-le", "replace").partition("\0")[0]}
    for p in map.partitions[:MOST_ENTRIES]:
        at = first + (p.index - 1) * size
        if size >= gpt.ENTRY.itemsize and at + size <= blocks.size:
            yield _shown(blocks, _Kind(f"GPT entry {p.index}", gpt.ENTRY, words), at)
    backup = int(header["alternate_lba"]) * map.sector
    if 0 < backup <= blocks.size - map.sector:
        yield _shown(blocks, _Kind("GPT header, second copy", gpt.HEADER, guids), backup)


# --- volumes -------------------------------------------------------------------------------------


def _of_volume(blocks: Blocks, volume: Volume, partition: Partition) -> Iterator[Structure]:
    base = partition.start
    if isinstance(volume, FfsVolume):
        yield from _of_ffs(blocks, partition, volume.root, volume.block)
    elif isinstance(volume, FatVolume):
        boot = fat.BOOT_GEMDOS if volume.boot.is_gemdos else fat.BOOT32 if volume.boot.is_fat32 else fat.BOOT16
        yield _shown(blocks, _Kind("Boot sector", boot, {"serial": _backwards}), base, partition.index)
        if volume.boot.is_fat32:
            yield _shown(blocks, _Kind("FSInfo", fat.FSINFO), base + 512, partition.index)
    elif volume.kind == "exfat":
        yield _shown(blocks, _Kind("Boot sector", exfat.BOOT), base, partition.index)
    elif volume.kind.startswith("ext"):
        yield _shown(blocks, _Kind("Superblock", ext.SUPERBLOCK), base + ext.SUPERBLOCK_AT, partition.index)
    elif volume.kind == "hfs":
        kind = _Kind("Master directory block", hfs.MDB, {"name": lambda raw: raw[1:1 + raw[0]].decode("mac_roman")})
        yield _shown(blocks, kind, base + hfs.MDB_AT, partition.index)


def _of_ffs(blocks: Blocks, partition: Partition, root: int, block: int) -> Iterator[Structure]:
    kind = _Kind("Boot block", ffs.BOOT, {"dos_type": rdb.dos_type_name})
    yield _shown(blocks, kind, partition.start, partition.index)
    kind = _Kind("Root block", ffs.root_dtype(block), {"name": _bcpl}, _sums)
    yield _shown(blocks, kind, partition.start + root * block, partition.index)


def _of_closed(blocks: Blocks, window: Blocks, partition: Partition) -> Iterator[Structure]:
    """What a volume that does not open should stand on, where its first bytes say what it is."""
    if window.read(0, 3) == b"DOS":
        yield from _of_ffs(blocks, partition, ffs.root_place(window.size // 512), 512)


# --- fields --------------------------------------------------------------------------------------


def _shown(blocks: Blocks, kind: _Kind, at: int, partition: int | None = None) -> Structure:
    data = blocks.read(at, kind.dtype.itemsize)
    whole = blocks.read(at, 512) if kind.verdict and kind.dtype.itemsize < 512 else data
    return Structure(kind.title, at, tuple(_fields(kind, kind.dtype, data, 0, "")), data, partition,
                     kind.verdict(whole) if kind.verdict else "")


def _fields(kind: _Kind, dtype: np.dtype[Any], data: bytes, base: int, prefix: str) -> Iterator[Field]:
    """Fields in their order; a table of records comes record by record."""
    assert dtype.fields is not None, "structures have fields"
    for name, (inner, offset, *_) in sorted(dtype.fields.items(), key=lambda item: item[1][1]):
        words, at = name.replace("_", " "), base + offset
        record, shape = inner.subdtype or (inner, ())
        if record.fields:
            for number in range(shape[0] if shape else 1):
                yield from _fields(kind, record, data, at + number * record.itemsize, f"{prefix}{words} {number + 1}: ")
        else:
            raw = data[at:at + inner.itemsize]
            yield Field(prefix + words, at, raw, kind.words.get(name, lambda raw, t=inner: _value(raw, t))(raw))


def _value(raw: bytes, dtype: np.dtype[Any]) -> str:
    """A number, numbers, or text where bytes read as such."""
    if dtype.base.kind in "iu":
        return "  ".join(str(v) for v in np.frombuffer(raw, dtype.base).tolist())
    if not any(raw):
        return "zeros"
    text = raw.rstrip(b"\0 ").decode("latin-1")
    return f"“{text}”" if text.isascii() and text.isprintable() else f"{len(raw)} bytes"


def _bcpl(raw: bytes) -> str:
    return f"“{rdb.bcpl(raw)}”"


def _hex(raw: bytes) -> str:
    return f"0x{raw.hex()}"


def _link(raw: bytes) -> str:
    """A block number of an RDB."""
    number = int.from_bytes(raw, "big")
    return "none" if number == rdb.END else f"block {number}"


def _backwards(raw: bytes) -> str:
    """A little-endian number as people write a serial."""
    return raw[::-1].hex().upper()


def _guid(raw: bytes) -> str:
    return str(UUID(bytes_le=raw))


def _longs(block: bytes) -> str:
    return "its longs sum to zero" if rdb.sums_to_zero(block) else "its checksum is wrong"


def _sums(block: bytes) -> str:
    return "its checksum is wrong" if ffs.sum_of(ffs.longs_of(block)) else "its longs sum to zero"


def _boots(sector: bytes) -> str:
    return "its machine boots from it" if ahdi.is_bootable(sector) else "not marked to boot from"
