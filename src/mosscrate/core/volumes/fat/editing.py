"""Putting files and folders onto a FAT volume.

Clusters of files are written at once; folders, FATs and FSInfo are held in memory and written by
`commit`, so that an interruption before it leaves the old tree, and clusters that count as free.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.fat import directory, names
from mosscrate.core.volumes.fat.making import fsinfo
from mosscrate.core.volumes.fat.structures import ARCHIVE, ENTRY_SIZE, IS_FOLDER, IS_HIDDEN, MAX_DIRECTORY
from mosscrate.core.volumes.fat.table import END, FREE, encode, head_of
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat

LARGEST_FILE = 2**32 - 1


@dataclass
class _Folder:
    """A folder held in memory: its entries up to the end mark, its first cluster (0: fixed root)."""

    data: bytearray
    cluster: int
    taken: set[bytes] = field(default_factory=set)
    known: set[str] = field(default_factory=set)        # lower-case names


class FatEditor:
    """Adds to one volume; call `commit` at the end."""

    def __init__(self, blocks: Blocks) -> None:
        self.volume: FatVolume = open_fat(blocks)
        self._blocks = blocks
        self._g = self.volume.geometry
        self._table = self.volume.table.copy()
        self._free = np.flatnonzero(self._table == FREE)
        self._free = self._free[self._free >= 2]
        root = self._g.root_cluster
        self._folders = {"": self._load(self.volume.root_bytes(), root)}
        for entry in self.volume.tree().entries:
            if entry.kind == "folder":
                self._folders[entry.path] = self._load(self.volume.directory_bytes(entry.node), entry.node)

    def has(self, path: str) -> bool:
        """Whether a file or folder of that name is there."""
        parent, _, name = path.rpartition("/")
        return parent in self._folders and name.lower() in self._folders[parent].known

    def add_folder(self, path: str, modified: int | None = None) -> None:
        """Make a folder; one that is there already stays. Raises FitError."""
        if path in self._folders:
            return
        parent, _, name = path.rpartition("/")
        cluster = int(self._take(1)[0])
        self._link(np.array([cluster]))
        above = self._folders[parent].cluster if parent else 0
        data = bytearray()
        for short, target in ((directory.DOT, cluster), (directory.DOT_DOT, above)):
            data += directory.short_entry(short, attributes=IS_FOLDER, cluster=target, size=0, modified=modified)
        self._folders[path] = _Folder(data, cluster, {directory.DOT, directory.DOT_DOT})
        self._enter(parent, name, attributes=IS_FOLDER, cluster=cluster, size=0, modified=modified)

    def add_file(self, path: str, data: bytes, modified: int | None = None, *, size: int | None = None,
                 is_hidden: bool = False) -> None:
        """Write a new file. Raises FitError where it does not fit or the name is there already.

        Args:
            path: with `/` between; the folder must be there.
            data: its bytes.
            modified: seconds since 1970.
            size: bytes of the file when it goes on with zeros behind `data`.
            is_hidden: sets the attribute.
        """
        size = max(size or 0, len(data))
        if size > LARGEST_FILE:
            raise FitError(f"“{path}” is larger than the 4 GiB that FAT can hold in one file.")
        parent, _, name = path.rpartition("/")
        if name.lower() in self._folders[parent].known:
            raise FitError(f"“{path}” is there already.")
        clusters = self._take(-(-size // self._g.cluster))
        self._link(clusters)
        filled = -(-len(data) // self._g.cluster)
        self._write_clusters(clusters[:filled], data)
        for run in np.split(clusters[filled:], np.flatnonzero(np.diff(clusters[filled:]) != 1) + 1):
            if len(run):
                self._blocks.zero(self._g.cluster_offset(int(run[0])), len(run) * self._g.cluster)
        self._enter(parent, name, attributes=ARCHIVE | (IS_HIDDEN if is_hidden else 0),
                    cluster=int(clusters[0]) if len(clusters) else 0, size=size, modified=modified)

    def commit(self) -> None:
        """Write folders, then the FATs, then FSInfo. Raises MediumError."""
        for folder in self._folders.values():
            self._write_folder(folder)
        head = head_of(self._blocks, self._g)
        raw = encode(self._table, self._g.type, head=head)
        for copy in range(self._g.fat_count):
            self._blocks.write(self._g.fat_offset(copy), raw)
        if self.volume.fsinfo:
            free = self._table[2:] == FREE
            info = fsinfo(int(free.sum()), int(free.argmax()) + 2)
            self._blocks.write(int(self.volume.boot.raw["fsinfo_sector"]) * self._g.sector, info)
        self._blocks.flush()

    def _load(self, data: bytes, cluster: int) -> _Folder:
        rows = list(directory.rows(data))
        end = next((at for at in range(0, len(data), ENTRY_SIZE) if data[at] == 0), len(data))
        return _Folder(bytearray(data[:end]), cluster, {r.short for r in rows}, {r.name.lower() for r in rows})

    def _enter(self, parent: str, name: str, *, attributes: int, cluster: int, size: int,
               modified: int | None) -> None:
        problem = names.why_not(name)
        if problem:
            raise FitError(f"“{name}” cannot stand on a FAT volume: {problem}.")
        folder = self._folders[parent]
        folder.data += directory.build(name, attributes=attributes, cluster=cluster, size=size,
                                       modified=modified, taken=folder.taken)
        folder.known.add(name.lower())
        room = self._g.root_entries * ENTRY_SIZE if folder.cluster == 0 else MAX_DIRECTORY
        if len(folder.data) > room:
            raise FitError(f"The folder “{parent or '/'}” is full: it holds {room // ENTRY_SIZE} entries.")

    def _take(self, count: int) -> np.ndarray[tuple[int], np.dtype[np.intp]]:
        if count > len(self._free):
            raise FitError(f"There is no room: {binary(count * self._g.cluster)} are needed, "
                           f"{binary(len(self._free) * self._g.cluster)} are free.")
        taken, self._free = self._free[:count], self._free[count:]
        return taken

    def _link(self, clusters: np.ndarray[tuple[int], np.dtype[np.intp]]) -> None:
        if len(clusters):
            self._table[clusters[:-1]] = clusters[1:]
            self._table[clusters[-1]] = END

    def _write_clusters(self, clusters: np.ndarray[tuple[int], np.dtype[np.intp]], data: bytes | bytearray) -> None:
        """Write data into clusters, neighbouring ones at once; the last is filled up with zeros."""
        unit, at = self._g.cluster, 0
        cuts = np.flatnonzero(np.diff(clusters) != 1) + 1
        for run in np.split(clusters, cuts) if len(clusters) else []:
            part = bytes(data[at:at + len(run) * unit])
            self._blocks.write(self._g.cluster_offset(int(run[0])), part.ljust(len(run) * unit, b"\0"))
            at += len(run) * unit

    def _write_folder(self, folder: _Folder) -> None:
        if folder.cluster == 0:
            root = bytes(folder.data).ljust(self._g.root_entries * ENTRY_SIZE, b"\0")
            self._blocks.write(self._g.root_start * self._g.sector, root)
            return
        chain = [folder.cluster]
        while self._table[chain[-1]] != END:
            chain.append(int(self._table[chain[-1]]))
        missing = -(-len(folder.data) // self._g.cluster) - len(chain)
        if missing > 0:
            chain += self._take(missing).tolist()
            self._link(np.array(chain))
        self._write_clusters(np.array(chain), folder.data)
