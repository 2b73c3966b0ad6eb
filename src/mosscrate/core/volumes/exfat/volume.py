"""An opened exFAT volume: everything that is read from it."""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.base import DOS_ATTRIBUTES, Entry, Kind, Tree, unread_folder
from mosscrate.core.volumes.clusters import BAD, END, Chains, Table, as_far, salvaged
from mosscrate.core.volumes.exfat import directory, names
from mosscrate.core.volumes.exfat.structures import (
    BAD_CLUSTER,
    BITMAP,
    BITMAP_ENTRY,
    ENTRY_SIZE,
    FILE,
    IS_HIDDEN,
    LABEL,
    LABEL_ENTRY,
    MAX_FOLDER,
    UPCASE,
    UPCASE_ENTRY,
    VOLUME_DIRTY,
    BootSector,
    Geometry,
    parse_boot,
)
from mosscrate.core.volumes.pieces import Pieces, ReadByPieces, following, within

_MOST_UPCASE = 0x20000 + 4
BEGINNINGS = (bytes((FILE,)), bytes((FILE & 0x7F,)))     # of a folder: an entry in use, or one that was removed


class ExfatVolume(ReadByPieces):
    """Reads one volume. FAT and bitmap are read once, when first asked for."""

    def __init__(self, blocks: Blocks, boot: BootSector) -> None:
        self.blocks, self.boot = blocks, boot
        self._rows: list[directory.Row] = []                 # an entry's node is its place in here

    @property
    def geometry(self) -> Geometry:
        """Where everything lies."""
        return self.boot.geometry

    @property
    def kind(self) -> str:
        """exfat."""
        return "exfat"

    @property
    def variant(self) -> str:
        """As its kind."""
        return self.kind

    @property
    def id(self) -> str:
        """Serial number as it is usually written: 1A2B-3C4D."""
        serial = int(self.boot.raw["volume_serial_number"])
        return f"{serial >> 16:04X}-{serial & 0xFFFF:04X}"

    @property
    def block(self) -> int:
        """Bytes in a cluster."""
        return self.geometry.cluster

    @property
    def size(self) -> int:
        """Bytes of the file system."""
        return self.geometry.size

    @cached_property
    def label(self) -> str:
        """From the root directory; "" for none."""
        raw = self.root_entry(LABEL)
        if raw is None:
            return ""
        entry = np.frombuffer(raw, LABEL_ENTRY)[0]
        return str(entry["label"].tobytes()[:2 * min(11, int(entry["count"]))].decode("utf-16-le", "replace"))

    @cached_property
    def table(self) -> Table:
        """The active FAT in the shape that `fat.table` gives it: END and BAD in 28 bits."""
        g = self.geometry
        raw = np.frombuffer(self.blocks.read(g.fat_offset(self.boot.active_fat), (g.cluster_count + 2) * 4), "<u4")
        table = np.where(raw > BAD_CLUSTER, np.uint32(END), np.where(raw == BAD_CLUSTER, np.uint32(BAD), raw))
        return np.minimum(table, END).astype(np.uint32)

    @cached_property
    def chains(self) -> Chains:
        """Follows chains through the table."""
        return Chains(self.table, self.geometry)

    @cached_property
    def bitmap(self) -> NDArray[np.bool_]:
        """Used clusters, shape (cluster_count,), the first for cluster 2. Raises FormatError."""
        first, length = self.bitmap_place
        if length < self.geometry.bitmap_bytes:
            raise FormatError("exFAT bitmap", "data_length", 0, length, f"at least {self.geometry.bitmap_bytes}")
        data = self.read_clusters(first, self.geometry.bitmap_bytes)
        bits = np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little")
        return bits[:self.geometry.cluster_count].astype(bool)

    @property
    def bitmap_place(self) -> tuple[int, int]:
        """(first cluster, bytes) of the allocation bitmap. Raises FormatError."""
        return self._special(BITMAP, BITMAP_ENTRY, "exFAT bitmap")

    @property
    def upcase_place(self) -> tuple[int, int]:
        """(first cluster, bytes) of the up-case table. Raises FormatError."""
        return self._special(UPCASE, UPCASE_ENTRY, "exFAT up-case table")

    @cached_property
    def upcase(self) -> names.UpCase:
        """{character: upper case} of this volume."""
        first, length = self.upcase_place
        return names.read_table(self.read_clusters(first, min(length, _MOST_UPCASE)))

    @property
    def free(self) -> int:
        """Bytes in free clusters, by the bitmap."""
        return int((~self.bitmap).sum()) * self.block

    @property
    def is_clean(self) -> bool:
        """Whether it was unmounted properly."""
        return not int(self.boot.raw["volume_flags"]) & VOLUME_DIRTY

    @cached_property
    def root_bytes(self) -> bytes:
        """The root directory. Raises FormatError, MediumError."""
        return self.folder_bytes(self.geometry.root_cluster, contiguous=False, length=None)

    @cached_property
    def _root_as_far(self) -> bytes:
        """The same; what can be had of it where it is damaged."""
        try:
            return self.root_bytes
        except (FormatError, MediumError):
            return self._salvaged(None)

    def root_entry(self, type: int) -> bytes | None:
        """The first entry of a kind in the root directory, that of the active bitmap for BITMAP."""
        data = self._root_as_far
        for at in range(0, len(data), ENTRY_SIZE):
            if data[at] == 0:
                return None
            if data[at] == type and (type != BITMAP or data[at + 1] & 1 == self.boot.active_fat):
                return data[at:at + ENTRY_SIZE]
        return None

    def read_clusters(self, first: int, length: int) -> bytes:
        """The first bytes of a chain. Raises FormatError where it is shorter."""
        extents = self.chains.extents(first, length)
        if sum(e.length for e in extents) < length:
            raise FormatError("exFAT FAT", f"chain from cluster {first}", self.geometry.fat_offset(0),
                              sum(e.length for e in extents), f"{length} bytes")
        return b"".join(self.blocks.read(e.start, e.length) for e in extents)

    def folder_bytes(self, cluster: int, *, contiguous: bool, length: int | None) -> bytes:
        """A folder's entries. Raises FormatError."""
        if length is not None and length > MAX_FOLDER:
            raise FormatError("exFAT folder", f"cluster {cluster}", 0, length, f"at most {MAX_FOLDER} bytes")
        extents = self._extents(cluster, length, contiguous=contiguous)
        if sum(e.length for e in extents) > MAX_FOLDER:
            raise FormatError("exFAT folder", f"cluster {cluster}", 0, sum(e.length for e in extents),
                              f"at most {MAX_FOLDER} bytes")
        return b"".join(self.blocks.read(e.start, e.length) for e in extents)

    def _salvaged(self, row: directory.Row | None) -> bytes:
        """What is left of a folder; None is the root. Nothing of one that does not begin with an entry."""
        g, most = self.geometry, max(1, MAX_FOLDER // self.geometry.cluster)
        first = g.root_cluster if row is None else row.first_cluster
        if row is not None and row.is_contiguous:
            last = min(first + min(-(-row.data_length // g.cluster), most), g.cluster_count + 2)
            clusters = list(range(first, last)) if first >= 2 else []
        else:
            clusters = as_far(self.chains, first, most)
        data = salvaged(self.blocks, g, clusters)
        return data if row is None or data[:1] in BEGINNINGS else b""

    def _bytes_of(self, row: directory.Row | None) -> bytes:
        """The entries of a folder; None is the root. Raises FormatError, MediumError."""
        return self.root_bytes if row is None else self.folder_bytes(
            row.first_cluster, contiguous=row.is_contiguous, length=row.data_length)

    def tree(self) -> Tree:
        """Every file and folder, breadth first; folders that cannot be read become findings."""
        found: list[Entry] = []
        findings: list[Finding] = []
        seen = {self.geometry.root_cluster}
        queue: list[tuple[str, directory.Row | None]] = [("", None)]
        for path, folder in queue:
            try:
                data = self._bytes_of(folder)
            except (FormatError, MediumError) as error:
                data = self._salvaged(folder)
                findings.append(unread_folder(path, error, is_shown=bool(data)))
            rows = list(directory.rows(data))
            if wrong := directory.damaged(data, rows):
                findings.append(Finding(Severity.WARNING, f"The folder “{path or '/'}” has "
                                        f"{counted(wrong, 'damaged entry', 'damaged entries')}: cut, or with a wrong "
                                        "checksum. Machines may not show what they name.", path))
            for row in rows:
                entry = self._entry(path, row)
                found.append(entry)
                if not row.is_folder:
                    continue
                if row.first_cluster in seen:
                    findings.append(Finding(Severity.PROBLEM, f"The folder “{entry.path}” leads to a folder "
                                            "that was there before.", entry.path))
                elif row.first_cluster:
                    seen.add(row.first_cluster)
                    queue.append((entry.path, row))
        return Tree(tuple(found), tuple(findings))

    def pieces_of(self, entry: Entry) -> Pieces:
        """Its extents, one behind the other, as far as its valid length. Raises FormatError."""
        return within(following(self.extents_of(entry)), 0, self.row_of(entry).valid_length)

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where a file lies. Raises FormatError where its chain is damaged or too short for its size."""
        row = self.row_of(entry)
        if row.data_length == 0:
            return ()
        extents = self._extents(row.first_cluster, row.data_length, contiguous=row.is_contiguous)
        if sum(e.length for e in extents) < row.data_length:
            raise FormatError("exFAT FAT", f"size of “{entry.path}”", self.geometry.fat_offset(0), row.data_length,
                              "at most the bytes of its chain")
        return extents

    def used_extents(self) -> tuple[Extent, ...]:
        """Boot regions and FAT as one extent, then every run of used clusters."""
        g = self.geometry
        edges = runs_of(self.bitmap)
        return (Extent(0, g.heap_start * g.sector),
                *(Extent(g.cluster_offset(first + 2), (last - first) * g.cluster)
                  for first, last in edges.tolist()))

    def why_not(self, name: str) -> str:
        """Why a name cannot stand here; "" when it can."""
        return names.why_not(name)

    def _extents(self, first: int, length: int | None, *, contiguous: bool) -> tuple[Extent, ...]:
        g = self.geometry
        if not contiguous or length is None:
            return self.chains.extents(first, length)
        count = -(-length // g.cluster)
        if first < 2 or first + count > g.cluster_count + 2:
            raise FormatError("exFAT entry", "first_cluster", 0, first, f"{count} clusters of the volume from there on")
        return (Extent(g.cluster_offset(first), length),)

    def _special(self, type: int, dtype: np.dtype[np.void], name: str) -> tuple[int, int]:
        raw = self.root_entry(type)
        if raw is None:
            raise FormatError(name, "entry", 0, "nothing", "an entry in the root directory")
        entry = np.frombuffer(raw, dtype)[0]
        return int(entry["first_cluster"]), int(entry["data_length"])

    def _entry(self, path: str, row: directory.Row) -> Entry:
        full = f"{path}/{row.name}" if path else row.name
        self._rows.append(row)
        return Entry(full, Kind.FOLDER if row.is_folder else Kind.FILE, 0 if row.is_folder else row.data_length,
                     names.timestamp(*row.modify), len(self._rows) - 1,
                     is_hidden=bool(row.attributes & IS_HIDDEN), attributes=row.attributes & DOS_ATTRIBUTES)

    def row_of(self, entry: Entry) -> directory.Row:
        """The entry set behind an entry that this volume's tree gave."""
        return self._rows[entry.node]


def open_exfat(blocks: Blocks) -> ExfatVolume:
    """Open an exFAT volume. Raises FormatError, MediumError."""
    return ExfatVolume(blocks, parse_boot(blocks.read(0, min(blocks.size, 512)), blocks.size))
