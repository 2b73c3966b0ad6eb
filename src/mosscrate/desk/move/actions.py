"""What can be done to a partition or a card, as data: what it asks for, and the step it becomes. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.errors import FormatError
from mosscrate.core.machines import Machine
from mosscrate.core.maps import MapKind, edits, map_format, rdb_code, written_kinds
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.making_room import growth_with_room
from mosscrate.core.sheet.planning.propose import usual_kind
from mosscrate.core.sheet.steps.shared.places import alignment_for
from mosscrate.core.sizes import binary, parse_size
from mosscrate.core.volumes import KINDS, is_changed_here

AS_IT_IS, AS_USUAL = "as it is", "as usual"
CLUSTERS = ("512 B", "1 KiB", "2 KiB", "4 KiB", "8 KiB", "16 KiB", "32 KiB", "64 KiB", "128 KiB")
AUTOMATIC, DRIVES = "by its size", "fat16"
EXACTLY = "exactly"
YES, NO = "yes", "no"


@dataclass(frozen=True)
class Field:
    """One thing that is asked for; with `choices` it is picked, otherwise typed."""

    name: str
    value: str
    choices: tuple[str, ...] = ()


Values = dict[str, str]


@dataclass(frozen=True)
class Action:
    """Something that can be planned."""

    title: str
    fields: tuple[Field, ...]
    steps: Callable[[Values], tuple[s.AnyStep, ...]]
    hint: str = ""
    is_of_card: bool = False           # else of the chosen partition
    does_away: bool = False            # something is lost by it


def actions_for(layout: Layout | None, index: int | None, machine: Machine | None = None) -> tuple[Action, ...]:
    """What can be planned for the chosen partition, then for the card, which is meant for a machine."""
    if layout is None:
        return ()
    look = next((p for p in layout.partitions if p.index == index), None)
    found: list[Action] = []
    if look is not None:
        found += _on_partition(layout, look)
    of_card = _on_map(layout) if layout.can_be_arranged else []
    if not layout.is_blank and not layout.is_closed:
        of_card.append(Action("Swap bytes", (), lambda v: (s.SwapBytes(),),
                            "For an adapter that swaps the two bytes of every word, or away from one."))
    of_card.append(_new_map(machine))
    of_card.append(Action("Clear the card", (), lambda v: (s.EmptyCard(),),
                        "Clears every map and every signature, also those that the desktop cannot see.",
                          does_away=True))
    return (*found, *(replace(action, is_of_card=True) for action in of_card))


def _new_map(machine: Machine | None) -> Action:
    """An empty map, first of all the kind that the machine expects, in its geometry."""
    kinds = tuple(map(str, written_kinds()))
    wanted = next((kind for kind in machine.maps if kind in kinds), "mbr") if machine else "mbr"

    def steps(values: Values) -> tuple[s.AnyStep, ...]:
        return (s.NewMap(values["kind"], *(machine.tracks(values["kind"]) if machine else ())),)

    return Action("Empty map…", (Field("kind", wanted, kinds),), steps,
                  "Everything that the present map names is lost from it.", does_away=True)


def codes_of(layout: Layout) -> tuple[rdb_code.FileSystemCode, ...]:
    """What file-system code an RDB has embedded; nothing where its chain is broken."""
    with suppress(FormatError):
        return rdb_code.codes_in(layout.as_map)
    return ()


def _on_partition(layout: Layout, look: PartitionLook) -> list[Action]:
    index, volume, p = look.index, look.volume, look.partition
    is_outer = map_format(layout.map_kind).serves(p)
    kinds = kinds_under(layout.map_kind)
    found: list[Action] = []
    if not is_outer and volume is not None and volume.used is not None:
        found.append(_sizing(layout, look))
        if layout.can_be_arranged:
            found.append(_moving(layout, look))
        found.append(Action("Label…", (Field("label", volume.label),),
                            lambda v: (s.LabelPartition(index, v["label"]),)))
        found.append(Action(
            "Rebuild with its files…", (Field("file system", AS_IT_IS, (AS_IT_IS, *kinds)),
                           Field("cluster", AS_IT_IS, (AS_IT_IS, *CLUSTERS))),
            lambda v: (s.RebuildPartition(index, "" if v["file system"] == AS_IT_IS else v["file system"],
                                          _cluster(v)),),
            "A fresh volume with the same label, its files put back."))
    if not is_outer and (layout.can_be_arranged or layout.map_kind == MapKind.NONE):
        usual = volume.kind if volume and volume.kind in kinds else kinds[0]
        fields = (Field("file system", usual, kinds), Field("label", volume.label if volume else ""),
                  Field("cluster", AS_USUAL, (AS_USUAL, *CLUSTERS)))
        found.append(Action("Erase and format…", fields, lambda v: (
            s.FormatPartition(index, v["file system"], v["label"], _cluster(v)),), "What is on it is lost.",
            does_away=True))
    if layout.can_be_arranged:
        format = map_format(layout.map_kind)
        flags = tuple(map(format.flag_word, format.flags))
        if not is_outer:
            found.append(Action("Flags…", (Field("flag", flags[0], flags), Field("set", YES, (YES, NO))),
                                lambda v: (s.FlagPartition(index, v["flag"], v["set"] == YES),)))
        if p.environment is not None:
            found.append(_tuning(look))
        found.append(Action("Remove", (), lambda v: (s.RemovePartition(index),),
                            "Its bytes stay until something else is put there.", does_away=True))
    if volume is not None and volume.facts is not None and volume.facts.has_journal and not volume.is_clean:
        found.append(Action("Replay journal", (), lambda v: (s.ReplayJournal(index),)))
    if volume is not None and volume.used is not None and is_changed_here(volume.variant or volume.kind):
        found.append(Action("Rebuild bitmap", (), lambda v: (s.RebuildBitmap(index),),
                            "Which blocks are in use is worked out from the files."))
    return found


def _tuning(look: PartitionLook) -> Action:
    """How the drivers of an RDB's machine take a partition."""
    e = look.partition.environment
    assert e is not None, "an RDB has one for each partition"

    def steps(v: Values) -> tuple[s.AnyStep, ...]:
        number = {field: _number(v[field]) for field in ("boot priority", "mask", "transfer", "buffers")}
        return (s.TunePartition(look.index, v["name"].strip(), number["boot priority"], number["mask"],
                                number["transfer"], number["buffers"]),)

    fields = (Field("name", look.partition.label), Field("boot priority", str(e.boot_priority)),
              Field("mask", f"0x{e.mask:08x}"), Field("transfer", f"0x{e.max_transfer:x}"),
              Field("buffers", str(e.buffers)))
    return Action("For its drivers…", fields, steps,
                  "The highest boot priority of the active ones starts the machine; no transfer is larger.")


