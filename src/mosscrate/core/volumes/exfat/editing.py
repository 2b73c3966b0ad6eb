"""Changing what is on an exFAT volume: files and folders made, removed, renamed; the label.

A file that finds its room in one piece is noted as contiguous and needs no FAT. Clusters of new files
are written at once; folders, FAT and bitmap are held in memory and written by `commit`. Clusters
that this edit itself has freed are used last.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.runs import distinct, runs_of
from mosscrate.core.errors import FitError
from mosscrate.core.volumes.base import PLAIN, Data, Traits
from mosscrate.core.volumes.by_name import ByName
from mosscrate.core.volumes.clusters import BAD, END, NOTHING, Clusters, FreeClusters, Table, copy_of, extents_of
from mosscrate.core.volumes.debt import FolderDebt
from mosscrate.core.volumes.exfat import directory, names
from mosscrate.core.volumes.exfat.making import label_entry
from mosscrate.core.volumes.exfat.structures import (
    ARCHIVE,
    ENTRY_SIZE,
    FILE,
    IS_FOLDER,
    LABEL,
    MAX_FOLDER,
    NAME_UNITS,
)
from mosscrate.core.volumes.exfat.volume import ExfatVolume, open_exfat
from mosscrate.core.volumes.filling import Gathering, fill, pieces_of

_FAT_PIECE = 4096


@dataclass
class _Item:
    """One name in a folder and its entry set."""

    name: str
    raw: bytes
    clusters: Clusters | None            # None: as its set says, not looked up yet
    row: directory.Row | None            # None for what this edit made
    is_folder: bool


@dataclass
class _Folder:
    """A folder held in memory; `head` are entries that name no file."""

    path: str
    item: _Item | None                   # None: the root
    clusters: Clusters
    items: ByName[_Item]
    head: bytes = b""
    is_changed: bool = False

    @property
    def data(self) -> bytes:
        """The entries as they are written."""
        return self.head + b"".join(i.raw for i in self.items)


class ExfatEditor:
    """Changes one volume; see `Editor`."""

    def __init__(self, blocks: Blocks) -> None:
        self.volume: ExfatVolume = open_exfat(blocks)
        self._blocks, self._g = blocks, self.volume.geometry
        if self.volume.boot.warnings or self._g.fat_count != 1:
            raise FitError("The volume does not agree with its partition, or keeps two FATs; it is left alone.")
        self._table: Table = copy_of(self.volume.table)
        self._bits = self.volume.bitmap.copy()
        is_free = ~self._bits & (self._table[2:] != BAD)
        self._free = FreeClusters(runs_of(is_free) + 2, self._g.cluster)
        self._debt, self._data = FolderDebt(self._g.cluster), Gathering(blocks)
        self._folders: dict[str, _Folder] = {}
        blocks.forgo(self._free.extents(self._g))

    def has(self, path: str) -> bool:
        """See Editor."""
        try:
            self._item(path)
        except FitError:
            return path.strip("/") == ""
        return True

    def add_folder(self, path: str, traits: Traits = PLAIN) -> None:
        """See Editor."""
        parent, name = self._split(path)
        folder = self._folder(parent)
        present = folder.items.find(name)
        if present is not None and present.is_folder:
            return
        self._must_be_new(folder, path, name)
        self._must_have_room(folder, name, 1)
        clusters = self._take(1)
        self._data.zero(self._g.cluster_offset(int(clusters[0])), self._g.cluster)
        item = self._enter(folder, name, traits, clusters, IS_FOLDER, self._g.cluster)
        key = self._key(path)
        self._folders[key] = _Folder(path.strip("/"), item, clusters, ByName(self._folded), is_changed=True)

    def add_file(self, path: str, data: Data, traits: Traits = PLAIN, *, size: int | None = None) -> None:
        """See Editor."""
        pieces, size = pieces_of(data, size)
        parent, name = self._split(path)
        folder = self._folder(parent)
        self._must_be_new(folder, path, name)
        self._must_have_room(folder, name, -(-size // self._g.cluster))
        clusters = self._take(-(-size // self._g.cluster))
        fill(self._data, extents_of(clusters, self._g), pieces, size, self._g.cluster)
        self._enter(folder, name, traits, clusters, ARCHIVE, size)

    def add_link(self, path: str, target: str, traits: Traits = PLAIN) -> None:
        """exFAT has no links. Raises FitError."""
        raise FitError(f"“{path}” is a link; exFAT has none.")

    def remove(self, path: str) -> None:
        """See Editor."""
        parent, _ = self._split(path)
        item = self._item(path)
        if item.is_folder:
            for inner in list(self._folder(path).items):
                self.remove(f"{path.strip('/')}/{inner.name}")
            clusters = self._folders.pop(self._key(path)).clusters
        else:
            clusters = self._clusters_of(item)
        if len(clusters):
            self._bits[clusters - 2] = False
            self._table[clusters] = 0
            self._free.give_back(clusters)
        folder = self._folder(parent)
        folder.items.drop(item)
        folder.is_changed = True

    def rename(self, path: str, new: str) -> None:
        """See Editor."""
        parent, _ = self._split(path)
        to, new_name = self._split(new)
        item, old_folder, folder = self._item(path), self._folder(parent), self._folder(to)
        old_key, new_key = self._key(path), self._key(new)
        if item.is_folder and new_key.startswith(old_key + "/"):
            raise FitError(f"“{path}” cannot be moved into itself.")
        if folder.items.others(new_name, item):
            raise FitError(f"“{new}” is there already.")
        self._must_be_possible(new_name)
        self._must_have_room(folder, new_name, 0)
        if item.is_folder:
            self._folder(path)
            for key in [k for k in self._folders if k == old_key or k.startswith(old_key + "/")]:
                carried = self._folders.pop(key)
                carried.path = new.strip("/") + carried.path[len(old_key):]
                self._folders[new_key + key[len(old_key):]] = carried
        old_folder.items.drop(item)
        old_folder.is_changed = folder.is_changed = True
        item.raw = self._renamed(item.raw, new_name)
        item.name = new_name
        folder.items.put(item)

    def relabel(self, label: str) -> None:
        """See Editor."""
        root, entry = self._folder(""), label_entry(label)
        heads = [root.head[at:at + ENTRY_SIZE] for at in range(0, len(root.head), ENTRY_SIZE)]
        rest = [h for h in heads if h[0] & 0x7F != LABEL & 0x7F]
        root.head, root.is_changed = entry + b"".join(rest), True

    def replace_bitmap(self, bits: NDArray[np.bool_]) -> None:
        """Take another bitmap for the one that stands there, shape (cluster_count,)."""
        self._bits = bits

    def commit(self) -> None:
        """Write folders from the deepest up, then FAT, bitmap and the boot sector's share in use."""
        self._data.settle()
        writes: list[tuple[int, bytes]] = []
        for folder in sorted(self._folders.values(), key=lambda f: -len(f.path.split("/")) if f.path else 1):
            if folder.is_changed:
                writes += self._folder_writes(folder)
        writes += self._fat_writes()
        writes += self._bitmap_writes()
        writes.append((112, bytes((int(self._bits.sum()) * 100 // self._g.cluster_count,))))
        for at, data in writes:
            self._blocks.write(at, data)
        self._blocks.flush()
        for folder in self._folders.values():
            folder.is_changed = False
        self._debt.settle()

    # --- folders ---------------------------------------------------------------------------------

    def _split(self, path: str) -> tuple[str, str]:
        parent, _, name = path.strip("/").rpartition("/")
        return parent, name

    def _folded(self, name: str) -> str:
        return name.translate(self.volume.upcase)

    def _key(self, path: str) -> str:
        return self._folded(path.strip("/"))

    def _folder(self, path: str) -> _Folder:
        key = self._key(path)
        if key in self._folders:
            return self._folders[key]
        if key == "":
            data, item = self.volume.root_bytes, None
            clusters = self._chain(self._g.root_cluster)
        else:
            item = self._item(path)
            if not item.is_folder or item.row is None:
                raise FitError(f"“{path}” is a file, not a folder.")
            if not self._folder(self._split(path)[0]).items.is_alone(item):
                raise FitError(f"“{path}” has a namesake that this file system takes for the same; nothing is changed "
                               "in it.")
            data = self.volume.folder_bytes(item.row.first_cluster, contiguous=item.row.is_contiguous,
                                            length=item.row.data_length)
            clusters = self._clusters_of(item)
        folder = _Folder(path.strip("/"), item, clusters, ByName(self._folded), _other_entries(data))
        for row in directory.rows(data):
            raw = data[row.slot * ENTRY_SIZE:(row.slot + row.slots) * ENTRY_SIZE]
            folder.items.put(_Item(row.name, raw, None, row, row.is_folder))
        self._folders[key] = folder
        return folder

    def _item(self, path: str) -> _Item:
        parent, name = self._split(path)
        found = self._folder(parent).items.find(name) if name else None
        if found is None:
            raise FitError(f"There is no “{path}” on this volume.")
        return found

    def _must_be_new(self, folder: _Folder, path: str, name: str) -> None:
        self._must_be_possible(name)
        if name in folder.items:
            raise FitError(f"“{path}” is there already.")

    def _must_be_possible(self, name: str) -> None:
        problem = names.why_not(name)
        if problem:
            raise FitError(f"“{name}” cannot stand on an exFAT volume: {problem}.")

    def _enter(self, folder: _Folder, name: str, traits: Traits, clusters: Clusters, attributes: int,
               size: int) -> _Item:
        contiguous = _is_contiguous(clusters)
        if len(clusters) and not contiguous:
            self._link(clusters)
        attributes = traits.dos_attributes(attributes & ~IS_FOLDER) | attributes & IS_FOLDER
        raw = directory.build(name, hash=names.name_hash(self._folded(name)), attributes=attributes,
                              first_cluster=int(clusters[0]) if len(clusters) else 0, size=size,
                              is_contiguous=contiguous, stamp=names.stamp_of(traits.modified))
        item = _Item(name, raw, clusters, None, bool(attributes & IS_FOLDER))
        folder.items.put(item)
        folder.is_changed = True
        return item

    def _renamed(self, raw: bytes, name: str) -> bytes:
        """The same entry set under another name; entries that are not modelled are dropped."""
        fresh = directory.build(name, hash=names.name_hash(self._folded(name)), attributes=0, first_cluster=0, size=0,
                                is_contiguous=False, stamp=(0, 0))
        head = raw[:1] + fresh[1:2] + raw[2:ENTRY_SIZE]
        body = bytearray(raw[ENTRY_SIZE:2 * ENTRY_SIZE])
        body[3:6] = fresh[ENTRY_SIZE + 3:ENTRY_SIZE + 6]         # name_length and name_hash
        return directory.sealed(head + bytes(body) + fresh[2 * ENTRY_SIZE:])

    def _folder_writes(self, folder: _Folder) -> Iterator[tuple[int, bytes]]:
        data, unit = folder.data, self._g.cluster
        if len(data) > MAX_FOLDER:
            raise FitError(f"The folder “{folder.path or '/'}” is full.")
        missing = -(-len(data) // unit) - len(folder.clusters)
        if missing > 0:
            folder.clusters = np.concatenate((folder.clusters, self._take(missing)))
            is_contiguous = folder.item is not None and _is_contiguous(folder.clusters)
            if not is_contiguous:
                self._link(folder.clusters)
            if folder.item is not None:
                folder.item.raw = directory.placed(folder.item.raw, int(folder.clusters[0]),
                                                   is_contiguous=is_contiguous, length=len(folder.clusters) * unit)
                folder.item.clusters = folder.clusters
                self._folder(folder.path.rpartition("/")[0]).is_changed = True
        data = data.ljust(len(folder.clusters) * unit, b"\0")
        at = 0
        for extent in extents_of(folder.clusters, self._g):
            yield extent.start, data[at:at + extent.length]
            at += extent.length

    # --- clusters --------------------------------------------------------------------------------

    def _must_have_room(self, folder: _Folder, name: str, clusters: int) -> None:
        """Raises FitError where data and folders together would not fit."""
        entry = ENTRY_SIZE * (3 + len(name) // NAME_UNITS)
        self._debt.must_fit(id(folder), entry, clusters, len(self._free))
        self._debt.note(id(folder), entry)

    def _take(self, count: int) -> Clusters:
        taken = self._free.take(count)
        self._bits[taken - 2] = True
        return taken

    def _link(self, clusters: Clusters) -> None:
        self._table[clusters[:-1]] = clusters[1:]
        self._table[clusters[-1]] = END

    def _chain(self, first: int) -> Clusters:
        return np.concatenate([np.arange(c, c + n, dtype=np.int64) for c, n in self.volume.chains.runs(first)])

    def _clusters_of(self, item: _Item) -> Clusters:
        if item.clusters is None:
            row = item.row
            assert row is not None, "what this edit made knows its clusters"
            count = -(-row.data_length // self._g.cluster)
            if row.first_cluster == 0 or count == 0:
                item.clusters = NOTHING
            elif row.is_contiguous:
                item.clusters = np.arange(row.first_cluster, row.first_cluster + count, dtype=np.int64)
            else:
                item.clusters = self._chain(row.first_cluster)
        return item.clusters

    # --- tables ----------------------------------------------------------------------------------

    def _fat_writes(self) -> Iterator[tuple[int, bytes]]:
        """The stretches of the FAT that changed."""
        changed = np.flatnonzero(self._table != self.volume.table)
        for piece in distinct(changed * 4 // _FAT_PIECE).tolist():
            first = piece * _FAT_PIECE // 4
            at = self._g.fat_offset(0) + first * 4
            now, before = self._table[first:first + _FAT_PIECE // 4], self.volume.table[first:first + _FAT_PIECE // 4]
            raw = np.frombuffer(self._blocks.read(at, len(now) * 4), "<u4").copy()
            differs = now != before
            raw[differs] = np.where(now == END, np.uint32(0xFFFFFFFF), now)[differs]
            yield at, raw.tobytes()

    def _bitmap_writes(self) -> Iterator[tuple[int, bytes]]:
        old, new = (np.packbits(b, bitorder="little") for b in (self.volume.bitmap, self._bits))
        first, length = self.volume.bitmap_place
        at = 0
        for extent in self.volume.chains.extents(first, min(length, len(new))):
            for start in range(0, extent.length, _FAT_PIECE):
                part = slice(at + start, min(at + start + _FAT_PIECE, at + extent.length))
                if (old[part] != new[part]).any():
                    yield extent.start + start, new[part].tobytes()
            at += extent.length


def _is_contiguous(clusters: Clusters) -> bool:
    return len(clusters) > 0 and int(clusters[-1] - clusters[0]) == len(clusters) - 1 and \
        (len(clusters) < 3 or bool((np.diff(clusters) == 1).all()))


def _other_entries(data: bytes) -> bytes:
    """The live entries that belong to no file: bitmap, up-case table, label and what is not known."""
    kept, at = [], 0
    while at + ENTRY_SIZE <= len(data) and data[at] != 0:
        entry = data[at:at + ENTRY_SIZE]
        if entry[0] == FILE:
            at += ENTRY_SIZE * (1 + entry[1])
            continue
        if entry[0] & 0x80 and not entry[0] & 0x40:
            kept.append(entry)
        at += ENTRY_SIZE
    return b"".join(kept)
