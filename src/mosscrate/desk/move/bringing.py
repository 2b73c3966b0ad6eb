"""What can be brought over from a source instead of all of it, as data: fields and the steps they become. No Qt."""

from __future__ import annotations

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, edits, written_kinds
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.propose import under_another_map
from mosscrate.core.sheet.planning.refreshing import SETTINGS, refreshing_steps
from mosscrate.core.sizes import parse_size
from mosscrate.core.volumes import is_changed_here
from mosscrate.desk.move.actions import AS_IT_IS, EXACTLY, Action, Field, Values, codes_of, kinds_under

MAPS = {"an MBR": MapKind.MBR, "a GPT": MapKind.GPT, "an RDB": MapKind.RDB, "AHDI": MapKind.AHDI}
NO_MAP, ITS_MAP = "no map", "its own map"
ALL = "everything"
MINE, NEW = "mine stay", "those of the release"
IF_THERE, WHOLE, ONLY_CONTENTS = "if it is there", "the folder itself", "what is in it"
BRING_OVER = "Copy a partition…"
EXISTING = {"stop": s.Existing.REFUSE, "keep both": s.Existing.KEEP_BOTH, "replace it": s.Existing.REPLACE}


def bringing(source: Layout | None, target: Layout | None, *, may_clear: bool) -> tuple[Action, ...]:
    """Bringing single partitions of a source over, all of it under another map, embedded code.

    Args:
        source: of the plan.
        target: as it is when the first of these steps begins.
        may_clear: whether the plan writes over the whole target anyway.
    """
    if source is None or target is None:
        return ()
    names = {listed(p): p.index for p in source.with_contents}
    if not names:
        return ()
    found = [_one(source, target, names, may_clear=may_clear), _all(source), *_refreshing(source, target),
             *copying(source, target)]
    if may_clear:
        found.append(Action("Swap on the way", (), lambda v: (s.WriteImage(swap=True),),
                            "All of it is written with the two bytes of every word exchanged, for an adapter that "
                            "swaps them or away from one."))
    if source.map_kind == target.map_kind == MapKind.RDB and codes_of(source):
        found.append(Action("Copy file-system code", (), lambda v: (s.BringCode(),),
                            "What the source's map has embedded for its machine comes into the map of the target."))
    return tuple(found)


def _refreshing(source: Layout, target: Layout) -> tuple[Action, ...]:
    """Firmware partitions of a new release over the old ones."""
    try:
        refreshing_steps(source, target)
    except FitError:
        return ()
    return (Action("Refresh the firmware…", (Field("settings", MINE, (MINE, NEW)),),
                   lambda v: refreshing_steps(source, target, SETTINGS if v["settings"] == MINE else ()),
                   "The firmware partitions of the source come over those of the card. Games and saves on other "
                   "partitions stay as they are."),)


def listed(look: PartitionLook) -> str:
    """How a partition stands in a choice: its number and name."""
    return f"{look.index} {look.name}"


def copying(source: Layout, target: Layout) -> tuple[Action, ...]:
    """Files of one volume into another, also of the same card."""
    came, to = ({listed(p): p.index for p in layout.partitions if p.volume and p.volume.used is not None}
                for layout in (source, target))
    to = {name: index for name, index in to.items() if is_changed_here(target.partition(index).volume.kind)}  # type: ignore[union-attr]
    if not came or not to or (source is target and len(came) < 2):
        return ()

    def steps(values: Values) -> tuple[s.AnyStep, ...]:
        what = "" if values["what"] == ALL else values["what"].strip("/")
        return (s.CopyFiles(came[values["from"]], to[values["into"]], values["folder"].strip("/"), what,
                            EXISTING[values[IF_THERE]], values["whole"] == ONLY_CONTENTS),)

    into = next((n for n, index in to.items() if source is not target or index != next(iter(came.values()))),
                next(iter(to)))
    fields = (Field("from", next(iter(came)), tuple(came)), Field("what", ALL), Field("into", into, tuple(to)),
              Field("folder", ""),
              Field("whole", WHOLE, (WHOLE, ONLY_CONTENTS)), Field(IF_THERE, next(iter(EXISTING)), tuple(EXISTING)))
    return (Action("Copy files…", fields, steps,
                   "A file or folder by its path, or all of them, with everything that is in them."),)


def _one(source: Layout, target: Layout, names: dict[str, int], *, may_clear: bool) -> Action:
    """One partition, into the free room of the target, under a fresh map, or as a bare volume."""
    suited = _maps_for(source.partition(next(iter(names.values()))))
    own = next(word for word, kind in MAPS.items()
               if kind == (source.map_kind if source.map_kind in suited else suited[0]))
    is_at_home = target.can_be_arranged and target.map_kind in suited
    choices = ((ITS_MAP,) if target.can_be_arranged else ()) + (*MAPS, NO_MAP)

    def steps(values: Values) -> tuple[s.AnyStep, ...]:
        kind = "" if values["how"] == EXACTLY else values["how"]
        size = None if values["size"] in ("", AS_IT_IS) else parse_size(values["size"])
        bring, under = s.CopyPartition(names[values["partition"]], kind, size), values["under"]
        if under == NO_MAP:
            return (bring,) if target.is_blank and not may_clear else (s.EmptyCard(), bring)
        if under == ITS_MAP:
            length = size or source.partition(bring.source).partition.length
            fits = edits.free_room(target.as_map, target.size)[1] >= length
            return (bring,) if fits or not may_clear else (s.NewMap(str(target.map_kind)), bring)
        return (s.NewMap(str(MAPS[under])), bring)

    fields = (Field("partition", next(iter(names)), tuple(names)),
              Field("how", EXACTLY, (EXACTLY, *kinds_under(MapKind.NONE))), Field("size", AS_IT_IS),
              Field("under", ITS_MAP if is_at_home else own, choices))
    return Action(BRING_OVER, fields, steps,
                  "One partition of the source, instead of all of it: exactly, or made anew with its files.")


def _maps_for(look: PartitionLook) -> tuple[MapKind, ...]:
    """The maps that machines with a volume of this kind know, the usual one first."""
    facts = look.volume.facts if look.volume else None
    own = tuple(kind for kind in written_kinds() if facts is None or facts.stands_under(kind))
    return own or written_kinds()


def _all(source: Layout) -> Action:
    others = tuple(word for word, kind in MAPS.items() if kind != source.map_kind)
    return Action("All partitions under…", (Field("map", others[0], others),),
                  lambda v: under_another_map(source, MAPS[v["map"]]),
                  "Every partition below an empty map of another kind: exactly where its machines know the file "
                  "system, else made anew with its files.")
