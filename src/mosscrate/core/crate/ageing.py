"""Which backups of a card may go by their age: thinner and thinner, the newest, the oldest and the last
whole one never."""

from __future__ import annotations

from collections.abc import Callable, Sequence
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


def too_many(backups: Sequence[Backup], ages: Ages, now: datetime,
             is_whole: Callable[[Backup], bool] = lambda backup: backup.record.is_complete) -> list[Backup]:
    """Backups of one card, oldest first, that are beyond what is kept; those with a note stay.

    Of a month or a year the last whole one stays where there is one, and the last whole one of all in any case.
    """
    if len(backups) < 3:
        return []
    recent, monthly = now - timedelta(days=ages.all_days), now - timedelta(days=ages.all_days + 30.5 * ages.months)
    whole = {backup.path for backup in backups if is_whole(backup)}
    last_of: dict[tuple[int, ...], Backup] = {}
    for backup in backups:
        when = backup.kept_at
        period = (when.year, when.month) if when >= monthly else (when.year,)
        if period not in last_of or backup.path in whole or last_of[period].path not in whole:
            last_of[period] = backup
    last_whole = [backup for backup in backups if backup.path in whole][-1:]
    kept = {backup.path for backup in (*last_of.values(), *last_whole, backups[0], backups[-1])}
    return [b for b in backups if b.path not in kept and b.kept_at < recent and not b.note]
