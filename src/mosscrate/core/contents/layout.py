"""What a medium looks like now, or will look like: map, volumes and roles as pure data."""

from __future__ import annotations

from dataclasses import dataclass, replace

from mosscrate.core.blocks import Extent
from mosscrate.core.contents.roles import Role
from mosscrate.core.findings import Finding
from mosscrate.core.images import Packing
from mosscrate.core.maps import MapKind, Partition, PartitionMap, can_be_arranged, edits, map_format, unallocated
from mosscrate.core.maps.base import without_map
from mosscrate.core.volumes import Facts, facts_of, kind_name


@dataclass(frozen=True)
class VolumeLook:
    """A file system from outside; sizes in bytes. `used` is None where it cannot be opened yet."""

    kind: str
    label: str = ""
    id: str = ""
    block: int = 0
    size: int = 0
    used: int | None = None
    is_clean: bool = True
    files: int = 0
    saves: int = 0
    summary: str = ""                  # "1 418 ROMs, 37 saves"
    largest: int = 0                   # bytes it can be grown to in place; 0 where it cannot
    largest_because: str = ""
    smallest: int = 0                  # bytes it can be shrunk to in place; 0 where it cannot
    smallest_because: str = ""
    longest_name: str = ""             # of its files and folders
    unsound: str = ""                  # why it must not be changed: its tables and files contradict one another
    variant: str = ""                  # the kind that makes one like it: gemdos, ffs-intl; most often `kind`
    in_place: int = 0                  # bytes to which it grows without being made anew
    devices: tuple[str, ...] = ()      # the first paths of files and folders whose names stand for devices under DOS
    unread: tuple[str, ...] = ()       # what is wrong with folders that could not be read in full

    @property
    def holds_together(self) -> bool:
        """Whether its tables and files agree and all its folders were read: what they call free is free then."""
        return not self.unsound and not self.unread

    @property
    def facts(self) -> Facts | None:
        """What is true of its kind."""
        return facts_of(self.variant or self.kind)

    @property
    def kind_name(self) -> str:
        """Its kind as people write it."""
        return self.facts.plain_name if self.facts else kind_name(self.kind)

    @property
    def free(self) -> int | None:
        """Bytes that files could take."""
        return None if self.used is None else self.size - self.used


@dataclass(frozen=True)
class PartitionLook:
    """A partition, its volume if any, and what it is for."""

    partition: Partition
    volume: VolumeLook | None
    role: Role
    role_reason: str = ""
    is_unread: bool = False            # what is on it lies further in a packed file than was unpacked

    @property
    def index(self) -> int:
        """The number in the map."""
        return self.partition.index

    @property
    def variant(self) -> str:
        """The kind that makes a volume like the one on it; "" where there is none."""
        return (self.volume.variant or self.volume.kind) if self.volume else ""

    @property
    def name(self) -> str:
        """What to call it: its label, else its number; without a map its kind."""
        if self.volume and self.volume.label:
            return self.volume.label
        if self.partition.label:
            return self.partition.label
        if self.index:
            is_outer = self.volume is None and self.partition.type_name.startswith("extended")
            return f"Extended partition {self.index}" if is_outer else f"Partition {self.index}"
        if self.is_unread:
            return "all of it"
        return self.volume.kind_name if self.volume and self.volume.kind else "no file system"


