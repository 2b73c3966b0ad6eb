"""An opened ext volume: everything that is read from it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from itertools import islice
from uuid import UUID

import numpy as np

from mosscrate.core.binary import Record
from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes.base import Entry, Kind, Tree, unread_folder
from mosscrate.core.volumes.ext import directory, journal
from mosscrate.core.volumes.ext.filesystem import Filesystem, open_filesystem
from mosscrate.core.volumes.ext.inodes import (
    FORMAT_MASK,
    IS_FILE,
    IS_FOLDER,
    IS_LINK,
    Inodes,
    inline_data,
    inline_extents,
    is_short_link,
    mapping_of,
    record_of,
    size_of,
)
from mosscrate.core.volumes.ext.mapping import Mapping
from mosscrate.core.volumes.ext.structures import CLEAN, FT_FOLDER, HAS_ERRORS, INLINE_DATA_FL, ROOT
from mosscrate.core.volumes.pieces import Pieces, ReadByPieces, following, pieces, within

LARGEST_FOLDER = 256 << 20
LARGEST_LINK = 65536
MOST_FAILURES = 16                       # blocks and inodes of a damaged folder before no more is tried
DOTS = (".", "..")
_SPECIAL = (0x1000, 0x2000, 0x6000, 0xC000)                       # pipes, two kinds of devices, sockets
_KINDS = {IS_FOLDER: Kind.FOLDER, IS_LINK: Kind.LINK, **dict.fromkeys(_SPECIAL, Kind.SPECIAL)}


class ExtVolume(ReadByPieces):
    """Reads one volume. A dirty journal is replayed on a view; the volume itself is not touched."""

    def __init__(self, blocks: Blocks) -> None:
        self.stored = open_filesystem(blocks)
        view, self.replayed = journal.replayed_view(self.stored)
        self.fs: Filesystem = open_filesystem(view) if self.replayed else self.stored
        self.blocks = self.fs.blocks
        self.inodes = Inodes(self.fs)

    @property
    def kind(self) -> str:
        """ext2, ext3 or ext4."""
        return kind_of_features(self.fs.features)

    @property
    def variant(self) -> str:
        """As its kind."""
        return self.kind

    @property
    def label(self) -> str:
        """The volume's name."""
        return str(self.fs.sb["volume_name"].tobytes().partition(b"\0")[0].decode("utf-8", "replace"))

    @property
    def id(self) -> str:
        """UUID."""
        return str(UUID(bytes=self.fs.sb["uuid"].tobytes()))

    @property
    def block(self) -> int:
        """Bytes in a block."""
        return self.fs.block

    @property
    def size(self) -> int:
        """Bytes of the file system."""
        return self.fs.block_count * self.fs.block

    @property
    def free(self) -> int:
        """Bytes in free blocks, as the group descriptors count them."""
        unit = self.fs.block << (int(self.fs.sb["log_cluster_size"]) - int(self.fs.sb["log_block_size"])
                                 if "bigalloc" in self.fs.features else 0)
        return min(self.size, int(self.fs.wide("free_blocks_count").sum()) * unit)

    @property
    def is_clean(self) -> bool:
        """Whether it was put away properly and notes no errors."""
        state = int(self.stored.sb["state"])
        return bool(state & CLEAN) and not state & HAS_ERRORS and "recover" not in self.stored.features

    def tree(self) -> Tree:
        """Every file, folder and link, breadth first; folders that cannot be read become findings."""
        found: list[Entry] = []
        findings: list[Finding] = []
        seen, queue = {ROOT}, [("", ROOT)]
        for path, number in queue:
            try:
                entries = self._entries(path, [r for r in self.rows(number) if r.name not in DOTS])
            except (FormatError, MediumError) as error:
                entries = self._salvaged(path, number)
                findings.append(unread_folder(path, error, is_shown=bool(entries)))
            found += entries
            for entry in entries:
                if entry.kind != Kind.FOLDER:
                    continue
                if entry.node in seen:
                    findings.append(Finding(Severity.PROBLEM, f"The folder “{entry.path}” leads to a folder "
                                            "that was there before.", entry.path))
                else:
                    seen.add(entry.node)
                    queue.append((entry.path, entry.node))
        return Tree(tuple(found), tuple(findings))

    def rows(self, number: int) -> Iterator[directory.Row]:
        """The entries of a folder by its inode, dots included. Raises FormatError, MediumError."""
        raw = self.inodes.raw(number)
        inode, where = record_of(raw), f"folder with inode {number}"
        if int(inode["mode"]) & FORMAT_MASK != IS_FOLDER:
            raise FormatError("ext inode", where, 0, oct(int(inode["mode"])), "the mode of a folder")
        count = int(self.fs.sb["inodes_count"])
        if int(inode["flags"]) & INLINE_DATA_FL:
            data = inline_data(raw)
            yield directory.Row(".", number, FT_FOLDER)
            yield directory.Row("..", int.from_bytes(data[:4], "little"), FT_FOLDER)
            for part in (data[4:60], data[60:]):
                if part:
                    yield from directory.rows(part, len(part), count, where)
            return
        size = size_of(inode)
        if size > min(LARGEST_FOLDER, self.size) or size % self.block:
            raise FormatError("ext inode", where, 0, size, f"whole blocks, at most {LARGEST_FOLDER} bytes")
        mapping = mapping_of(self.fs, inode, where)
        for run in mapping.runs:
            first = int(run["logical"]) * self.block
            length = min(int(run["length"]) * self.block, size - first)
            if length > 0:
                data = self.blocks.read(int(run["physical"]) * self.block, length)
                yield from directory.rows(data, self.block, count, where)

    def pieces_of(self, entry: Entry) -> Pieces:
        """Where the data of a file lie; holes and unwritten room are left out. Raises FormatError."""
        raw = self.inodes.raw(entry.node)
        inode = record_of(raw)
        if int(inode["mode"]) & FORMAT_MASK != IS_FILE:
            return following(())
        if int(inode["flags"]) & INLINE_DATA_FL:
            base = self.inodes.place(entry.node)
            return within(following(Extent(base + e.start, e.length) for e in inline_extents(raw)), 0, entry.size)
        return self._written(inode, entry)

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where a file or folder lies; holes and unwritten room are left out. Raises FormatError."""
        return tuple(Extent(place, length) for _, place, length in
                     self._written(self.inodes.get(entry.node), entry).tolist())

    def used_extents(self) -> tuple[Extent, ...]:
        """Every stretch that the block bitmaps mark as used, and the boot block."""
        from mosscrate.core.volumes.ext.allocation import Bitmaps
        if "bigalloc" in self.fs.features:
            return (Extent(0, self.size),)                   # its bitmaps count clusters
        bitmaps = Bitmaps(self.fs)
        edges: list[list[int]] = []
        for group in range(self.fs.groups):
            bits = bitmaps.block_bits(group)[:self.fs.group_length(group)]
            for first, last in runs_of(bits).tolist():
                start = self.fs.group_start(group) + first
                if edges and edges[-1][1] == start:
                    edges[-1][1] += last - first
                else:
                    edges.append([start, start + last - first])
        if self.fs.first_data:
            edges.insert(0, [0, 1])
        return tuple(Extent(a * self.block, (b - a) * self.block) for a, b in edges)

    def why_not(self, name: str) -> str:
        """Why a name cannot stand here; "" when it can."""
        return directory.why_not(name)

    def _written(self, inode: Record, entry: Entry) -> Pieces:
        size = size_of(inode)
        if size > self.block << 32:                          # logical blocks are numbered in 32 bits
            raise FormatError("ext inode", f"size of “{entry.path}”", 0, size, f"at most {self.block << 32}")
        runs = self._mapping(inode, entry).runs
        runs = runs[~runs["unwritten"].astype(bool)]
        return within(pieces(*(runs[f].astype(np.int64) * self.block for f in ("logical", "physical", "length"))),
                      0, size)

    def _mapping(self, inode: Record, entry: Entry) -> Mapping:
        return mapping_of(self.fs, inode, f"“{entry.path}”")

    def _salvaged(self, path: str, number: int) -> list[Entry]:
        """Entries in those blocks of a damaged folder that can be read, with inodes that can be."""
        found, failures, inodes = list[Entry](), 0, int(self.fs.sb["inodes_count"])
        for data in self._blocks_of(number):
            with suppress(FormatError):
                for row in directory.rows_until_damage(data, len(data), inodes, f"folder “{path}”"):
                    try:
                        found += self._entries(path, [row] if row.name not in DOTS else [])
                    except (FormatError, MediumError):
                        failures += 1
                    if failures > MOST_FAILURES:
                        return found
        return found

    def _blocks_of(self, number: int) -> Iterator[bytes]:
        """The blocks of a damaged folder that can be read."""
        failures = 0
        with suppress(FormatError, MediumError):
            inode = self.inodes.get(number)
            is_folder = int(inode["mode"]) & FORMAT_MASK == IS_FOLDER and not int(inode["flags"]) & INLINE_DATA_FL
            runs = mapping_of(self.fs, inode, f"folder with inode {number}").runs if is_folder else ()
            places = (int(run["physical"]) + ahead for run in runs for ahead in range(int(run["length"])))
            for place in islice(places, LARGEST_FOLDER // self.block):
                try:
                    yield self.blocks.read(place * self.block, self.block)
                except MediumError:
                    failures += 1
                if failures > MOST_FAILURES:
                    return

    def _entries(self, path: str, rows: list[directory.Row]) -> list[Entry]:
        """Entries of one folder; their inodes are read together."""
        if not rows:
            return []
        records = self.inodes.records([r.inode for r in rows])
        modes = records["mode"].astype(np.int64)
        sizes = records["size_lo"].astype(np.int64) | records["size_high"].astype(np.int64) << 32
        seconds = records["mtime"].astype(np.int32).astype(np.int64)
        if self.fs.inode_size > 128:
            has_extra = records["extra_isize"] >= 12
            seconds += np.where(has_extra, (records["mtime_extra"].astype(np.int64) & 3) << 32, 0)
        users = records["uid"].astype(np.int64) | records["uid_high"].astype(np.int64) << 16
        teams = records["gid"].astype(np.int64) | records["gid_high"].astype(np.int64) << 16
        prefix = f"{path}/" if path else ""
        found = []
        for row, mode, size, when, user, team in zip(rows, modes.tolist(), sizes.tolist(), seconds.tolist(),
                                                     users.tolist(), teams.tolist(), strict=True):
            kind = _KINDS.get(mode & FORMAT_MASK, Kind.FILE)
            target = self._target(row.inode) if kind == Kind.LINK else None
            is_file = mode & FORMAT_MASK == IS_FILE
            found.append(Entry(prefix + row.name, kind, max(0, size) if is_file else 0, when, row.inode, target,
                               row.name.startswith("."), mode & 0o7777, (user, team)))
        return found

    def _target(self, number: int) -> str:
        raw = self.inodes.raw(number)
        inode = record_of(raw)
        size = size_of(inode)
        if int(inode["flags"]) & INLINE_DATA_FL:
            data = inline_data(raw)
        elif is_short_link(inode):
            data = inode["block"].tobytes()[:size]
        elif size > LARGEST_LINK:
            raise FormatError("ext inode", f"size of link {number}", 0, size, f"at most {LARGEST_LINK}")
        else:
            runs = mapping_of(self.fs, inode, f"link {number}").runs
            data = b"".join(self.blocks.read(int(r["physical"]) * self.block, int(r["length"]) * self.block)
                            for r in runs)[:size]
        return data.decode("utf-8", "replace")


def kind_of_features(features: frozenset[str]) -> str:
    """ext2, ext3 or ext4, by what the volume uses."""
    if features & {"extents", "64bit", "flex_bg", "meta_bg", "metadata_csum", "inline_data", "gdt_csum", "huge_file",
                   "extra_isize", "dir_nlink"}:
        return "ext4"
    return "ext3" if "has_journal" in features else "ext2"


def open_ext(blocks: Blocks) -> ExtVolume:
    """Open an ext volume. Raises FormatError, MediumError."""
    return ExtVolume(blocks)

