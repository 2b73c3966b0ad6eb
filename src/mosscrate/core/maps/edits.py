"""Changes of a map as pure functions: partitions in, partitions out; nothing is written here.

What is particular to a kind of map its format answers. Each raises FitError with the reason where the map, the medium
or a neighbour stands against it.
"""

from __future__ import annotations

from dataclasses import replace

from mosscrate.core.errors import FitError
from mosscrate.core.maps import logical
from mosscrate.core.maps.base import Environment, MapKind, Partition, PartitionMap, Room
from mosscrate.core.maps.format import exchanged
from mosscrate.core.maps.formats import map_format
from mosscrate.core.maps.mbr import PRIMARIES, Mbr, geometry_of
from mosscrate.core.sizes import MIB, binary

ALIGNMENT = 4 * MIB                    # erase blocks of cards
TRACK = 63 * 512                       # where an old machine wants partitions to start on a track


def new_map(kind: MapKind, size: int, sector: int, *, heads: int = 0, sectors: int = 0) -> PartitionMap:
    """An empty map with a fresh id; `heads` and `sectors` of a track are for an RDB, 0 takes the usual ones."""
    return map_format(kind).new(size, sector, heads=heads, sectors=sectors)


def room(map: PartitionMap, size: int) -> Room:
    """Where partitions of this map can lie on a medium of `size` bytes."""
    return map_format(map.kind).room(map, size)


def bounds(map: PartitionMap, index: int, size: int) -> tuple[int, int]:
    """(low, high): the bytes between which partition `index` could lie without moving another."""
    format, me = map_format(map.kind), map.partition(index)
    level = next(level for level in format.levels(map, size) if any(p.index == index for p in level.partitions))
    own = format.own(map, me)                            # for the record in front of it
    low, high = level.first + own, level.end
    for other in level.partitions:
        if other.index == index:
            continue
        if other.end <= me.start:
            low = max(low, other.end + own)
        elif other.start >= me.end:
            high = min(high, front(map, other))
    return low, high


