"""The formats for partition maps: a new one is its module and its line here."""

from __future__ import annotations

from collections.abc import Iterable

from mosscrate.core.maps import ahdi, apple, foreign, gpt, mbr, rdb_map
from mosscrate.core.maps.base import MapKind, PartitionMap
from mosscrate.core.maps.format import MapFormat


class _None(MapFormat):
    """A medium without a map."""

    kind = MapKind.NONE


FORMATS: tuple[MapFormat, ...] = (rdb_map.Rdb(), apple.Apple(), foreign.Foreign(), gpt.Gpt(), mbr.Mbr(), ahdi.Ahdi())
_ORDER = (MapKind.MBR, MapKind.GPT, MapKind.RDB, MapKind.AHDI)          # in which people look for them


def map_format(kind: MapKind) -> MapFormat:
    """The format of a kind of map; one that refuses everything for a medium without."""
    return next((f for f in FORMATS if f.kind == kind), _None())


def kinds() -> tuple[MapKind, ...]:
    """Every kind that is known, and none."""
    return (*_ordered(f.kind for f in FORMATS if f.kind), MapKind.NONE)


def written_kinds() -> tuple[MapKind, ...]:
    """Those that are made and changed here, the usual ones first."""
    return _ordered(f.kind for f in FORMATS if f.is_written)


def _ordered(kinds: Iterable[MapKind]) -> tuple[MapKind, ...]:
    return tuple(sorted(kinds, key=lambda kind: _ORDER.index(kind) if kind in _ORDER else len(_ORDER)))


def can_be_arranged(map: PartitionMap) -> bool:
    """Whether a map can be changed here."""
    return map_format(map.kind).can_be_changed(map)
