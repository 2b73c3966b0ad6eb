"""Changes of a map as pure functions: partitions in, partitions out; nothing is written here.

Each raises FitError with the reason where the map, the medium or a neighbour stands against it.
"""

from __future__ import annotations

import secrets
from dataclasses import replace

from mosscrate.core.errors import FitError
from mosscrate.core.maps import ahdi, gpt, logical, mbr, rdb
from mosscrate.core.maps.base import Environment, MapKind, Partition, PartitionMap, Room
from mosscrate.core.sizes import MIB, binary

ALIGNMENT = 4 * MIB                    # erase blocks of cards
TRACK = 63 * 512                       # where an old machine wants partitions to start on a track


def new_map(kind: MapKind, size: int, sector: int, *, heads: int = 0, sectors: int = 0) -> PartitionMap:
    """An empty map with a fresh id; `heads` and `sectors` of a track are for an RDB, 0 takes the usual ones."""
    if kind == MapKind.GPT:
        return gpt.new(size, sector, gpt.fresh_id())
    if kind == MapKind.MBR:
        return mbr.new(size, sector, secrets.token_hex(4))
    if kind == MapKind.RDB:
        return rdb.new(size, heads or rdb.HEADS, sectors or rdb.SECTORS)
    if kind == MapKind.AHDI:
        return ahdi.new(size)
    raise FitError(f"A map of the kind {kind} cannot be made here yet.")


def room(map: PartitionMap, size: int) -> Room:
    """Where partitions of this map can lie on a medium of `size` bytes."""
    if map.kind == MapKind.GPT:
        return gpt.room(map, size)
    if map.kind == MapKind.MBR:
        return mbr.room(map, size)
    if map.kind == MapKind.RDB:
        return rdb.room(map, size)
    if map.kind == MapKind.AHDI:
        return ahdi.room(map, size)
    raise FitError("This medium has no map whose partitions can be changed here.")


def bounds(map: PartitionMap, index: int, size: int) -> tuple[int, int]:
    """(low, high): the bytes between which partition `index` could lie without moving another."""
    whole, me = room(map, size), map.partition(index)
    low, high = whole.first, whole.end
    outer = logical.container(map) if map.kind == MapKind.MBR else None
    is_logical = map.kind == MapKind.MBR and index > mbr.PRIMARIES
    if is_logical and outer is not None:
        low, high = outer.start + map.sector, _end_of_container(map, outer, size)
        others = [p for p in logical.drives(map) if p.index != index]
    else:
        others = [p for p in map.partitions if p.index != index and not
                  (map.kind == MapKind.MBR and p.index > mbr.PRIMARIES)]
    own = map.sector if is_logical or _is_chained(map, me) else 0        # for the record in front of it
    low += own if _is_chained(map, me) else 0
    for other in others:
        if other.end <= me.start:
            low = max(low, other.end + own)
        elif other.start >= me.end:
            has_record = (is_logical or _is_chained(map, other)) and other.record >= me.end
            high = min(high, other.record if has_record else other.start)
    return low, high


