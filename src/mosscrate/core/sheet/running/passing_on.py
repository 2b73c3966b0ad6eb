"""Backups as single files: one passed on to another crate, and taken over from there under its own card and date."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from pathlib import Path

from blake3 import blake3

from mosscrate.core.contents.identity import tag_of
from mosscrate.core.crate import Backup, CardRecord
from mosscrate.core.errors import MediumError
from mosscrate.core.images.drive_file import DriveFile, Facts
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.watch import Watch

KEY = 16                                 # hexadecimal digits by which a card is known again


def export(backup: Backup, path: Path, watch: Watch) -> str:
    """Put a backup away as a drive file; returns a sentence. Raises CrateError, MediumError, FitError."""
    with backup.open() as blocks:
        return convert_to(path, blocks, Conversion(kind="drive", about=backup.record.card,
                                                   made_at=backup.record.kept_at), watch)


def take_over(path: Path, bench: Bench, watch: Watch) -> Backup:
    """Keep what a drive file or an image holds, under the card and date that a drive file names.

    Raises MediumError, CrateError.
    """
    medium = bench.shelf.medium_at(path)
    with medium.open() as blocks:
        facts = blocks.facts if isinstance(blocks, DriveFile) else Facts(name=medium.name)
        if isinstance(blocks, DriveFile) and blocks.lack:
            raise MediumError(f"{path.name} {blocks.lack} It is not taken over.")
        key = facts.identity if re.fullmatch(f"[0-9a-f]{{{KEY}}}", facts.identity) else \
            blake3(f"{facts.name}|{blocks.size}".encode()).hexdigest()[:KEY]
        card = CardRecord(facts.name or medium.name, key, tag_of(key), blocks.size, facts.model, facts.serial)
        return bench.crate.keep(card, blocks, watch, kept_at=_date(facts.made_at))


def _date(text: str) -> datetime | None:
    try:
        date = datetime.fromisoformat(text)
    except ValueError:
        return None
    return date if date.tzinfo is not None else date.replace(tzinfo=UTC)
