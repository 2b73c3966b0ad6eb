"""Changing what is on an ext volume: files, folders and links made, removed, renamed; the label.

A changed folder is written anew as linear blocks; the index of a hashed one is dropped, which every
kernel accepts and rebuilds when it is asked to.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.errors import FitError
from mosscrate.core.volumes.base import PLAIN, Data, Traits
from mosscrate.core.volumes.debt import FolderDebt
from mosscrate.core.volumes.ext import directory
from mosscrate.core.volumes.ext.directory import Row
from mosscrate.core.volumes.ext.facts import label_of
from mosscrate.core.volumes.ext.filesystem import crc32c
from mosscrate.core.volumes.ext.inodes import FORMAT_MASK, IS_FILE, IS_FOLDER, IS_LINK, record_of, xattr_block
from mosscrate.core.volumes.ext.structures import (
    FT_FILE,
    FT_FOLDER,
    FT_LINK,
    INODE,
    ROOT,
    XATTR_MAGIC,
)
from mosscrate.core.volumes.ext.volume import ExtVolume
from mosscrate.core.volumes.ext.writer import Writer, runs_from
from mosscrate.core.volumes.filling import fill, pieces_of

MAX_LINKS = 65000
FILE_MODE, FOLDER_MODE, LINK_MODE = 0o644, 0o755, 0o777
SHORT_LINK = 60
LONGEST_ENTRY = 8 + 256 + 12             # with a name of 255 bytes, and the checksum at a block's end


@dataclass
class _Folder:
    """A folder held in memory."""

    number: int
    parent: int
    rows: dict[str, Row] = field(default_factory=dict)
    is_changed: bool = False
    owner: tuple[int, int] | None = None                 # what new entries inherit, once it was asked for


class ExtEditor:
    """Changes one volume; see `Editor`."""

    def __init__(self, blocks: Blocks, *, now: Callable[[], float] = time.time) -> None:
        self.volume = ExtVolume(blocks)
        self.volume.stored.must_be_changeable()
        self._fs, self._blocks = self.volume.fs, blocks
        self._w = Writer(self._fs, now=now)
        self._folders: dict[int, _Folder] = {}
        # Entries do not cross blocks, and a longer folder may need a block for its map.
        self._debt = FolderDebt(self._fs.block, usable=self._fs.block - LONGEST_ENTRY, spare=1)

    def has(self, path: str) -> bool:
        """See Editor."""
        try:
            self._row(path)
        except FitError:
            return path.strip("/") == ""
        return True

    def add_folder(self, path: str, traits: Traits = PLAIN) -> None:
        """See Editor."""
        parent, name = self._place(path)
        present = parent.rows.get(name)
        if present is not None and present.type == FT_FOLDER:
            return
        self._must_be_new(parent, path, name)
        self._must_have_room(parent, name, 1)
        number = self._w.allocator.take_inode(is_folder=True)
        mode = IS_FOLDER | (FOLDER_MODE if traits.mode is None else traits.mode)
        self._w.put_inode(number, self._w.new_inode(mode=mode, owner=self._owner(parent, traits), size=0, links=2,
                                                    modified=traits.modified, generation=self._generation(number)))
        self._folders[number] = _Folder(number, parent.number, {}, is_changed=True)
        self._enter(parent, Row(name, number, FT_FOLDER))
        self._count_links(parent.number, 1)

    def add_file(self, path: str, data: Data, traits: Traits = PLAIN, *, size: int | None = None) -> None:
        """See Editor."""
        pieces, size = pieces_of(data, size)
        parent, name = self._place(path)
        self._must_be_new(parent, path, name)
        if size >= 1 << 31 and "large_file" not in self._fs.features:
            raise FitError(f"“{path}” is larger than the 2 GiB that this volume can hold in one file.")
        needed = -(-size // self._fs.block)
        self._must_have_room(parent, name, needed + (1 + needed // 128 if needed > 4 else 0))
        number = self._w.allocator.take_inode(is_folder=False)
        taken = self._take(needed, number)
        mode = IS_FILE | (FILE_MODE if traits.mode is None else traits.mode)
        fill(self._blocks, self._extents(taken), pieces, size, self._fs.block)
        with self._undone(taken, number):
            raw = self._w.new_file(number, taken, mode=mode, owner=self._owner(parent, traits), size=size,
                                   modified=traits.modified, generation=self._generation(number))
        self._w.put_inode(number, raw)
        self._enter(parent, Row(name, number, FT_FILE))

    def add_link(self, path: str, target: str, traits: Traits = PLAIN) -> None:
        """See Editor."""
        parent, name = self._place(path)
        self._must_be_new(parent, path, name)
        data = target.encode("utf-8", "surrogateescape")
        if not data or len(data) >= self._fs.block:
            raise FitError(f"The target of the link “{path}” is empty or too long.")
        self._must_have_room(parent, name, 0 if len(data) < SHORT_LINK else 1)
        number = self._w.allocator.take_inode(is_folder=False)
        raw = self._w.new_inode(mode=IS_LINK | LINK_MODE, owner=self._owner(parent, traits), size=len(data), links=1,
                                modified=traits.modified, generation=self._generation(number))
        if len(data) < SHORT_LINK:
            at = INODE.fields["block"][1]                                # type: ignore[index]
            raw = raw[:at] + data.ljust(60, b"\0") + raw[at + 60:]
        else:
            taken = self._take(1, number)
            fill(self._blocks, self._extents(taken), iter((data,)), len(data), self._fs.block)
            raw = self._w.with_runs(number, raw, runs_from(taken))
        self._w.put_inode(number, raw)
        self._enter(parent, Row(name, number, FT_LINK))

    def remove(self, path: str) -> None:
        """See Editor."""
        parent, name = self._place(path)
        row = self._row(path)
        if self._is_folder(row.inode):
            for inner in list(self._folder(row.inode).rows):
                self.remove(f"{path.strip('/')}/{inner}")
            self._folders.pop(row.inode, None)
            self._count_links(parent.number, -1)
            self._drop(row.inode, path, is_folder=True)
        else:
            raw = self._w.raw(row.inode)
            inode = record_of(raw)
            if int(inode["links_count"]) > 1:
                inode["links_count"] = int(inode["links_count"]) - 1
                self._w.put_inode(row.inode, inode.tobytes()[:len(raw)] + raw[INODE.itemsize:])
            else:
                self._drop(row.inode, path, is_folder=False)
        del parent.rows[name]
        parent.is_changed = True

    def rename(self, path: str, new: str) -> None:
        """See Editor."""
        old_parent, name = self._place(path)
        parent, new_name = self._place(new)
        row = self._row(path)
        if self._is_folder(row.inode) and f"{new.strip('/')}/".startswith(f"{path.strip('/')}/") and new != path:
            raise FitError(f"“{path}” cannot be moved into itself.")
        self._must_be_new(parent, new, new_name)
        self._must_have_room(parent, new_name, 0)
        del old_parent.rows[name]
        old_parent.is_changed = True
        self._enter(parent, Row(new_name, row.inode, row.type))
        if self._is_folder(row.inode) and parent is not old_parent:
            self._count_links(old_parent.number, -1)
            self._count_links(parent.number, 1)
            moved = self._folder(row.inode)
            moved.parent, moved.is_changed = parent.number, True

    def relabel(self, label: str) -> None:
        """See Editor."""
        self._fs.sb["volume_name"] = np.void(label_of(label).encode().ljust(16, b"\0"))

    def commit(self) -> None:
        """See Editor."""
        for folder in sorted((f for f in self._folders.values() if f.is_changed), key=lambda f: f.number):
            dots = (Row(".", folder.number, FT_FOLDER), Row("..", folder.parent, FT_FOLDER))
            raw = self._w.write_folder(folder.number, self._w.raw(folder.number), (*dots, *folder.rows.values()))
            self._w.put_inode(folder.number, raw)
            folder.is_changed = False
        self._w.commit()
        self._debt.settle()

    # --- finding the way -------------------------------------------------------------------------

    def _place(self, path: str) -> tuple[_Folder, str]:
        """The folder that a path stands in, and its name there. Raises FitError."""
        parent, _, name = path.strip("/").rpartition("/")
        return self._folder(self._number(parent)), name

    def _number(self, path: str) -> int:
        number = ROOT
        for part in path.split("/") if path else ():
            row = self._folder(number).rows.get(part)
            if row is None or not self._is_folder(row.inode):
                raise FitError(f"There is no folder “{path}” on this volume.")
            number = row.inode
        return number

    def _row(self, path: str) -> Row:
        parent, name = self._place(path)
        if name not in parent.rows:
            raise FitError(f"There is no “{path}” on this volume.")
        return parent.rows[name]

    def _folder(self, number: int) -> _Folder:
        if number not in self._folders:
            folder = _Folder(number, ROOT)
            for row in self.volume.rows(number):
                if row.name == "..":
                    folder.parent = row.inode
                elif row.name != ".":
                    folder.rows[row.name] = row
            self._folders[number] = folder
        return self._folders[number]

    def _is_folder(self, number: int) -> bool:
        return number in self._folders or int(record_of(self._w.raw(number))["mode"]) & FORMAT_MASK == IS_FOLDER

    # --- noting changes --------------------------------------------------------------------------

    def _must_be_new(self, parent: _Folder, path: str, name: str) -> None:
        directory.encoded(name)
        if name in parent.rows:
            raise FitError(f"“{path}” is there already.")

    def _must_have_room(self, parent: _Folder, name: str, blocks: int) -> None:
        """Raises FitError where data and folders together would not fit."""
        entry = 12 + len(name.encode("utf-8", "surrogateescape"))
        self._debt.must_fit(parent.number, entry, blocks, self._w.allocator.free)
        self._debt.note(parent.number, entry)

    def _take(self, count: int, number: int) -> list[tuple[int, int]]:
        """Blocks for a new inode; where there are none, the inode is given back. Raises FitError."""
        with self._undone([], number):
            return self._w.allocator.take(count)

    @contextmanager
    def _undone(self, taken: list[tuple[int, int]], number: int) -> Iterator[None]:
        """Give back what a new file has taken where it cannot be made after all."""
        try:
            yield
        except FitError:
            for first, count in taken:
                self._w.allocator.release(first, count)
            self._w.allocator.release_inode(number, is_folder=False)
            raise

    def _extents(self, taken: list[tuple[int, int]]) -> Iterator[Extent]:
        for first, count in taken:
            yield Extent(first * self._fs.block, count * self._fs.block)

    def _enter(self, parent: _Folder, row: Row) -> None:
        parent.rows[row.name] = row
        parent.is_changed = True

    def _owner(self, parent: _Folder, traits: Traits) -> tuple[int, int]:
        if traits.owner is not None:
            return traits.owner
        if parent.owner is None:
            inode = record_of(self._w.raw(parent.number))
            parent.owner = (int(inode["uid"]) | int(inode["uid_high"]) << 16,
                            int(inode["gid"]) | int(inode["gid_high"]) << 16)
        return parent.owner

    def _generation(self, number: int) -> int:
        return crc32c(self._w.now & 0xFFFFFFFF, number.to_bytes(4, "little"))

    def _count_links(self, number: int, step: int) -> None:
        raw = self._w.raw(number)
        inode = record_of(raw)
        links = int(inode["links_count"])
        if links == 1 and "dir_nlink" in self._fs.features:
            return                                       # "more than can be counted"
        inode["links_count"] = 1 if links + step > MAX_LINKS else links + step
        self._w.put_inode(number, inode.tobytes()[:len(raw)] + raw[INODE.itemsize:])

    def _drop(self, number: int, path: str, *, is_folder: bool) -> None:
        raw = self._w.raw(number)
        self._w.release_data(raw, f"“{path}”")
        self._release_attributes(xattr_block(record_of(raw)))
        self._w.allocator.release_inode(number, is_folder=is_folder)
        self._w.put_inode(number, bytes(len(raw)))

    def _release_attributes(self, block: int) -> None:
        """Give up one claim to a block of extended attributes, which files may share."""
        if not block:
            return
        fs = self._fs
        data = bytearray(self._w.pending.get(block) or self._blocks.read(block * fs.block, fs.block))
        claims = int.from_bytes(data[4:8], "little")
        if int.from_bytes(data[:4], "little") != XATTR_MAGIC or claims <= 1:
            self._w.pending.pop(block, None)
            self._w.allocator.release(block, 1)
            return
        data[4:8] = (claims - 1).to_bytes(4, "little")
        self._w.pending[block] = sealed_attributes(fs.seed if fs.has_checksums else None, block, bytes(data))



def sealed_attributes(seed: int | None, block: int, data: bytes) -> bytes:
    """A block of extended attributes with its checksum at byte 16, if the volume has checksums."""
    if seed is None:
        return data
    blank = data[:16] + bytes(4) + data[20:]
    return blank[:16] + crc32c(crc32c(seed, block.to_bytes(8, "little")), blank).to_bytes(4, "little") + blank[20:]