@dataclass(frozen=True)
class Layout:
    """A whole medium."""

    size: int
    sector: int
    map_kind: MapKind
    map_id: str
    partitions: tuple[PartitionLook, ...]
    container: str = "raw"
    is_blank: bool = False             # nothing but zeros at both ends, and no map
    trace: int | None = None           # a byte between blank ends that is not zero, where one was found
    findings: tuple[Finding, ...] = ()
    cut: int = 0                       # bytes that its own map or volume counts on and that are not there
    map: PartitionMap | None = None    # as it was read, with what only the map itself knows
    packing: Packing | None = None     # of the file that the disk comes out of
    is_size_known: bool = True         # a packed file may not tell
    least: int = 0                     # bytes that there have to be where it does not
    is_read_through: bool = True       # a packed file may not have been unpacked to its end yet
    places: int = 0                    # from which a packed file can be unpacked, besides its beginning; -1 anywhere
    fault: str = ""                    # why a packed file cannot be used: it is damaged

    @property
    def is_unread(self) -> bool:
        """Whether something on it has not been unpacked yet."""
        return not self.is_size_known or any(p.is_unread for p in self.partitions)

    @property
    def as_map(self) -> PartitionMap:
        """The map with the partitions of this layout."""
        partitions = tuple(p.partition for p in self.partitions)
        if self.map is not None:
            return replace(self.map, partitions=partitions)
        return PartitionMap(self.map_kind, self.map_id, partitions, self.sector)

    @property
    def with_contents(self) -> tuple[PartitionLook, ...]:
        """Every partition but those that only serve the map: the container of logical drives, Apple drivers."""
        format = map_format(self.map_kind)
        return tuple(p for p in self.partitions if not format.serves(p.partition))

    @property
    def unallocated(self) -> tuple[Extent, ...]:
        """Room that belongs to no partition."""
        if self.map_kind == MapKind.NONE or self.is_closed:
            return ()
        if not self.can_be_arranged:
            return unallocated(tuple(p.partition for p in self.partitions), self.size, first=self.sector)
        room = edits.room(self.as_map, self.size)
        outermost = map_format(self.map_kind).levels(self.as_map, self.size)[0].partitions
        return unallocated(outermost, room.end, first=room.first)

    @property
    def is_closed(self) -> bool:
        """Whether its map is of a family that is recognised but not opened yet."""
        return self.map_kind != MapKind.NONE and not self.partitions and not self.can_be_arranged

    @property
    def can_be_arranged(self) -> bool:
        """Whether its map can be changed here."""
        return can_be_arranged(self.as_map)

    @property
    def tail(self) -> int:
        """Bytes behind the last partition."""
        if self.is_closed:
            return 0
        end = edits.room(self.as_map, self.size).end if self.can_be_arranged else self.size
        return end - max((p.partition.end for p in self.partitions), default=self.sector)

    @property
    def files(self) -> int:
        """Files on all partitions that can be opened."""
        return sum(p.volume.files for p in self.partitions if p.volume)

    @property
    def used(self) -> int:
        """Bytes in use on all volumes; a closed volume counts as full."""
        return sum(p.partition.length if p.volume is None or p.volume.used is None else p.volume.used
                   for p in self.partitions if p.role != Role.UNKNOWN)

    @property
    def unknown(self) -> int:
        """Bytes of which nobody knows what of them is in use: there is no map or volume that says so."""
        if not self.partitions:
            return 0 if self.is_blank and self.trace is None else self.size
        return sum(p.partition.length for p in self.with_contents if p.role == Role.UNKNOWN)

    def partition(self, index: int) -> PartitionLook:
        """The partition of that number. Raises KeyError."""
        found = next((p for p in self.partitions if p.index == index), None)
        if found is None:
            raise KeyError(index)
        return found

    def last(self) -> PartitionLook | None:
        """The partition that lies last on the medium."""
        return max(self.partitions, key=lambda p: (p.partition.end, p.index), default=None)

    def with_partition(self, changed: PartitionLook) -> Layout:
        """The same layout with one partition exchanged."""
        return replace(self, partitions=tuple(changed if p.index == changed.index else p for p in self.partitions))


def unknown_layout(size: int, sector: int, because: str) -> Layout:
    """Of a medium of which nothing is known: one piece that was not read."""
    map_ = without_map(size, sector)
    looks = tuple(PartitionLook(whole, None, Role.UNKNOWN, because, is_unread=True) for whole in map_.partitions)
    return Layout(size, sector, map_.kind, map_.id, looks, map=map_)
