"""Changing what is on a FAT volume: files and folders made, removed, renamed; the label.

Clusters of new files are written at once, into room that was free; folders, FATs and FSInfo are held
in memory and written by `commit`, so that an interruption before it leaves the old tree. Clusters
that this edit itself has freed are used last, since a journal has to save them first.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FitError
from mosscrate.core.volumes.base import PLAIN, Data, Traits
from mosscrate.core.volumes.by_name import ByName
from mosscrate.core.volumes.clusters import END, FREE, NOTHING, Clusters, FreeClusters, Table, copy_of, extents_of
from mosscrate.core.volumes.debt import FolderDebt
from mosscrate.core.volumes.fat import directory, names
from mosscrate.core.volumes.fat.facts import LARGEST_FILE
from mosscrate.core.volumes.fat.making import fsinfo
from mosscrate.core.volumes.fat.structures import (
    ARCHIVE,
    BOOT32,
    DIRECTORY_ENTRY,
    ENTRY_SIZE,
    IS_FOLDER,
    MAX_DIRECTORY,
    VOLUME_LABEL,
)
from mosscrate.core.volumes.fat.table import encode, head_of
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat
from mosscrate.core.volumes.filling import Gathering, fill, pieces_of


@dataclass
class _Item:
    """One name in a folder: its 32-byte entries (long name first), and what they say."""

    name: str
    raw: bytes
    short: bytes
    cluster: int
    is_folder: bool


@dataclass
class _Folder:
    """A folder held in memory; `cluster` is 0 for the fixed root of FAT12 and FAT16."""

    cluster: int
    head: bytes                                          # the two dot entries, or the label of a root
    items: ByName[_Item] = field(default_factory=lambda: ByName(str.lower))
    taken: names.ShortNames = field(default_factory=names.ShortNames)
    length: int = 0                                      # bytes of all items
    is_changed: bool = False

    @property
    def data(self) -> bytes:
        """The entries as they are written."""
        return self.head + b"".join(i.raw for i in self.items)

    def put(self, item: _Item) -> None:
        """One more name, which is taken already."""
        self.items.put(item)
        self.length += len(item.raw)

    def drop(self, item: _Item) -> None:
        """One name fewer."""
        self.items.drop(item)
        self.taken.discard(item.short)
        self.length -= len(item.raw)


class FatEditor:
    """Changes one volume; see `Editor`."""

    def __init__(self, blocks: Blocks) -> None:
        self.volume: FatVolume = open_fat(blocks)
        self._blocks, self._g = blocks, self.volume.geometry
        if self.volume.boot.warnings:
            raise FitError(f"The volume must be mended before it is changed: {self.volume.boot.warnings[0]}")
        self._table = copy_of(self.volume.table)
        self._free = FreeClusters(runs_of(self._table[2:] == FREE) + 2, self._g.cluster)
        self._data = Gathering(blocks)
        self._made: dict[int, Clusters] = {}
        self._debt = FolderDebt(self._g.cluster)
        self._folders: dict[str, _Folder] = {}
        self._label: bytes | None = None
        blocks.forgo(self._free.extents(self._g))

    def has(self, path: str) -> bool:
        """See Editor."""
        try:
            self._item(path)
        except FitError:
            return path == ""
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
        cluster = int(self._free.take(1)[0])
        self._link(np.array([cluster]))
        above = 0 if parent == "" else folder.cluster
        head = b"".join(directory.short_entry(short, attributes=IS_FOLDER, cluster=target, size=0,
                                              modified=traits.modified)
                        for short, target in ((directory.DOT, cluster), (directory.DOT_DOT, above)))
        self._folders[self._true_path(path)] = _made(cluster, head)
        self._enter(folder, name, traits, attributes=IS_FOLDER, cluster=cluster, size=0)

    def add_file(self, path: str, data: Data, traits: Traits = PLAIN, *, size: int | None = None) -> None:
        """See Editor."""
        pieces, size = pieces_of(data, size)
        if size > LARGEST_FILE:
            raise FitError(f"“{path}” is larger than the 4 GiB that FAT can hold in one file.")
        parent, name = self._split(path)
        folder = self._folder(parent)
        self._must_be_new(folder, path, name)
        self._must_have_room(folder, name, -(-size // self._g.cluster))
        clusters = self._free.take(-(-size // self._g.cluster))
        self._link(clusters)
        fill(self._data, extents_of(clusters, self._g), pieces, size, self._g.cluster)
        self._enter(folder, name, traits, attributes=ARCHIVE,
                    cluster=int(clusters[0]) if len(clusters) else 0, size=size)

    def add_link(self, path: str, target: str, traits: Traits = PLAIN) -> None:
        """FAT has no links. Raises FitError."""
        raise FitError(f"“{path}” is a link; FAT has none.")

    def remove(self, path: str) -> None:
        """See Editor."""
        parent, _ = self._split(path)
        item = self._item(path)
        if item.is_folder:
            for inner in list(self._folder(path).items):
                self.remove(f"{path}/{inner.name}")
            self._folders.pop(self._true_path(path))
        self._release(item.cluster)
        folder = self._folder(parent)
        folder.drop(item)
        folder.is_changed = True

    def rename(self, path: str, new: str) -> None:
        """See Editor."""
        parent, _ = self._split(path)
        to, new_name = self._split(new)
        item, old_folder, folder = self._item(path), self._folder(parent), self._folder(to)
        if item.is_folder and (new.lower() + "/").startswith(path.lower() + "/") and new.lower() != path.lower():
            raise FitError(f"“{path}” cannot be moved into itself.")
        if folder.items.others(new_name, item):
            raise FitError(f"“{new}” is there already.")
        self._must_be_possible(new_name)
        self._must_have_room(folder, new_name, 0)
        if item.is_folder:
            self._folder(path)
            self._carry_folders(self._true_path(path), f"{self._true_path(to)}/{new_name}".lstrip("/"))
        old_folder.drop(item)
        entry = np.frombuffer(item.raw[-ENTRY_SIZE:], DIRECTORY_ENTRY)[0]
        new_name = new_name.upper() if self.volume.boot.is_gemdos else new_name
        raw = directory.renamed(new_name, entry, folder.taken)
        folder.put(_Item(new_name, raw, raw[-ENTRY_SIZE:][:11], item.cluster, item.is_folder))
        folder.is_changed = old_folder.is_changed = True
        if item.is_folder and folder is not old_folder:
            inner = self._folder(new)
            above = 0 if self._true_path(to) == "" else folder.cluster
            inner.head = inner.head[:ENTRY_SIZE] + directory.repointed(inner.head[ENTRY_SIZE:2 * ENTRY_SIZE], above)
            inner.is_changed = True

    def relabel(self, label: str) -> None:
        """See Editor."""
        raw = names.as_label(label) if label else b""
        root = self._folder("")
        entry = directory.short_entry(raw or bytes(11), attributes=VOLUME_LABEL, cluster=0, size=0, modified=None)
        root.head = entry if raw else b""
        root.is_changed = True
        self._label = raw or b"NO NAME    "

    def replace_table(self, table: Table) -> None:
        """Take another table, as `volume.table` gives it, for the one that stands there."""
        self._table = table

    def commit(self) -> None:
        """Write folders, then the FATs, FSInfo and the label. Raises FitError for a full root, MediumError."""
        self._data.settle()
        writes = [w for f in self._folders.values() if f.is_changed for w in self._folder_writes(f)]
        writes += self._table_writes()
        if self.volume.fsinfo:
            free = self._table[2:] == FREE
            info = fsinfo(int(free.sum()), int(free.argmax()) + 2)
            writes.append((int(self.volume.boot.raw["fsinfo_sector"]) * self._g.sector, info))
        if self._label is not None:
            writes += self._boot_writes(self._label)
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

    def _folder(self, path: str) -> _Folder:
        """A folder by path, read when it is first asked for. Raises FitError, FormatError."""
        true = self._true_path(path)
        if true in self._folders:
            return self._folders[true]
        if true == "":
            data, cluster = self.volume.root_bytes(), self._g.root_cluster
        else:
            item = self._item(path)
            if not item.is_folder:
                raise FitError(f"“{path}” is a file, not a folder.")
            self._must_be_alone(path, item)
            cluster = item.cluster
            data = self.volume.directory_bytes(cluster)
        self._folders[true] = _loaded(data, cluster, fat32=self.volume.boot.is_fat32)
        return self._folders[true]

    def _item(self, path: str) -> _Item:
        parent, name = self._split(path)
        found = self._folder(parent).items.find(name) if name else None
        if found is None:
            raise FitError(f"There is no “{path}” on this volume.")
        return found

    def _must_be_alone(self, path: str, item: _Item) -> None:
        """Of two folders that are called alike none is changed inside: a path would lead into either."""
        if not self._folder(self._split(path)[0]).items.is_alone(item):
            raise FitError(f"“{path}” has a namesake that this file system takes for the same; nothing is changed "
                           "in it.")

    def _true_path(self, path: str) -> str:
        return path.strip("/").lower()

    def _carry_folders(self, old: str, new: str) -> None:
        new = new.lower()
        for key in [k for k in self._folders if k == old or k.startswith(old + "/")]:
            self._folders[new + key[len(old):]] = self._folders.pop(key)

    def _must_be_new(self, folder: _Folder, path: str, name: str) -> None:
        self._must_be_possible(name)
        if name in folder.items:
            raise FitError(f"“{path}” is there already.")

    def _must_be_possible(self, name: str) -> None:
        problem = self.volume.why_not(name)
        if problem:
            raise FitError(f"“{name}” cannot stand on a FAT volume: {problem}.")

    def _enter(self, folder: _Folder, name: str, traits: Traits, *, attributes: int, cluster: int,
               size: int) -> None:
        attributes = traits.dos_attributes(attributes & ~IS_FOLDER) | attributes & IS_FOLDER
        name = name.upper() if self.volume.boot.is_gemdos else name      # no long names to keep the case in
        raw = directory.build(name, attributes=attributes, cluster=cluster, size=size, modified=traits.modified,
                              taken=folder.taken)
        folder.put(_Item(name, raw, raw[-ENTRY_SIZE:][:11], cluster, bool(attributes & IS_FOLDER)))
        folder.is_changed = True

    def _folder_writes(self, folder: _Folder) -> Iterator[tuple[int, bytes]]:
        data = folder.data
        if folder.cluster == 0:
            yield self._g.root_start * self._g.sector, data.ljust(self._g.root_entries * ENTRY_SIZE, b"\0")
            return
        chain = self._clusters_of(folder.cluster)
        missing = -(-len(data) // self._g.cluster) - len(chain)
        if missing > 0:
            chain = np.concatenate((chain, self._free.take(missing)))
            self._link(chain)
            self._made[folder.cluster] = chain
        data = data.ljust(len(chain) * self._g.cluster, b"\0")
        at = 0
        for extent in extents_of(chain, self._g):
            yield extent.start, data[at:at + extent.length]
            at += extent.length

    # --- clusters --------------------------------------------------------------------------------

    def _must_have_room(self, folder: _Folder, name: str, clusters: int) -> None:
        """Raises FitError where data and folders together would not fit; a fixed root needs no clusters."""
        entry = ENTRY_SIZE * (2 + len(name) // names.UNITS_A_ENTRY)
        room = self._g.root_entries * ENTRY_SIZE if folder.cluster == 0 else MAX_DIRECTORY
        if len(folder.head) + folder.length + entry > room:
            raise FitError(f"The folder of “{name}” is full: it holds {room // ENTRY_SIZE} entries.")
        entry = entry if folder.cluster else 0
        self._debt.must_fit(folder.cluster, entry, clusters, len(self._free))
        if entry:
            self._debt.note(folder.cluster, entry)

    def _link(self, clusters: Clusters) -> None:
        if len(clusters):
            self._table[clusters[:-1]] = clusters[1:]
            self._table[clusters[-1]] = END
            self._made[int(clusters[0])] = clusters

    def _clusters_of(self, first: int) -> Clusters:
        """The chain of something old (as it was read) or new."""
        if first == 0:
            return NOTHING
        if first in self._made:
            return self._made[first]
        return np.concatenate([np.arange(c, c + n) for c, n in self.volume.chains.runs(first)])

    def _release(self, first: int) -> None:
        clusters = self._clusters_of(first)
        if len(clusters):
            self._table[clusters] = FREE
            self._free.give_back(clusters)
            self._made.pop(first, None)

    # --- tables and boot sectors -----------------------------------------------------------------

    def _table_writes(self) -> Iterator[tuple[int, bytes]]:
        """The stretches of every copy of the FAT that changed, in whole sectors."""
        changed = np.flatnonzero(self.volume.table != self._table)
        if len(changed) == 0:
            return
        head = head_of(self._blocks, self._g, self.volume.boot.active_fat)
        unit = max(self._g.sector, 4096)
        per = unit * 8 // int(self._g.type) // 2 * 2          # entries that end with a byte
        whole = per * int(self._g.type) == unit * 8
        per, unit = (per, unit) if whole else (unit * 2, unit * 3)       # 12 bits: three sectors hold whole entries
        touched = np.zeros(-(-len(self._table) // per), bool)
        touched[changed // per] = True
        limit = self._g.fat_sectors * self._g.sector
        for first, last in runs_of(touched).tolist():
            part = encode(self._table[first * per:last * per], self._g.type, head=head if first == 0 else None)
            for copy in range(self._g.fat_count):
                yield self._g.fat_offset(copy) + first * unit, part[:limit - first * unit]

    def _boot_writes(self, label: bytes) -> Iterator[tuple[int, bytes]]:
        raw = self.volume.boot.raw.copy()
        raw["label"] = np.void(label)
        yield 0, raw.tobytes()
        backup = int(raw["backup_boot_sector"]) if self.volume.boot.is_fat32 else 0
        if 0 < backup < self._g.reserved:
            at = backup * self._g.sector
            copy = np.frombuffer(bytearray(self._blocks.read(at, BOOT32.itemsize)), BOOT32).reshape(())
            copy["label"] = np.void(label)
            yield at, copy.tobytes()


def _loaded(data: bytes, cluster: int, *, fat32: bool) -> _Folder:
    """A folder from its bytes: live entries with their long names; deleted ones are dropped."""
    folder = _Folder(cluster, directory.label_bytes(data))
    for row in directory.rows(data):
        raw = data[row.slot * ENTRY_SIZE:(row.slot + row.slots) * ENTRY_SIZE]
        if row.is_dot:
            folder.head += raw[-ENTRY_SIZE:]
            folder.taken.add(row.short)
            continue
        first = row.cluster if fat32 else row.cluster & 0xFFFF
        folder.put(_Item(row.name, raw, row.short, first, row.is_folder))
        folder.taken.add(row.short)
    return folder


def _made(cluster: int, head: bytes) -> _Folder:
    """A fresh folder with its two dot entries."""
    folder = _Folder(cluster, head, is_changed=True)
    folder.taken |= {directory.DOT, directory.DOT_DOT}
    return folder
