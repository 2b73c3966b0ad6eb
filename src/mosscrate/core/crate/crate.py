"""The crate: a folder for each card, in it an image and a record for each date."""

from __future__ import annotations

import os
import re
import shutil
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from mosscrate.core.blocks import Blocks, FileBlocks, create_image, open_blocks
from mosscrate.core.blocks.streaming import Copied, copy, digest
from mosscrate.core.crate import record as records
from mosscrate.core.crate.record import BackupRecord, CardRecord
from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError, MediumError
from mosscrate.core.sizes import binary
from mosscrate.core.watch import Watch

TAKEN = (".img", ".json", ".rescue")      # by a backup, or by a rescue that will become one
SPARE_ROOM = 64 << 20            # left on the disk for everything else


@dataclass(frozen=True)
class Backup:
    """One kept state: its record and where its image is."""

    record: BackupRecord
    path: Path

    @property
    def id(self) -> str:
        """What its crate finds it by, also where its record cannot be read: its lane and its name."""
        return f"{self.path.parent.name}/{self.path.stem}"

    @property
    def kept_at(self) -> datetime:
        """When the card was read."""
        return datetime.fromisoformat(self.record.kept_at)

    def open(self) -> FileBlocks:
        """The image, for reading. Raises CrateError when it is gone or has another length."""
        try:
            blocks = open_blocks(self.path)
        except MediumError as error:
            raise CrateError(f"The backup of {self.record.card.name} is recorded, but its image is gone: "
                             f"{error}") from error
        if blocks.size != self.record.length:
            blocks.close()
            raise CrateError(f"The backup {self.path.name} has {blocks.size} bytes, its record says "
                             f"{self.record.length}. It was changed or cut since it was kept.")
        return blocks


@dataclass(frozen=True)
class Lane:
    """All backups of one card, oldest first."""

    card: CardRecord
    backups: tuple[Backup, ...]


@dataclass(frozen=True)
class Trouble:
    """Something in the crate that cannot be used as it is; `path` of the image or the record."""

    path: Path
    sentence: str


