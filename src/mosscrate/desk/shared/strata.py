"""The geometry of a core: which stretch of a medium is drawn where. No Qt.

Heights are compressed: a floor for each stratum, the rest shared out by the square root of its
size, so that a boot partition of 8 MiB and a games partition of 200 GiB can both be read.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from math import sqrt

from mosscrate.core.blocks import Extent
from mosscrate.core.contents import Layout, PartitionLook, Role
from mosscrate.core.contents.straight import SWAPPED
from mosscrate.core.findings import Severity, worst
from mosscrate.core.maps import MapKind
from mosscrate.core.maps.mbr import is_extended
from mosscrate.core.sizes import MIB, binary

FLOOR = 40.0               # pixels: two lines of text
GAP_FLOOR = 12.0           # a gap that only serves alignment
SMALL_GAP = 16 * MIB
HEADER = 20.0


class StratumKind(StrEnum):
    """What a stratum stands for."""

    MAP = "map"
    PARTITION = "partition"
    FREE = "free"


@dataclass(frozen=True)
class Stratum:
    """One stretch as drawn. Bytes on the medium, pixels in the column; `fill` is 0 to 1 or unknown."""

    kind: StratumKind
    start: int
    length: int
    name: str
    line: str = ""
    index: int | None = None
    role: Role = Role.UNKNOWN
    fill: float | None = None
    severity: Severity | None = None
    is_unread: bool = False
    top: float = 0.0
    height: float = 0.0

    @property
    def bottom(self) -> float:
        """The lower edge in pixels."""
        return self.top + self.height

    @property
    def end(self) -> int:
        """The first byte behind it."""
        return self.start + self.length

    @property
    def sentence(self) -> str:
        """For people who hear the screen."""
        fill = f", {self.fill:.0%} full" if self.fill is not None else ""
        return f"{self.name}, {binary(self.length)}, {self.line or self.kind}{fill}"


def strata_of(layout: Layout) -> list[Stratum]:
    """The strata in on-disk order, without pixels. Extended partitions are left to their drives."""
    found = [_partition(layout, p) for p in layout.partitions if not _is_container(p)]
    if layout.is_closed:
        found.append(Stratum(StratumKind.PARTITION, 0, layout.size, "contents not opened here yet",
                             "in good order as far as its map shows", severity=Severity.GOOD))
    found += [_free(layout, e) for e in layout.unallocated
              if e.length >= MIB and not any(_is_container(p) and p.partition.start <= e.start < p.partition.end
                                             for p in layout.partitions)]
    return sorted(found, key=lambda s: s.start)


def lay_out(strata: Iterable[Stratum], height: float, *, header: str,
            header_height: float = HEADER) -> tuple[Stratum, ...]:
    """Give every stratum its place in a column of `height` pixels, the map's header on top."""
    strata = list(strata)
    head = Stratum(StratumKind.MAP, 0, 0, header, height=min(header_height, height / 4))
    room = height - head.height
    floors = [GAP_FLOOR if s.kind == StratumKind.FREE and s.length <= SMALL_GAP else FLOOR for s in strata]
    if sum(floors) > room:
        floors = [f * room / sum(floors) for f in floors]
    weights = [0.0 if f == GAP_FLOOR else sqrt(s.length) for s, f in zip(strata, floors, strict=True)]
    rest, total = room - sum(floors), sum(weights) or 1.0
    placed, top = [head], head.height
    for stratum, floor, weight in zip(strata, floors, weights, strict=True):
        tall = floor + rest * weight / total
        placed.append(replace(stratum, top=top, height=tall))
        top += tall
    return tuple(placed)


def stratum_at(placed: Iterable[Stratum], y: float) -> Stratum | None:
    """The stratum under a pixel row."""
    return next((s for s in placed if s.top <= y < s.bottom), None)


def y_of(placed: Iterable[Stratum], offset: int) -> float:
    """The pixel row of a byte offset."""
    y = 0.0
    for s in placed:
        if s.kind == StratumKind.MAP or offset >= s.end:
            y = s.bottom
        elif offset > s.start:
            return s.top + s.height * (offset - s.start) / s.length
    return y


def unknown_because(layout: Layout) -> str:
    """Why not even the map is known; "" where it is."""
    return next((look.role_reason for look in layout.partitions if look.is_unread), "") \
        if layout.map_kind == MapKind.NONE else ""


def header_of(layout: Layout) -> str:
    """What the top line of a core says."""
    if unknown := unknown_because(layout):
        return unknown
    names = {MapKind.NONE: "no map", MapKind.MBR: "map · MBR", MapKind.GPT: "map · GPT", MapKind.RDB: "map · RDB",
             MapKind.APPLE: "map · Apple", MapKind.AHDI: "map · AHDI"}
    return names[layout.map_kind] + (" · bytes swapped" if layout.container == SWAPPED else "")


def size_of(layout: Layout | None) -> str:
    """Where a core ends."""
    size = binary(layout.size) if layout else ""
    return size if layout is None or layout.is_size_known else f"{size}?"


def _free(layout: Layout, extent: Extent) -> Stratum:
    if not layout.is_size_known and extent.end > layout.least:
        return Stratum(StratumKind.FREE, extent.start, extent.length, "perhaps", "not read as far as that yet",
                       is_unread=True)
    return Stratum(StratumKind.FREE, extent.start, extent.length, "free")


def _partition(layout: Layout, look: PartitionLook) -> Stratum:
    p, v = look.partition, look.volume
    fill = v.used / v.size if v and v.used is not None and v.size else None
    kind = v.kind_name if v and v.kind else p.type_name
    name, line = look.name, " · ".join(filter(None, (kind, v.summary if v else "")))
    if layout.map_kind == MapKind.NONE and v is None:
        name, line = ("contents not known here", "no map") if not layout.is_blank else \
            ("blank", "no map, no files") if layout.trace is None else ("blank ends", "something stands between them")
    severity = worst(tuple(f for f in layout.findings if f.partition == look.index or
                           (f.partition is None and layout.map_kind == MapKind.NONE)))
    kind_ = StratumKind.FREE if layout.is_blank else StratumKind.PARTITION
    if look.is_unread and layout.map_kind == MapKind.NONE:
        name, line = "contents not known", look.role_reason
    elif look.is_unread:
        line = f"{kind} · not read yet"
    return Stratum(kind_, p.start, p.length, name, line, look.index, look.role, fill, severity, look.is_unread)


def _is_container(look: PartitionLook) -> bool:
    return is_extended(look.partition)