def free_room(map: PartitionMap, size: int, *, alignment: int = ALIGNMENT, is_logical: bool = False) -> tuple[int, int]:
    """(start, length) of the largest aligned stretch for a new partition."""
    format, unit = map_format(map.kind), room(map, size).unit
    alignment = unit if format.is_on_grid else max(alignment, unit)
    level = format.level_for_new(map, size, is_within=is_logical)
    taken = sorted((front(map, p), p.end) for p in level.partitions)
    edges = [level.first, *(e for pair in taken for e in pair), level.end]
    stretches = [(a + level.own, b) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    best = max(((_up(a, alignment), b // unit * unit) for a, b in stretches), key=lambda s: s[1] - s[0], default=(0, 0))
    return best[0], max(0, best[1] - best[0])


def added(map: PartitionMap, size: int, *, start: int | None, length: int | None, kind: str, label: str = "",
          is_logical: bool = False, alignment: int = ALIGNMENT, cylinder: int = 0) -> tuple[PartitionMap, Partition]:
    """A map with one more partition, and that partition.

    Args:
        map: as it is.
        size: of the medium.
        start: byte; None takes the largest free stretch.
        length: bytes; None takes all of that stretch.
        kind: of the file system that it is meant for; "extended" makes a place for logical drives.
        label: for maps that name partitions.
        is_logical: inside the extended partition, which is made where it is missing; chained in an AHDI map.
        alignment: bytes.
        cylinder: bytes on a multiple of which it ends, 0 for anywhere.
    """
    format = map_format(map.kind)
    if is_logical and map.kind == MapKind.MBR and logical.container(map) is None:
        map, _ = added(map, size, start=None, length=None, kind="extended", alignment=alignment)
    map = format.prepared(map, size, is_within=is_logical, alignment=alignment)
    free_start, free_length = free_room(map, size, alignment=alignment, is_logical=is_logical)
    if start is None:
        start = free_start
    if length is None:
        length = free_start + free_length - start
    unit = room(map, size).unit
    start, length = _up(start, unit), length // unit * unit
    if cylinder and (start + length) // cylinder * cylinder > start:
        length = (start + length) // cylinder * cylinder - start
    if length <= 0 or free_length <= 0:
        raise FitError("There is no room for another partition.")
    if start == free_start and length > free_length:
        raise FitError(f"There is no room for {binary(length)}: the largest free stretch has {binary(free_length)}.")
    index = format.free_index(map, is_within=is_logical)
    made = Partition(index, start, length, format.type_for(map, kind, start, length))
    made = format.made(map, made, label, is_within=is_logical)
    result = format.numbered(replace(map, partitions=(*map.partitions, made)))
    _must_be_sound(result, size)
    return result, next(p for p in result.partitions if (p.start, p.length, p.type) == (start, length, made.type))


def removed(map: PartitionMap, index: int) -> PartitionMap:
    """A map without one partition; one that holds others goes with them."""
    format = map_format(map.kind)
    return format.numbered(replace(map, partitions=format.without(map, map.partition(index))))


def placed(map: PartitionMap, index: int, size: int, *, start: int | None = None,
           length: int | None = None) -> PartitionMap:
    """A map with one partition at another place or of another length."""
    old = map.partition(index)
    new = replace(old, start=old.start if start is None else start, length=old.length if length is None else length)
    if map.kind == MapKind.NONE:
        return replace(map, partitions=(new,))
    map, new = map_format(map.kind).placed(map, old, new, size)
    changed = exchanged(map, new)
    _must_be_sound(changed, size)
    return changed


def flagged(map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
    """A map with a flag set or cleared."""
    map.partition(index)
    format = map_format(map.kind)
    return format.flagged(map, index, format.flag_of(flag), is_set=is_set)


def retyped(map: PartitionMap, index: int, kind: str) -> PartitionMap:
    """A map whose type for a partition says what file system is on it now."""
    old, format = map.partition(index), map_format(map.kind)
    if map.kind == MapKind.NONE:
        return map
    return exchanged(map, format.retyped(map, old, format.type_for(map, kind, old.start, old.length)))


def typed(map: PartitionMap, index: int, type: str) -> PartitionMap:
    """A map with a type given as the map writes it: hexadecimal for MBR, a GUID or its name for GPT."""
    return exchanged(map, map_format(map.kind).typed(map.partition(index), type))


def named(map: PartitionMap, index: int, label: str) -> PartitionMap:
    """A map with a partition's name, where the map has names; otherwise unchanged."""
    return exchanged(map, map_format(map.kind).named(map.partition(index), label))


def tuned(map: PartitionMap, index: int, *, name: str = "", environment: Environment) -> PartitionMap:
    """A map with another name ("" leaves it) and environment for a partition of an RDB."""
    made = map_format(map.kind).tuned(map, map.partition(index), name)
    if not -128 <= environment.boot_priority <= 127:
        raise FitError(f"A boot priority lies between -128 and 127; {environment.boot_priority} does not.")
    for what, value in (("mask", environment.mask), ("largest transfer", environment.max_transfer),
                        ("number of buffers", environment.buffers)):
        if not 0 < value < 2**32:
            raise FitError(f"The {what} has 32 bits and is not zero; {value} does not fit.")
    return exchanged(map, replace(made, environment=environment))


def with_block(map: PartitionMap, index: int, block: int | None) -> PartitionMap:
    """A map that knows the block size of a fresh volume, where the map notes it; None is the usual one."""
    return exchanged(map, map_format(map.kind).with_block(map.partition(index), block))


def fill_with_drives(map: PartitionMap, size: int, *, each: int, until: int, kind: str,
                     alignment: int = TRACK) -> tuple[PartitionMap, tuple[Partition, ...]]:
    """Logical drives of at most `each` bytes behind what is there, none ending above byte `until`; for an MBR.

    They lie on tracks and end on cylinders, as old systems expect it.
    """
    made: list[int] = []
    before, cylinder = logical.container(map), cylinder_of(map)
    limit = min(until, size) // cylinder * cylinder
    while True:
        if logical.container(map) is None:
            start, length = free_room(map, limit, alignment=alignment)
            map, _ = added(map, size, start=start, length=length, kind="extended", alignment=alignment,
                           cylinder=cylinder)
        map = Mbr().stretched(map, size, to=limit)
        start, length = free_room(map, limit, alignment=alignment, is_logical=True)
        length = min(length, each)
        if length < 8 * MIB or len(made) >= 22:            # letters end, and a scrap is worth nothing
            break
        map, part = added(map, size, start=start, length=length, kind=kind, is_logical=True, alignment=alignment,
                          cylinder=cylinder)
        made.append(part.start)
    if not made:
        raise FitError("There is no room for a logical drive below that limit.")
    drives = tuple(p for p in map.partitions if p.start in made and p.index > PRIMARIES)
    outer, end = logical.container(map), max(drives[-1].end, before.end if before else 0)
    assert outer is not None, "it holds them"
    return placed(map, outer.index, size, length=end - outer.start), drives


def cylinder_of(map: PartitionMap) -> int:
    """Bytes of a cylinder of an MBR."""
    return geometry_of(map).cylinder * map.sector


def _must_be_sound(map: PartitionMap, size: int) -> None:
    format = map_format(map.kind)
    whole = format.room(map, size)
    format.must_be_sound(map, size)
    for level in format.levels(map, size):
        end = whole.first
        before: Partition | None = None
        for p in sorted(level.partitions, key=lambda p: p.start):
            if format.begin(p) < end:
                raise FitError(f"Partition {p.index} would overlap partition {before.index}." if before else
                               f"Partition {p.index} would lie over the map itself.")
            if p.end > whole.end:
                why = f": {format.limit}" if format.limit and whole.end == format.reach(map) else ""
                raise FitError(f"Partition {p.index} would end {binary(p.end - whole.end)} behind what the map and "
                               f"the medium can hold{why}.")
            end, before = p.end, p


def front(map: PartitionMap, p: Partition) -> int:
    """The byte up to which others may come: its record can be written anew close in front of it."""
    format = map_format(map.kind)
    return min(format.begin(p), p.start - format.own(map, p))


def _up(value: int, step: int) -> int:
    return -(-value // step) * step
