"""An RDB as a map whose partitions are changed: `rdb` has its blocks, `rdb_code` the code that is embedded."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError
from mosscrate.core.maps import rdb, rdb_code
from mosscrate.core.maps.base import Environment, MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.dostypes import DOS_TYPES
from mosscrate.core.maps.format import MapFormat, exchanged
from mosscrate.core.sizes import binary


class Rdb(MapFormat):
    """Partitions lie on cylinders, have names that drivers know, and an environment."""

    kind = MapKind.RDB
    is_written = True
    flags = ("active", "no automount")
    is_on_grid = True
    bootable = "bootable"

    def probe(self, first: bytes) -> bool:
        """See MapFormat."""
        return rdb.probe(first)

    def read(self, blocks: Blocks) -> PartitionMap:
        """See MapFormat."""
        return rdb.read(blocks)

    def declared(self, blocks: Blocks, map: PartitionMap) -> Iterator[Declared]:
        """See MapFormat."""
        return rdb_code.declared(blocks, map)

    def geometry(self, map: PartitionMap) -> tuple[int, int]:
        """See MapFormat."""
        return rdb.tracks(map)

    def can_be_changed(self, map: PartitionMap) -> bool:
        """See MapFormat: not one whose cylinders are not known."""
        return bool(map.origin)

    def new(self, size: int, sector: int, *, heads: int, sectors: int) -> PartitionMap:
        """See MapFormat."""
        return rdb.new(size, heads or rdb.HEADS, sectors or rdb.SECTORS)

    def write(self, blocks: Blocks, map: PartitionMap) -> None:
        """See MapFormat."""
        rdb_code.write(blocks, map)                      # first: the RDSK leads to it
        rdb.write(blocks, map)

    def facts_of(self, partition: Partition) -> tuple[str, ...]:
        """See MapFormat: the device, its DosType, its blocks, where it comes when the machine starts."""
        e, type = partition.environment or Environment(), bytes.fromhex(partition.type[2:])
        return (partition.label, rdb.dos_type_text(type), f"blocks of {binary(e.block)}",
                f"boot priority {e.boot_priority}")

    def room(self, map: PartitionMap, size: int) -> Room:
        """See MapFormat."""
        return rdb.room(map, size)

    def type_for(self, map: PartitionMap, kind: str, start: int, length: int) -> str:
        """See MapFormat."""
        return rdb.type_for(kind)

    def made(self, map: PartitionMap, partition: Partition, label: str, *, is_within: bool) -> Partition:
        """See MapFormat: its name is one that drivers know, not the label of its volume."""
        named = rdb.dos_type_name(bytes.fromhex(partition.type[2:]))
        return replace(partition, label=rdb.free_name(map), type_name=named, environment=Environment())

    def numbered(self, map: PartitionMap) -> PartitionMap:
        """See MapFormat: numbers follow the chain."""
        return replace(map, partitions=tuple(replace(p, index=k) for k, p in enumerate(map.partitions, start=1)))

    def retyped(self, map: PartitionMap, old: Partition, type: str) -> Partition:
        """See MapFormat."""
        return replace(old, type=type, type_name=rdb.dos_type_name(bytes.fromhex(type[2:])))

    def flagged(self, map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
        """See MapFormat."""
        return exchanged(map, rdb.flagged(map.partition(index), flag, is_set=is_set))

    def typed(self, old: Partition, type: str) -> Partition:
        """See MapFormat."""
        raw = rdb.dos_type_of(type)
        return replace(old, type=f"0x{raw.hex()}", type_name=rdb.dos_type_name(raw))

    def tuned(self, map: PartitionMap, old: Partition, name: str) -> Partition:
        """See MapFormat."""
        taken = {p.label.upper() for p in map.partitions if p.index != old.index}
        if name and (len(name) > 30 or name.upper() in taken or "/" in name or ":" in name):
            raise FitError(f"“{name}” cannot be the name of a partition: it has up to 30 characters without colon or "
                           "slash, and no other partition has it.")
        return replace(old, label=name or old.label)

    def with_block(self, old: Partition, block: int | None) -> Partition:
        """See MapFormat."""
        return replace(old, environment=replace(old.environment or Environment(), block=block or 512))

    def denial(self, partition: Partition, kind: str, block: int) -> str:
        """See MapFormat: drivers mount by DosType and block size of the entry, not by what stands in the volume."""
        if kind not in DOS_TYPES or partition.environment is None:
            return ""
        if partition.type != rdb.type_for(kind):
            named = rdb.dos_type_name(bytes.fromhex(rdb.type_for(kind)[2:]))
            return f"the drive's map calls it {partition.type_name}, the volume is {named}"
        if partition.environment.block != block:
            return f"the drive's map gives it blocks of {partition.environment.block} bytes, the volume has {block}"
        return ""

    def as_it_was(self, map: PartitionMap, came: Partition, made: Partition) -> Partition:
        """See MapFormat."""
        if came.environment is None:
            return made
        return replace(made, type=came.type, type_name=came.type_name, flags=came.flags,
                       label=rdb.free_name(map, came.label), environment=came.environment)
