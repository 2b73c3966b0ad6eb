"""What a format for partition maps offers: reading for all of them, changing for those that are written here."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError
from mosscrate.core.maps.base import MapKind, Partition, PartitionMap, Room


@dataclass(frozen=True)
class Level:
    """Partitions that lie beside one another.

    Attributes:
        first, end: bytes between which they lie.
        partitions: those that are there.
        own: bytes in front of a new one that its record takes.
    """

    first: int
    end: int
    partitions: tuple[Partition, ...]
    own: int = 0


class MapFormat:
    """One format. What it does not override it refuses, or has no need of.

    Attributes:
        kind: its short name.
        is_written: whether maps of it are made and changed here.
        flags: that its partitions can carry.
        within: what partitions are called that lie within another one, or in a chain; "" where there are none.
        is_on_grid: whether partitions lie on the grid of the map alone, whatever a card likes.
        limit: why its partitions cannot lie anywhere, "" for no reason of its own.
        bootable: what its people call the flag "active".
        is_known_empty: whether an empty one is known again with the bytes of its medium swapped.
    """

    kind: MapKind
    is_written = False
    flags: tuple[str, ...] = ()
    within = ""
    is_on_grid = False
    limit = ""
    bootable = "active"
    is_known_empty = True

    def probe(self, first: bytes) -> bool:
        """Whether the first 64 KiB of a medium carry this map."""
        raise NotImplementedError

    def read(self, blocks: Blocks) -> PartitionMap:
        """The map. Raises FormatError, MediumError."""
        raise NotImplementedError

    def geometry(self, map: PartitionMap) -> tuple[int, int]:
        """(heads, sectors of a track) in which its partitions are counted; zeros where it does not say."""
        return map.heads, map.sectors

    def claimed_size(self, first: bytes, map: PartitionMap) -> int:
        """Bytes that a medium has at least, by its map and its first 64 KiB."""
        return max((p.end for p in map.partitions), default=0)

    def declared(self, blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
        """The structures that it stands on. Raises FormatError, MediumError."""
        yield from ()

    def serves(self, partition: Partition) -> bool:
        """Whether a partition only serves the map: it holds others, the map itself, or nothing."""
        return False

    # --- making and changing: pure, but for `write`; each raises FitError -------------------------

    def can_be_changed(self, map: PartitionMap) -> bool:
        """Whether all was read of a map that changing it takes."""
        return self.is_written

    def new(self, size: int, sector: int, *, heads: int, sectors: int) -> PartitionMap:
        """An empty map with a fresh id; heads and sectors of a track are 0 for the usual ones."""
        raise FitError(f"A map of the kind {self.kind} cannot be made here yet.")

    def write(self, blocks: Blocks, map: PartitionMap) -> None:
        """Write a changed map where it was read. Raises MediumError too."""
        raise FitError(f"A map of the kind {self.kind} cannot be written here yet.")

    def room(self, map: PartitionMap, size: int) -> Room:
        """Where partitions can lie on a medium of `size` bytes."""
        raise FitError("This medium has no map whose partitions can be changed here.")

    def reach(self, map: PartitionMap) -> int:
        """The byte up to which its numbers reach; 0 where the medium ends first in any case."""
        return 0

    def begin(self, partition: Partition) -> int:
        """The first byte of a partition with what the map keeps in front of it."""
        return partition.start

    def own(self, map: PartitionMap, partition: Partition) -> int:
        """Bytes in front of a partition that its record takes."""
        return 0

    def levels(self, map: PartitionMap, size: int) -> tuple[Level, ...]:
        """The partitions, those first that lie beside one another on the medium itself."""
        room = self.room(map, size)
        return (Level(room.first, room.end, map.partitions),)

    def level_for_new(self, map: PartitionMap, size: int, *, is_within: bool) -> Level:
        """Where a new partition would lie."""
        return self.levels(map, size)[0]

    def prepared(self, map: PartitionMap, size: int, *, is_within: bool, alignment: int) -> PartitionMap:
        """The map with everything that a new partition needs around it."""
        if is_within:
            raise FitError("Only an MBR has logical drives, and an AHDI map a chain.")
        return map

    def free_index(self, map: PartitionMap, *, is_within: bool) -> int:
        """The number of a new partition."""
        return max((p.index for p in map.partitions), default=0) + 1

    def type_for(self, map: PartitionMap, kind: str, start: int, length: int) -> str:
        """The type that says what file system is on a partition."""
        return ""

    def made(self, map: PartitionMap, partition: Partition, label: str, *, is_within: bool) -> Partition:
        """A new partition with all that the map says of one."""
        return partition

    def numbered(self, map: PartitionMap) -> PartitionMap:
        """The map with its partitions in order and under the numbers they will have."""
        return replace(map, partitions=tuple(sorted(map.partitions, key=lambda p: p.index)))

    def without(self, map: PartitionMap, gone: Partition) -> tuple[Partition, ...]:
        """The partitions that stay when one is taken out."""
        return tuple(p for p in map.partitions if p.index != gone.index)

    def placed(self, map: PartitionMap, old: Partition, new: Partition, size: int) -> tuple[PartitionMap, Partition]:
        """The map around a partition that has another place or length, and that partition."""
        return map, new

    def must_be_sound(self, map: PartitionMap, size: int) -> None:
        """Refuses what this format in particular cannot hold."""

    def retyped(self, map: PartitionMap, old: Partition, type: str) -> Partition:
        """A partition under the type of another file system."""
        return replace(old, type=type)

    def flagged(self, map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
        """The map with a flag set or cleared."""
        raise FitError("This medium has no map that knows flags.")

    def typed(self, old: Partition, type: str) -> Partition:
        """A partition with a type as people write it."""
        raise FitError(f"“{type}” is not a type that this map knows.")

    def named(self, old: Partition, label: str) -> Partition:
        """A partition with another name, where the map has names."""
        return old

    def tuned(self, map: PartitionMap, old: Partition, name: str) -> Partition:
        """A partition with another name for drivers, for maps that say how drivers take it."""
        raise FitError("Only the partitions of an RDB have a boot priority, a mask and a largest transfer.")

    def with_block(self, old: Partition, block: int | None) -> Partition:
        """A partition whose map knows the block size of its volume, where it notes it; None is the usual one."""
        return old

    def denial(self, partition: Partition, kind: str, block: int) -> str:
        """What the map says of a volume that is not what the volume is; "" where they agree or it says nothing."""
        return ""

    def flag_word(self, flag: str) -> str:
        """A flag as the people of this map call it."""
        return self.bootable if flag == "active" else flag

    def flag_of(self, word: str) -> str:
        """The flag that a word means, which may be its own name too."""
        return "active" if word == self.bootable else word

    def facts_of(self, partition: Partition) -> tuple[str, ...]:
        """What the map says of a partition beyond place, type and flags, in words."""
        return ()

    def as_it_was(self, map: PartitionMap, came: Partition, made: Partition) -> Partition:
        """A partition with what a map of the same kind said of it before it came here."""
        return made


def exchanged(map: PartitionMap, changed: Partition) -> PartitionMap:
    """A map with one partition exchanged."""
    return replace(map, partitions=tuple(changed if p.index == changed.index else p for p in map.partitions))