def free_room(map: PartitionMap, size: int, *, alignment: int = ALIGNMENT, is_logical: bool = False) -> tuple[int, int]:
    """(start, length) of the largest aligned stretch for a new partition."""
    whole = room(map, size)
    alignment = max(alignment, whole.unit) if map.kind != MapKind.RDB else whole.unit
    outer = logical.container(map) if map.kind == MapKind.MBR else None
    if is_logical and outer is not None:
        drives = logical.drives(map)
        end = _end_of_container(map, outer, size)
        stretches = [(a + map.sector, b) for a, b in logical.gaps(replace(outer, length=end - outer.start), drives)]
    else:
        taken = sorted((p.record if _is_chained(map, p) else p.start, p.end) for p in map.partitions
                       if p.index <= mbr.PRIMARIES or map.kind != MapKind.MBR)
        edges = [whole.first, *(e for pair in taken for e in pair), whole.end]
        own = map.sector if map.kind == MapKind.AHDI and (is_logical or has_chain(map)) else 0
        stretches = [(a + own, b) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    best = max(((_up(a, alignment), b // whole.unit * whole.unit) for a, b in stretches), key=lambda s: s[1] - s[0],
               default=(0, 0))
    return best[0], max(0, best[1] - best[0])


def added(map: PartitionMap, size: int, *, start: int | None, length: int | None, kind: str, label: str = "",
          is_logical: bool = False, alignment: int = ALIGNMENT) -> tuple[PartitionMap, Partition]:
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
    """
    if is_logical and map.kind not in (MapKind.MBR, MapKind.AHDI):
        raise FitError("Only an MBR has logical drives, and an AHDI map a chain.")
    if is_logical and map.kind == MapKind.MBR:
        if logical.container(map) is None:
            map, _ = added(map, size, start=None, length=None, kind="extended", alignment=alignment)
        map = _stretch_container(map, size)
    free_start, free_length = free_room(map, size, alignment=alignment, is_logical=is_logical)
    if start is None:
        start = free_start
    if length is None:
        length = free_start + free_length - start
    unit = room(map, size).unit
    length = length // unit * unit
    if start % unit:
        raise FitError(f"A partition starts on a multiple of {unit} bytes here; {start} is none.")
    if length <= 0 or free_length <= 0:
        raise FitError("There is no room for another partition.")
    index = _free_index(map, is_logical=is_logical and map.kind == MapKind.MBR)
    made = Partition(index, start, length, _type(map, kind, start, length))
    match map.kind:
        case MapKind.MBR:
            made = mbr.with_type(made, made.type)
        case MapKind.GPT:
            made = replace(made, label=label, id=gpt.fresh_id(), type_name=gpt.TYPES.get(made.type, ""))
        case MapKind.AHDI:
            is_linked = is_logical or has_chain(map)
            made = replace(made, type_name=ahdi.type_name(made.type), record=start - 512 if is_linked else 0)
        case _:
            made = replace(made, label=rdb.free_name(map), type_name=rdb.dos_type_name(bytes.fromhex(made.type[2:])),
                           environment=Environment())
    result = _numbered(replace(map, partitions=(*map.partitions, made)))
    _must_be_sound(result, size)
    return result, next(p for p in result.partitions if (p.start, p.length, p.type) == (start, length, made.type))


def removed(map: PartitionMap, index: int) -> PartitionMap:
    """A map without one partition; an extended one goes with its logical drives."""
    gone = map.partition(index)
    rest = [p for p in map.partitions if p.index != index]
    if map.kind == MapKind.MBR and mbr.is_extended(gone):
        rest = [p for p in rest if p.index <= mbr.PRIMARIES]
    return _numbered(replace(map, partitions=tuple(rest)))


def placed(map: PartitionMap, index: int, size: int, *, start: int | None = None,
           length: int | None = None) -> PartitionMap:
    """A map with one partition at another place or of another length."""
    old = map.partition(index)
    new = replace(old, start=old.start if start is None else start, length=old.length if length is None else length)
    if map.kind == MapKind.MBR:
        new = mbr.retyped(new, mbr.geometry_of(map), sector=map.sector)
        if index > mbr.PRIMARIES:
            map = _stretch_container(map, size, to=new.end)
    if map.kind == MapKind.NONE:
        return replace(map, partitions=(new,))
    if _is_chained(map, old):
        new = replace(new, record=old.record + new.start - old.start)
    changed = replace(map, partitions=tuple(new if p.index == index else p for p in map.partitions))
    _must_be_sound(changed, size)
    return changed


def flagged(map: PartitionMap, index: int, flag: str, *, is_set: bool) -> PartitionMap:
    """A map with a flag set or cleared; only one primary of an MBR can be active."""
    old = map.partition(index)
    if map.kind == MapKind.GPT:
        return _with(map, gpt.flagged(old, flag, is_set=is_set))
    if map.kind == MapKind.RDB:
        return _with(map, rdb.flagged(old, flag, is_set=is_set))
    if map.kind == MapKind.AHDI and flag == "active":
        return _with(map, replace(old, flags=("active",) if is_set else ()))
    if map.kind != MapKind.MBR:
        raise FitError("This medium has no map that knows flags.")
    if flag == "active" and is_set:
        map = replace(map, partitions=tuple(mbr.flagged(p, "active", is_set=False) for p in map.partitions))
    return _with(map, mbr.flagged(map.partition(index), flag, is_set=is_set))


def retyped(map: PartitionMap, index: int, kind: str) -> PartitionMap:
    """A map whose type for a partition says what file system is on it now; hidden stays hidden."""
    old = map.partition(index)
    if map.kind == MapKind.NONE:
        return map
    type = _type(map, kind, old.start, old.length)
    if map.kind == MapKind.AHDI:
        return _with(map, replace(old, type=type, type_name=ahdi.type_name(type)))
    if map.kind == MapKind.RDB:
        return _with(map, replace(old, type=type, type_name=rdb.dos_type_name(bytes.fromhex(type[2:]))))
    if map.kind == MapKind.GPT:
        same = gpt.TYPES.get(old.type, "") in ("basic data", "Linux", "EFI system") or not old.type
        return _with(map, replace(old, type=type, type_name=gpt.TYPES[type])) if same else map
    made = mbr.with_type(old, type)
    return _with(map, mbr.flagged(made, "hidden", is_set=True) if "hidden" in old.flags and
                 int(type, 16) in mbr.HIDEABLE else made)


def typed(map: PartitionMap, index: int, type: str) -> PartitionMap:
    """A map with a type given as the map writes it: hexadecimal for MBR, a GUID or its name for GPT."""
    old = map.partition(index)
    if map.kind == MapKind.MBR and mbr.is_extended(old):
        raise FitError(f"Partition {index} holds the logical drives; its type says so.")
    if map.kind == MapKind.MBR:
        try:
            code = int(type, 16).to_bytes(1)
        except (ValueError, OverflowError):
            raise FitError(f"“{type}” is not a type of an MBR: two hexadecimal digits such as 0x0c.") from None
        if code[0] in mbr.EXTENDED:
            raise FitError("An extended partition is made with its first logical drive, not by a type.")
        return _with(map, mbr.with_type(old, f"0x{code.hex()}"))
    if map.kind == MapKind.RDB:
        raw = rdb.dos_type_of(type)
        return _with(map, replace(old, type=f"0x{raw.hex()}", type_name=rdb.dos_type_name(raw)))
    if map.kind == MapKind.AHDI:
        if len(type) != 3 or not type.isalnum() or not type.isascii():
            raise FitError(f"“{type}” is not an id of this map: three letters such as BGM.")
        return _with(map, replace(old, type=type.upper(), type_name=ahdi.type_name(type.upper())))
    wanted = next((g for g, name in gpt.TYPES.items() if type.lower() in (g, name.lower())), None)
    if map.kind != MapKind.GPT or wanted is None:
        raise FitError(f"“{type}” is not a type that this map knows.")
    return _with(map, replace(old, type=wanted, type_name=gpt.TYPES[wanted]))


def named(map: PartitionMap, index: int, label: str) -> PartitionMap:
    """A map with a partition's name, where the map has names; otherwise unchanged."""
    old = map.partition(index)
    return _with(map, replace(old, label=label)) if map.kind == MapKind.GPT else map


def tuned(map: PartitionMap, index: int, *, name: str = "", environment: Environment) -> PartitionMap:
    """A map with another name ("" leaves it) and environment for a partition of an RDB."""
    old = map.partition(index)
    if map.kind != MapKind.RDB:
        raise FitError("Only the partitions of an RDB have a boot priority, a mask and a largest transfer.")
    if not -128 <= environment.boot_priority <= 127:
        raise FitError(f"A boot priority lies between -128 and 127; {environment.boot_priority} does not.")
    for what, value in (("mask", environment.mask), ("largest transfer", environment.max_transfer),
                        ("number of buffers", environment.buffers)):
        if not 0 < value < 2**32:
            raise FitError(f"The {what} has 32 bits and is not zero; {value} does not fit.")
    taken = {p.label.upper() for p in map.partitions if p.index != index}
    if name and (len(name) > 30 or name.upper() in taken or "/" in name or ":" in name):
        raise FitError(f"“{name}” cannot be the name of a partition: it has up to 30 characters without colon or "
                       "slash, and no other partition has it.")
    return _with(map, replace(old, label=name or old.label, environment=environment))


def with_block(map: PartitionMap, index: int, block: int | None) -> PartitionMap:
    """A map that knows the block size of a fresh volume, where the map notes it; None is the usual one."""
    old = map.partition(index)
    if map.kind != MapKind.RDB:
        return map
    return _with(map, replace(old, environment=replace(old.environment or Environment(), block=block or 512)))


def fill_with_drives(map: PartitionMap, size: int, *, each: int, until: int, kind: str,
                     alignment: int = TRACK) -> tuple[PartitionMap, tuple[Partition, ...]]:
    """Logical drives of at most `each` bytes behind what is there, none ending above byte `until`."""
    made: list[int] = []
    limit = min(until, size)
    while True:
        if logical.container(map) is None:
            start, length = free_room(map, limit, alignment=alignment)
            map, _ = added(map, size, start=start, length=length, kind="extended", alignment=alignment)
        outer = logical.container(map)
        assert outer is not None, "it was made"
        map = _stretch_container(map, size, to=limit)
        start, length = free_room(map, limit, alignment=alignment, is_logical=True)
        length = min(length, each)
        if length < 8 * MIB or len(made) >= 22:            # letters end, and a scrap is worth nothing
            break
        map, part = added(map, size, start=start, length=length, kind=kind, is_logical=True, alignment=alignment)
        made.append(part.start)
    if not made:
        raise FitError("There is no room for a logical drive below that limit.")
    return map, tuple(p for p in map.partitions if p.start in made and p.index > mbr.PRIMARIES)


def type_of(map: PartitionMap, kind: str, start: int, length: int) -> str:
    """The type that the map gives to a file system."""
    return _type(map, kind, start, length)


def _type(map: PartitionMap, kind: str, start: int, length: int) -> str:
    if map.kind == MapKind.GPT:
        return gpt.type_for(kind)
    if map.kind == MapKind.RDB:
        return rdb.type_for(kind)
    if map.kind == MapKind.AHDI:
        return ahdi.type_for(kind, length)
    return mbr.type_for(kind, length, start + length, mbr.geometry_of(map), sector=map.sector)


def _with(map: PartitionMap, changed: Partition) -> PartitionMap:
    return replace(map, partitions=tuple(changed if p.index == changed.index else p for p in map.partitions))


def has_chain(map: PartitionMap) -> bool:
    """Whether an AHDI map keeps partitions in a chain, where new ones have to go too."""
    return any(_is_chained(map, p) for p in map.partitions)


def _is_chained(map: PartitionMap, partition: Partition) -> bool:
    return map.kind == MapKind.AHDI and ahdi.is_chained(partition)


def _free_index(map: PartitionMap, *, is_logical: bool) -> int:
    used = {p.index for p in map.partitions}
    if is_logical:
        return max([mbr.PRIMARIES, *used]) + 1
    if map.kind in (MapKind.RDB, MapKind.AHDI):
        return max(used, default=0) + 1
    highest = mbr.PRIMARIES if map.kind == MapKind.MBR else gpt.ENTRIES
    index = next((k for k in range(1, highest + 1) if k not in used), None)
    if index is None:
        raise FitError("All four entries of the MBR are taken; a logical drive may still fit."
                       if map.kind == MapKind.MBR else "All entries of the GPT are taken.")
    return index


def _numbered(map: PartitionMap) -> PartitionMap:
    """Logical drives counted from 5 in the order in which they lie; elsewhere numbers follow the chain."""
    if map.kind in (MapKind.RDB, MapKind.AHDI):
        ordered = sorted(map.partitions, key=lambda p: p.record if _is_chained(map, p) else 0)
        return replace(map, partitions=tuple(replace(p, index=k) for k, p in enumerate(ordered, start=1)))
    if map.kind != MapKind.MBR:
        return replace(map, partitions=tuple(sorted(map.partitions, key=lambda p: p.index)))
    primaries = sorted((p for p in map.partitions if p.index <= mbr.PRIMARIES), key=lambda p: p.index)
    drives = [replace(p, index=mbr.PRIMARIES + k) for k, p in enumerate(logical.drives(map), start=1)]
    return replace(map, partitions=(*primaries, *drives))


def _end_of_container(map: PartitionMap, outer: Partition, size: int) -> int:
    """How far the extended partition could reach."""
    behind = [p.start for p in map.partitions if p.index <= mbr.PRIMARIES and p.start >= outer.end]
    return min([*behind, room(map, size).end])


def _stretch_container(map: PartitionMap, size: int, *, to: int | None = None) -> PartitionMap:
    """The extended partition lengthened to `to`, or over all the free room behind it."""
    outer = logical.container(map)
    if outer is None:
        return map
    end = _end_of_container(map, outer, size)
    end = end if to is None else min(end, to)
    if end <= outer.end:
        return map
    longer = mbr.retyped(replace(outer, length=(end - outer.start) // map.sector * map.sector), mbr.geometry_of(map),
                         sector=map.sector)
    return _with(map, longer)


def _must_be_sound(map: PartitionMap, size: int) -> None:
    whole = room(map, size)
    if map.kind == MapKind.AHDI:
        ahdi.must_have_entries(map)
    levels = [[p for p in map.partitions if map.kind != MapKind.MBR or p.index <= mbr.PRIMARIES]]
    outer = logical.container(map) if map.kind == MapKind.MBR else None
    if outer is not None:
        drives = logical.drives(map)
        levels.append(drives)
        for p in drives:
            if p.start <= outer.start or p.end > outer.end:
                raise FitError(f"Logical drive {p.index} would leave the extended partition.")
        logical.places_in(outer, drives, map.sector)        # each has a record in front of it
    for level in levels:
        end = whole.first
        before: Partition | None = None
        for p in sorted(level, key=lambda p: p.start):
            if (p.record if _is_chained(map, p) else p.start) < end:
                raise FitError(f"Partition {p.index} would overlap partition {before.index}." if before else
                               f"Partition {p.index} would lie over the map itself.")
            if p.end > whole.end:
                why = ": an MBR counts sectors in 32 bits" if whole.end == mbr.LARGEST * map.sector else ""
                raise FitError(f"Partition {p.index} would end {binary(p.end - whole.end)} behind what the map and "
                               f"the medium can hold{why}.")
            end, before = p.end, p


def _up(value: int, step: int) -> int:
    return -(-value // step) * step
