"""With which backup another one is compared: the one before it, unless a person chooses. No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mosscrate.core.crate import Backup, Lane


@dataclass(frozen=True)
class Compared:
    """The lanes of the crate, and the backup that was chosen for comparing; None for the one before."""

    lanes: Sequence[Lane]
    chosen: Backup | None = None

    def others(self, backup: Backup) -> list[Backup]:
        """All other backups of its lane, the oldest first."""
        own = next((lane.backups for lane in self.lanes if lane.card.key == backup.record.card.key), ())
        return [each for each in own if each.path != backup.path]

    def with_(self, backup: Backup) -> Backup | None:
        """What it is compared with; None for the first one of a lane."""
        if self.chosen is not None and self.chosen.path.exists():
            return self.chosen
        earlier = [each for each in self.others(backup) if each.kept_at < backup.kept_at]
        return earlier[-1] if earlier else None
