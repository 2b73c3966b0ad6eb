"""An opened HFS volume, for reading: the catalog as a tree, data forks, and which files have a resource fork."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.base import Entry, Kind, Tree
from mosscrate.core.volumes.hfs import structures as s
from mosscrate.core.volumes.pieces import Pieces, ReadByPieces, following


@dataclass(frozen=True)
class Fork:
    """One fork of a file: its length in bytes and its first extents as (block, count)."""

    length: int
    extents: tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class CatalogRecord:
    """One file or folder of the catalog."""

    parent: int
    name: str
    id: int
    is_folder: bool
    modified: int
    data: Fork
    resource: Fork
    inside: int = 0                      # entries that a folder has by its own count


class HfsVolume(ReadByPieces):
    """Reads one volume; the catalog is read once, when first asked for."""

    kind = "hfs"
    variant = "hfs"

    def __init__(self, blocks: Blocks, mdb: Record) -> None:
        self.blocks, self.mdb = blocks, mdb

    @property
    def label(self) -> str:
        """The volume's name."""
        return _pascal(self.mdb["name"].tobytes())

    @property
    def id(self) -> str:
        """The moment of its creation tells it apart."""
        return f"{int(self.mdb['created']):08X}"

    @property
    def block(self) -> int:
        """Bytes in an allocation block."""
        return int(self.mdb["block_size"])

    @property
    def size(self) -> int:
        """Bytes of the volume, its two closing sectors included."""
        return int(self.mdb["first_block"]) * 512 + int(self.mdb["block_count"]) * self.block + 1024

    @property
    def free(self) -> int:
        """Bytes in free allocation blocks."""
        return int(self.mdb["free_blocks"]) * self.block

    @property
    def is_clean(self) -> bool:
        """Whether it was put away properly."""
        return bool(int(self.mdb["attributes"]) & s.UNMOUNTED)

    @cached_property
    def records(self) -> list[CatalogRecord]:
        """Every file and folder of the catalog in its order. Raises FormatError."""
        return [r for key, data in self._leaves("catalog") if (r := _catalog_record(key, data))]

    @cached_property
    def overflow(self) -> dict[tuple[int, int], list[tuple[int, tuple[tuple[int, int], ...]]]]:
        """(fork, file id): [(first block of the file, extents)] of files in more than three pieces."""
        found: dict[tuple[int, int], list[tuple[int, tuple[tuple[int, int], ...]]]] = {}
        for key, data in self._leaves("extents"):
            fork, number, start = key[1], int.from_bytes(key[2:6], "big"), int.from_bytes(key[6:8], "big")
            found.setdefault((fork, number), []).append((start, _extents(data[:12])))
        return found

    def tree(self) -> Tree:
        """Every file and folder, folders before what they hold."""
        children: dict[int, list[CatalogRecord]] = {}
        for record in self.records:
            children.setdefault(record.parent, []).append(record)
        found: list[Entry] = []
        findings: list[Finding] = []
        queue, seen = [("", s.ROOT, int(self.mdb["root_files"]) + int(self.mdb["root_folders"]))], {s.ROOT}
        for path, folder, told in queue:
            inside = children.get(folder, [])
            if told > len(inside):
                findings.append(Finding(Severity.WARNING, f"The folder “{path or '/'}” counts "
                                        f"{counted(told, 'entry', 'entries')}; {counted(len(inside), 'is', 'are')} "
                                        "named in the catalog.", path))
            for record in inside:
                full = f"{path}/{record.name}" if path else record.name
                kind = Kind.FOLDER if record.is_folder else Kind.FILE
                size = 0 if record.is_folder else record.data.length
                found.append(Entry(full, kind, size, record.modified - s.EPOCH, record.id,
                                   resource=record.resource.length))
                if record.is_folder and record.id in seen:
                    findings.append(Finding(Severity.PROBLEM, f"The folder “{full}” leads to a folder that was there "
                                            "before.", full))
                elif record.is_folder:
                    seen.add(record.id)
                    queue.append((full, record.id, record.inside))
        return Tree(tuple(found), tuple(findings))

    def pieces_of(self, entry: Entry) -> Pieces:
        """The extents of the data fork, one behind the other. Raises FormatError."""
        return following(self.extents_of(entry))

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where the data fork lies. Raises FormatError."""
        record = self._by_id.get(entry.node)
        if record is None or record.is_folder:
            return ()
        return self._places(record.data, s.DATA_FORK, record.id)

    def used_extents(self) -> tuple[Extent, ...]:
        """Boot blocks, bitmap and used allocation blocks; the copy of the directory block at the end."""
        count = int(self.mdb["block_count"])
        raw = self.blocks.read(int(self.mdb["bitmap_start"]) * 512, -(-count // 8))
        used = np.unpackbits(np.frombuffer(raw, np.uint8))[:count].astype(bool)
        base = int(self.mdb["first_block"]) * 512
        edges = runs_of(used).tolist()
        tail = base + count * self.block
        return (Extent(0, base), *(Extent(base + a * self.block, (b - a) * self.block) for a, b in edges),
                Extent(tail, min(self.blocks.size, tail + 1024) - tail))

    def why_not(self, name: str) -> str:
        """Nothing is written here."""
        return "volumes of this kind are only read here"

    @cached_property
    def _by_id(self) -> dict[int, CatalogRecord]:
        return {r.id: r for r in self.records}

    def _places(self, fork: Fork, kind: int, number: int) -> tuple[Extent, ...]:
        """The bytes of a fork. Raises FormatError where its extents leave the volume or are too few."""
        runs = list(fork.extents)
        for _, more in sorted(self.overflow.get((kind, number), [])) if number > 4 else ():
            runs += more
        found, left = [], fork.length
        base = int(self.mdb["first_block"]) * 512
        for first, count in runs:
            if left <= 0 or count == 0:
                continue
            if first + count > int(self.mdb["block_count"]):
                raise FormatError("HFS extent", f"file {number}", 0, first, "blocks of the volume")
            length = min(left, count * self.block)
            found.append(Extent(base + first * self.block, length))
            left -= length
        if left > 0:
            raise FormatError("HFS extent", f"file {number}", 0, fork.length, f"{fork.length - left} bytes at most")
        return tuple(found)

    def _leaves(self, which: str) -> Iterator[tuple[bytes, bytes]]:
        """(key, data) of every leaf record of a B-tree. Raises FormatError for a loop or a lie."""
        fork = Fork(int(self.mdb[f"{which}_size"]), _extents(self.mdb[f"{which}_extents"].tobytes()))
        number = 4 if which == "catalog" else 3
        runs = list(fork.extents)
        if which == "catalog":
            for _, more in sorted(self.overflow.get((s.DATA_FORK, number), [])):
                runs += more
        places = self._places(Fork(fork.length, tuple(runs)), s.DATA_FORK, number)
        data = b"".join(self.blocks.read(e.start, e.length) for e in places)
        node, seen = int.from_bytes(data[24:28], "big"), set[int]()
        while node:
            at = node * s.NODE_SIZE
            if node in seen or at + s.NODE_SIZE > len(data) or len(seen) > s.MOST_NODES:
                raise FormatError(f"HFS {which}", "leaf", at, node, "a chain of leaves that ends")
            seen.add(node)
            following, _, kind, _, count, _ = s.NODE.unpack_from(data, at)
            if kind != s.LEAF or count > 248:
                raise FormatError(f"HFS {which}", "node type", at, kind, "a leaf")
            offsets = np.frombuffer(data, ">u2", count=count + 1, offset=at + s.NODE_SIZE - 2 * (count + 1))[::-1]
            for first, last in zip(offsets[:-1].tolist(), offsets[1:].tolist(), strict=True):
                record = data[at + first:at + last]
                if 14 <= first < last <= s.NODE_SIZE and record[0] + 1 <= len(record):
                    length = (record[0] + 2) // 2 * 2
                    yield record[:record[0] + 1], record[length:]
            node = following


def open_hfs(blocks: Blocks) -> HfsVolume:
    """Open an HFS volume. Raises FormatError, MediumError."""
    at = Place("HFS master directory block", s.MDB, s.MDB_AT)
    mdb = at.read(blocks.read(s.MDB_AT, min(512, max(0, blocks.size - s.MDB_AT))))
    at.require("signature", mdb["signature"].tobytes(), {s.SIGNATURE})
    if mdb["embedded_signature"].tobytes() == b"H+":
        raise at.error("embedded_signature", "H+", "a volume that is not the shell of a later kind")
    size = at.require("block_size", int(mdb["block_size"]), range(512, 1 << 24, 512))
    end = int(mdb["first_block"]) * 512 + int(mdb["block_count"]) * size
    if end > blocks.size:
        raise at.error("block_count", int(mdb["block_count"]), f"blocks inside the {blocks.size} bytes there are")
    return HfsVolume(blocks, mdb)


def _catalog_record(key: bytes, data: bytes) -> CatalogRecord | None:
    """A file or folder; None for threads and for what is cut short."""
    if len(key) < 7 or not data:
        return None
    parent, name = int.from_bytes(key[2:6], "big"), _pascal(key[6:]).replace("/", ":")
    none = Fork(0, ())
    if data[0] == s.FOLDER and len(data) >= s.FOLDER_RECORD.size and parent != s.ROOT_PARENT and name:
        _, _, inside, number, _, modified = s.FOLDER_RECORD.unpack_from(data)
        return CatalogRecord(parent, name, number, is_folder=True, modified=modified, data=none, resource=none,
                             inside=inside)
    if data[0] == s.FILE and len(data) >= s.FILE_RECORD.size and name:
        (_, _, _, _, number, _, length, _, _, resource, _, _, modified, _, _, _, first, second) = \
            s.FILE_RECORD.unpack_from(data)
        return CatalogRecord(parent, name, number, is_folder=False, modified=modified,
                             data=Fork(length, _extents(first)), resource=Fork(resource, _extents(second)))
    return None


def _extents(raw: bytes) -> tuple[tuple[int, int], ...]:
    values = np.frombuffer(raw, ">u2", count=6).tolist()
    return tuple((values[k], values[k + 1]) for k in (0, 2, 4) if values[k + 1])


def _pascal(raw: bytes) -> str:
    return raw[1:1 + min(raw[0], len(raw) - 1)].decode("mac_roman") if raw else ""
