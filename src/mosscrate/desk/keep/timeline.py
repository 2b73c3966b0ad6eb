"""The crate along time: a lane for each card, a place for each backup. No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from math import sqrt

from mosscrate.core.contents import Role
from mosscrate.core.crate import Backup, BackupRecord, Lane
from mosscrate.core.sizes import binary, counted, days_ago

LANE_HEIGHT = 66.0
HEAD = 30.0
CORE_WIDTH = 22.0


@dataclass(frozen=True)
class Mark:
    """One backup as drawn: its outline, and in it the used share of each partition, first one on top."""

    backup: Backup
    lane: int
    x: float
    top: float
    height: float
    parts: tuple[Part, ...]


@dataclass(frozen=True)
class Part:
    """A partition of a backup: its share of the card, how much of it is used, what it is for."""

    share: float
    used: float
    role: Role


@dataclass(frozen=True)
class Month:
    """A line of the time axis."""

    x: float
    name: str


@dataclass(frozen=True)
class Timeline:
    """Everything with its place in pixels."""

    marks: tuple[Mark, ...]
    months: tuple[Month, ...]


def lay_out(lanes: Sequence[Lane], now: datetime, left: float, width: float) -> Timeline:
    """Backups from the first kept to now, oldest on the left; neighbours never cover each other."""
    times = [b.kept_at for lane in lanes for b in lane.backups]
    first = min([*times, now - timedelta(days=60)]) - timedelta(days=6)
    span = (now - first).total_seconds() or 1.0
    marks: list[Mark] = []
    for number, lane in enumerate(lanes):
        last = -1e9
        for backup in lane.backups:
            x = left + (backup.kept_at - first).total_seconds() / span * (width - CORE_WIDTH - 6)
            x = max(x, last + CORE_WIDTH + 4)
            last = x
            record = backup.record
            marks.append(Mark(backup, number, x, HEAD + number * LANE_HEIGHT + 8, LANE_HEIGHT - 16, _parts(record)))
    shift = max([0.0, *(m.x + CORE_WIDTH - left - width for m in marks)])
    if shift:
        marks = [Mark(m.backup, m.lane, m.x - shift, m.top, m.height, m.parts) for m in marks]
    return Timeline(tuple(marks), tuple(_months(first, now, span, left, width - CORE_WIDTH - 6)))


def mark_at(timeline: Timeline, x: float, y: float) -> Mark | None:
    """The backup under a point."""
    return next((m for m in timeline.marks if m.x - 3 <= x <= m.x + CORE_WIDTH + 3
                 and m.top - 4 <= y <= m.top + m.height + 4), None)


def neighbour(timeline: Timeline, mark: Mark | None, *, lanes: int = 0, steps: int = 0) -> Mark | None:
    """The backup beside, or the nearest in another lane."""
    if mark is None:
        return timeline.marks[-1] if timeline.marks else None
    if steps:
        row = [m for m in timeline.marks if m.lane == mark.lane]
        return row[max(0, min(row.index(mark) + steps, len(row) - 1))]
    row = [m for m in timeline.marks if m.lane == mark.lane + lanes]
    return min(row, key=lambda m: abs(m.x - mark.x), default=mark)


def lane_words(lane: Lane, now: datetime, since: str = "") -> str:
    """When a card was last kept, as people say it, and what is new since where that is known."""
    often = "once" if len(lane.backups) == 1 else f"{len(lane.backups)}×"
    kept = f"kept {often}, {days_ago(lane.backups[-1].kept_at, now)}"
    return f"{kept} · {since} since" if since else f"{binary(lane.card.size)} · {kept}"


def summary(lanes: Sequence[Lane], room: int) -> str:
    """The line under the title; `room` is what the crate takes."""
    backups = [b for lane in lanes for b in lane.backups]
    if not backups:
        return "Nothing is kept yet."
    held = sum(b.record.length for b in backups)
    return (f"{counted(len(lanes), 'card')} · {counted(len(backups), 'backup')} · {binary(held)} of cards held in "
            f"{binary(room)}")


def _parts(record: BackupRecord) -> tuple[Part, ...]:
    """From the layout that was noted when the card was kept; heights by the square root, as in a core."""
    found = []
    for p in record.layout.get("partitions", ()):
        volume = p.get("volume") or {}
        used = volume["used"] / volume["size"] if volume.get("used") is not None and volume.get("size") else 1.0
        found.append((sqrt(p["length"]), used, Role(p["role"])))
    if not found:
        return (Part(1.0, sqrt(record.written / record.length) if record.length else 0.0, Role.UNKNOWN),)
    total = sum(weight for weight, _, _ in found) or 1.0
    return tuple(Part(weight / total, used, role) for weight, used, role in found)


def _months(first: datetime, now: datetime, span: float, left: float, width: float) -> list[Month]:
    found, at = [], first.replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    step = 1 if (now - first).days < 400 else 6
    while at < now:
        if at >= first:
            name = f"{at:%b}" if at.month != 1 else f"{at:%b %Y}"
            found.append(Month(left + (at - first).total_seconds() / span * width, name))
        month = at.month - 1 + step
        at = at.replace(year=at.year + month // 12, month=month % 12 + 1)
    return found
