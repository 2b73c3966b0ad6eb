"""Kept cards: dated images with a record each, found again by card."""

from mosscrate.core.crate.crate import Backup, Crate, Lane, Trouble
from mosscrate.core.crate.record import BackupRecord
from mosscrate.core.images.kept.manifest import CardRecord

__all__ = ["Backup", "BackupRecord", "CardRecord", "Crate", "Lane", "Trouble"]
