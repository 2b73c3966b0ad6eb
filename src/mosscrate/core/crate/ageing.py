"""Which backups of a card may go by their age: thinner and thinner, the newest and the oldest never."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from mosscrate.core.crate.crate import Backup


@dataclass(frozen=True)
class Ages:
    """How much is kept.

    Attributes:
        all_days: of the last so many days, everything.
        months: then the last of each month, so many of them; after that the last of each year.
    """

    all_days: int = 30
    months: int = 12

    def __str__(self) -> str:
        return f"all of the last {self.all_days} days, one a month for {self.months} months, then one a year"


def too_many(backups: Sequence[Backup], ages: Ages, now: datetime) -> list[Backup]:
    """Backups of one card, oldest first, that are beyond what is kept; those with a note stay."""
    if len(backups) < 3:
        return []
    recent, monthly = now - timedelta(days=ages.all_days), now - timedelta(days=ages.all_days + 30.5 * ages.months)
    last_of: dict[tuple[int, ...], Backup] = {}
    for backup in backups:
        when = backup.kept_at
        last_of[(when.year, when.month) if when >= monthly else (when.year,)] = backup
    kept = {backup.path for backup in (*last_of.values(), backups[0], backups[-1])}
    return [b for b in backups if b.path not in kept and b.kept_at < recent and not b.note]
