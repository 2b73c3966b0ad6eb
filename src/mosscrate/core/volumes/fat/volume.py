"""An opened FAT volume: everything that is read from it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes.base import DOS_ATTRIBUTES, Entry, Kind, Tree, unread_folder
from mosscrate.core.volumes.clusters import FREE, Chains, Table, as_far, salvaged, wrong_links
from mosscrate.core.volumes.fat import directory, names
from mosscrate.core.volumes.fat.structures import (
    DIRTY_BIT,
    ENTRY_SIZE,
    FSINFO,
    FSINFO_SIGNATURES,
    IS_HIDDEN,
    MAX_CLUSTERS,
    MAX_DIRECTORY,
    SIGNATURE,
    UNKNOWN,
    BootSector,
    FatType,
    Geometry,
    parse_boot,
)
from mosscrate.core.volumes.fat.table import head_of, read_table
from mosscrate.core.volumes.pieces import Pieces, ReadByPieces, following

_NO_NAME = b"NO NAME    "
LEAST_MEDIA = 0xF0                      # "FAT: General Overview of On-Disk Format" 1.03, BPB_Media: F0, F8 to FF


@dataclass(frozen=True)
class FsInfo:
    """The hints of a FAT32 volume; None where the volume does not know."""

    free_count: int | None
    next_free: int | None


class FatVolume(ReadByPieces):
    """Reads one volume. Metadata is read once, when first asked for."""

    def __init__(self, blocks: Blocks, boot: BootSector) -> None:
        self.blocks, self.boot = blocks, boot

    @property
    def geometry(self) -> Geometry:
        """Where everything lies."""
        return self.boot.geometry

    @property
    def kind(self) -> str:
        """fat12, fat16 or fat32."""
        return f"fat{int(self.geometry.type)}"

    @property
    def variant(self) -> str:
        """gemdos, gemdos-small or gemdos-floppy for a volume as that system lays it out, else its kind."""
        if not self.boot.is_gemdos:
            return self.kind
        if self.geometry.type == FatType.FAT12:
            return "gemdos-floppy"
        return "gemdos" if self.geometry.cluster_count > MAX_CLUSTERS[FatType.FAT12] else "gemdos-small"

    @property
    def id(self) -> str:
        """Serial number as it is usually written: 1A2B-3C4D; GEMDOS has one of three bytes."""
        if self.boot.is_gemdos:
            return f"{self.boot.volume_id:06X}"
        return f"{self.boot.volume_id >> 16:04X}-{self.boot.volume_id & 0xFFFF:04X}"

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
        """The root directory's label, else the boot sector's."""
        try:
            found = directory.label_of(self.root_bytes())
        except FormatError:
            found = ""
        stored = self.boot.label
        return found or ("" if stored == _NO_NAME or not self.boot.volume_id else names.short_label(stored))

    @cached_property
    def table(self) -> Table:
        """The active copy of the FAT, as `table.decode` gives it."""
        return read_table(self.blocks, self.geometry, self.boot.active_fat)

    @cached_property
    def chains(self) -> Chains:
        """Follows chains through the table."""
        return Chains(self.table, self.geometry)

    @property
    def free(self) -> int:
        """Bytes in free clusters, counted rather than believed."""
        return int((self.table[2:] == FREE).sum()) * self.block

    @property
    def is_clean(self) -> bool:
        """Whether it was unmounted properly; FAT12 cannot tell and counts as clean."""
        bit = DIRTY_BIT.get(int(self.geometry.type))
        if bit is None:
            return True
        return bool(head_of(self.blocks, self.geometry, self.boot.active_fat)[1] & bit)

    @cached_property
    def fsinfo(self) -> FsInfo | None:
        """FSInfo of FAT32; None where there is none or its signatures are wrong."""
        number = int(self.boot.raw["fsinfo_sector"]) if self.boot.is_fat32 else 0
        if not 0 < number < self.geometry.reserved:
            return None
        raw = np.frombuffer(self.blocks.read(number * self.geometry.sector, FSINFO.itemsize), FSINFO)[0]
        signatures = (raw["lead_signature"], raw["struct_signature"], raw["trail_signature"])
        if tuple(int(s) for s in signatures) != FSINFO_SIGNATURES:
            return None
        hints = (int(raw["free_count"]), int(raw["next_free"]))
        return FsInfo(*(None if hint == UNKNOWN else hint for hint in hints))

    def root_bytes(self) -> bytes:
        """The root directory. Raises FormatError, MediumError."""
        g = self.geometry
        if self.boot.is_fat32:
            return self.directory_bytes(g.root_cluster)
        return self.blocks.read(g.root_start * g.sector, g.root_entries * ENTRY_SIZE)

    def directory_bytes(self, cluster: int) -> bytes:
        """A folder's entries. Raises FormatError where it is longer than a folder may be."""
        extents = self.chains.extents(cluster)
        length = sum(e.length for e in extents)
        if length > max(MAX_DIRECTORY, self.block):
            raise FormatError("FAT folder", f"chain from cluster {cluster}", extents[0].start,
                              f"{length} bytes", f"at most {MAX_DIRECTORY} bytes")
        return b"".join(self.blocks.read(e.start, e.length) for e in extents)

    def _salvaged(self, cluster: int | None) -> bytes:
        """What is left of a folder; None is the root. Nothing of one whose first entry does not name itself."""
        if cluster is None and not self.boot.is_fat32:
            return b""
        first = self.geometry.root_cluster if cluster is None else cluster
        clusters = as_far(self.chains, first, max(1, MAX_DIRECTORY // self.block))
        data = salvaged(self.blocks, self.geometry, clusters)
        own = next(directory.rows(data), None)
        return data if cluster is None or (own is not None and own.is_dot and own.cluster == first) else b""

    def _lost_fat(self) -> list[Finding]:
        """Where the FAT does not begin as one does; the GEMDOS family leaves that place as it is."""
        media = head_of(self.blocks, self.geometry, self.boot.active_fat)[0] & 0xFF
        if media >= LEAST_MEDIA or self.boot.is_gemdos:
            return []
        return [Finding(Severity.WARNING, f"The FAT begins with {media:#04x} where the kind of medium should stand: "
                        "the boot sector may lead to the wrong place, and more may be there than can be read.")]

    def tree(self) -> Tree:
        """Every file and folder, breadth first; folders that cannot be read become findings."""
        found: list[Entry] = []
        findings = self._lost_fat()
        seen = {0, self.geometry.root_cluster}
        queue: list[tuple[str, int | None]] = [("", None)]
        for path, cluster in queue:
            try:
                data = self.root_bytes() if cluster is None else self.directory_bytes(cluster)
            except (FormatError, MediumError) as error:
                data = self._salvaged(cluster)
                findings.append(unread_folder(path, error, is_shown=bool(data)))
            for row in directory.rows(data):
                if row.is_dot:
                    continue
                entry = self._entry(path, row)
                found.append(entry)
                if row.is_folder and row.cluster in seen:
                    findings.append(Finding(Severity.PROBLEM, f"The folder “{entry.path}” leads to a folder "
                                            "that was there before.", entry.path))
                elif row.is_folder:
                    seen.add(row.cluster)
                    queue.append((entry.path, row.cluster))
        return Tree(tuple(found), tuple(findings))

    def pieces_of(self, entry: Entry) -> Pieces:
        """Its extents, one behind the other. Raises FormatError."""
        return following(self.extents_of(entry))

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where a file lies. Raises FormatError where its chain is damaged or too short for its size."""
        if entry.kind == Kind.FILE and entry.size == 0:
            return ()
        size = entry.size if entry.kind == Kind.FILE else None
        extents = self.chains.extents(entry.node, size)
        have = sum(e.length for e in extents)
        if size is not None and have < size:
            raise FormatError("FAT", f"size of “{entry.path}”", self.geometry.fat_offset(0), size,
                              f"at most the {have} bytes of its chain")
        return extents

    def used_extents(self) -> tuple[Extent, ...]:
        """Reserved sectors, FATs and root directory as one extent, then every run of used clusters."""
        g = self.geometry
        edges = runs_of(self.table[2:] != FREE)
        return (Extent(0, g.data_start * g.sector),
                *(Extent(g.cluster_offset(first + 2), (last - first) * g.cluster)
                  for first, last in edges.tolist()))

    def why_not(self, name: str) -> str:
        """Why a name cannot stand here; "" when it can."""
        if self.boot.is_gemdos and names.as_short(name.upper()) is None:
            return "names have eight characters and three behind the dot here"
        return names.why_not(name)

    def _entry(self, folder: str, row: directory.Row) -> Entry:
        path = f"{folder}/{row.name}" if folder else row.name
        cluster = row.cluster if self.boot.is_fat32 else row.cluster & 0xFFFF
        return Entry(path, Kind.FOLDER if row.is_folder else Kind.FILE, 0 if row.is_folder else row.size,
                     row.modified, cluster, is_hidden=bool(row.attributes & IS_HIDDEN),
                     attributes=row.attributes & DOS_ATTRIBUTES)


def open_fat(blocks: Blocks) -> FatVolume:
    """Open a FAT volume. Raises FormatError, MediumError."""
    boot = parse_boot(blocks.read(0, min(blocks.size, 512)), blocks.size)
    return FatVolume(blocks, _as_gemdos(blocks, boot))


def _as_gemdos(blocks: Blocks, boot: BootSector) -> BootSector:
    """GEMDOS uses 16-bit entries on hard drives however few clusters there are, and 12 bits on floppies.

    A small volume without the PC signature whose FAT has the room for 16-bit entries may be either: the
    width in which fewer links are wrong is taken, and where both read alike, what a drive would have.
    """
    g = boot.geometry
    if g.type != FatType.FAT12 or int(boot.raw["signature"]) == SIGNATURE or g.cluster_sectors != 2:
        return boot
    wide = replace(g, type=FatType.FAT16)
    if g.fat_sectors < wide.fat_sectors_for(g.cluster_count):
        return boot
    is_wide = blocks.read(g.fat_offset(0) + 1, 3) == b"\xff\xff\xff" and not boot.is_floppy_shaped
    as_12, as_16 = (wrong_links(read_table(blocks, each, 0)) for each in (g, wide))
    if as_12 != as_16:
        is_wide = as_16 < as_12
    return replace(boot, geometry=wide) if is_wide else boot