@dataclass
class Crate:
    """The backups below a folder. `now` is the clock."""

    root: Path
    now: Callable[[], datetime] = lambda: datetime.now(UTC).astimezone()

    def lanes(self) -> list[Lane]:
        """The cards, the one kept last first. Records that cannot be used are left out."""
        cards: dict[str, list[Backup]] = {}
        for path in sorted(self.root.glob("*/*.json")):
            try:
                record = records.load(path)
            except CrateError:
                continue
            cards.setdefault(record.card.key, []).append(Backup(record, path.with_name(record.image)))
        lanes = [Lane(found[-1].record.card, tuple(found))
                 for found in (sorted(b, key=lambda b: b.kept_at) for b in cards.values())]
        return sorted(lanes, key=lambda lane: lane.backups[-1].kept_at, reverse=True)

    def troubles(self) -> list[Trouble]:
        """Kept images without a record that can be used, and records without their image: none of them is forgotten."""
        found = []
        for image in sorted(self.root.glob("*/*.img")):
            try:
                record = records.load(image.with_suffix(".json"))
                if record.image != image.name:
                    raise CrateError(f"The record beside {image} is of another image, {record.image}.")
            except CrateError as error:
                found.append(Trouble(image, f"The backup {image.name} in “{image.parent.name}” is there, but it is not "
                                     f"known of which card and whether it is whole: {error}"))
        for path in sorted(self.root.glob("*/*.json")):
            with suppress(CrateError):
                image = path.with_name(records.load(path).image)
                if not image.exists():
                    found.append(Trouble(path, f"The backup {image.name} in “{path.parent.name}” is recorded, but its "
                                         "image is gone."))
        return found

    def has(self, id: str) -> bool:
        """Whether a backup is in this crate."""
        return self.image(id).is_file()

    def open(self, id: str) -> FileBlocks:
        """The card as it was kept, for reading. Raises MediumError."""
        return open_blocks(self.image(id))

    def digest(self, id: str) -> str:
        """BLAKE3 that a backup is recorded with; "" where its record cannot be used."""
        return records.digest_beside(self.image(id))

    @staticmethod
    def named(id: str) -> str:
        """A backup in a sentence."""
        return f"The backup {id.rpartition('/')[2]}"

    def image(self, id: str) -> Path:
        """Where a backup lies, as long as it is one file."""
        return Path(id) if id.startswith("/") else self.root / f"{id}.img"     # jobs named images by their paths once

    def backups_of(self, key: str) -> tuple[Backup, ...]:
        """The backups of one card, oldest first."""
        return next((lane.backups for lane in self.lanes() if lane.card.key == key), ())

    def suggest(self, card: CardRecord) -> Path:
        """Where the next backup of a card goes: a folder with its name and tag, a dated file."""
        name = re.sub(r"[^\w .-]+", "", card.name).strip(" .") or "card"
        folder, stamp = self.root / f"{name} {card.tag}", self.now().strftime("%Y-%m-%d %H.%M")
        candidates = (folder / f"{stamp} {name}{f' ({n})' if n else ''}.img" for n in range(1000))
        return next(path for path in candidates if not any(path.with_suffix(ending).exists() for ending in TAKEN))

    def check_room(self, blocks: Blocks, folder: Path | None = None) -> None:
        """Raises CrateError when the card's data would not fit onto the disk of the crate."""
        place = folder or self.root
        while not place.exists():
            place = place.parent
        needed = sum(e.length for e in blocks.extents() if not e.is_hole)
        free = shutil.disk_usage(place).free - SPARE_ROOM
        if needed > free:
            raise CrateError(f"There is no room for this backup: it may need {binary(needed)}, the disk of "
                             f"{place} has {binary(max(0, free))} to spare. Nothing was written.")

    def keep(self, card: CardRecord, blocks: Blocks, watch: Watch, *, layout: dict[str, Any],
             verify: bool = True, path: Path | None = None) -> Backup:
        """Read a whole card into an image and record it.

        Sectors that cannot be read are zeros in the image and named in the record.

        Raises:
            CrateError: the path is taken, there is no room, or what was written does not read back equal.
            MediumError: the disk of the crate could not be written.
            Stopped: the half-made image is removed.
        """
        if path and (path.exists() or path.with_suffix(".json").exists()):
            raise CrateError(f"{path} or its record is there already. Take another name; nothing was changed.")
        path = path or self.suggest(card)
        self.check_room(blocks, path.parent)
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_name(path.name + ".part")
        part.unlink(missing_ok=True)
        begun, kept_at = time.monotonic(), self.now().isoformat(timespec="seconds")
        try:
            with create_image(part, blocks.size) as image:
                copied = copy(blocks, image, blocks.size, watch, phase="Keeping the card", mend=True)
                image.flush()
                if verify:
                    _verify(image, copied, watch)
        except BaseException:
            part.unlink(missing_ok=True)                  # half a backup is none
            raise
        os.replace(part, path)
        sync_folder(path.parent)
        record = BackupRecord(card, kept_at, path.name, copied.length, copied.written, copied.digest,
                              round(time.monotonic() - begun, 3), verify,
                              [(e.start, e.length) for e in copied.unreadable], layout)
        records.save(path.with_suffix(".json"), record)
        return Backup(record, path)

    def check(self, backup: Backup, watch: Watch) -> None:
        """Read a backup again and compare it with its record. Raises CrateError."""
        with backup.open() as image:
            if digest(image, image.size, watch, phase="Checking the backup") != backup.record.blake3:
                raise CrateError(f"The backup {backup.path.name} is not what was kept: its checksum differs. "
                                 "Do not put it back.")


def _verify(image: Blocks, copied: Copied, watch: Watch) -> None:
    image.drop_cache()
    if digest(image, copied.length, watch, phase="Reading the backup back") != copied.digest:
        raise CrateError("What was written to the crate does not read back as it was. The disk of the crate "
                         "may be failing; the card itself is untouched.")