def _cluster(values: Values) -> int | None:
    """Bytes of a cluster or block; None for the usual one, or the one that is there."""
    return None if values["cluster"] in (AS_IT_IS, AS_USUAL) else parse_size(values["cluster"])


def _number(text: str) -> int:
    """Raises ValueError with a sentence."""
    try:
        return int(text, 0)
    except ValueError:
        raise ValueError(f"“{text}” is not a number such as 5 or 0x1fe00.") from None


def kinds_under(map: MapKind) -> tuple[str, ...]:
    """File systems that are made here and that a map carries, the usual ones first."""
    possible = [facts for facts in KINDS if facts.is_written and facts.home != MapKind.NONE]
    at_home = [facts for facts in possible if facts.home == map]
    return tuple(facts.kind for facts in at_home or possible)


def _sizing(layout: Layout, look: PartitionLook) -> Action:
    index, length = look.index, look.partition.length

    def steps(values: Values) -> tuple[s.AnyStep, ...]:
        size = parse_size(values["size"])
        if size < length:
            return (s.ShrinkPartition(index, size),)
        if not layout.can_be_arranged:
            return (s.GrowPartition(index, size),)
        room = edits.bounds(layout.as_map, index, layout.size)[1] - look.partition.start
        size = room if abs(size - room) < room // 200 else size              # as it is written, it is rounded
        return (s.GrowPartition(index, size),) if size <= room else growth_with_room(layout, index, size)

    smallest = look.volume.smallest if look.volume else 0
    hint = f"{binary(smallest)} at least. Larger ones behind it move out of the way." if smallest else ""
    return Action("Size…", (Field("size", binary(length)),), steps, hint)


def _moving(layout: Layout, look: PartitionLook) -> Action:
    low, high = edits.bounds(layout.as_map, look.index, layout.size)
    last = high - look.partition.length
    align = edits.room(layout.as_map, layout.size).unit if map_format(layout.map_kind).is_on_grid else \
        alignment_for(layout.size)
    return Action("Start at…", (Field("start", binary(look.partition.start)),),
                  lambda v: (s.MovePartition(look.index, parse_size(v["start"]) // align * align),),
                  f"From {binary(-(-low // align) * align)} to {binary(last)}; it goes with all that is on it.")


def _on_map(layout: Layout) -> list[Action]:
    def added(values: Values) -> tuple[s.AnyStep, ...]:
        kind = "fat" if values["file system"] == AUTOMATIC else values["file system"]
        size = None if not values["size"] or values["size"] == "all of it" else parse_size(values["size"])
        return (s.AddPartition(kind, size, None, values["label"], values.get(apart, NO) == YES, _cluster(values)),)

    apart = map_format(layout.map_kind).within
    own = kinds_under(layout.map_kind)
    kinds = own if usual_kind(layout.map_kind) in own else (AUTOMATIC, *own)
    fields = [Field("file system", kinds[0], kinds), Field("size", "all of it"), Field("label", ""),
              Field("cluster", AS_USUAL, (AS_USUAL, *CLUSTERS))]
    is_mbr = layout.map_kind == MapKind.MBR
    if apart:
        fields.append(Field(apart, NO, (NO, YES)))
    found = [Action("Add partition…", tuple(fields), added, "It takes the largest free stretch.")]
    codes = {c.name: c for c in codes_of(layout)} if layout.map_kind == MapKind.RDB else {}
    if codes:
        found.append(Action("Remove code…", (Field("file system", next(iter(codes)), tuple(codes)),),
                            lambda v: (s.RemoveCode(f"0x{codes[v['file system']].dos_type.hex()}"),),
                            "File-system code that is embedded in the map, for partitions of its DosType."))
    if is_mbr:
        found.append(Action(
            "Logical drives…", (Field("each", "2 GiB"), Field("up to", "8 GB"),
                                Field("file system", DRIVES, (DRIVES, *(k for k in own if k != DRIVES))),
                                Field("label", "DRIVE")),
            lambda v: (s.FillWithDrives(parse_size(v["each"]), parse_size(v["up to"]), v["file system"], v["label"]),),
            "As many as fit below the limit of the machine, each formatted and labelled."))
    return found
