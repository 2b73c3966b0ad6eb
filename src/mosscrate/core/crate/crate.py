"""The crate: a folder for each card, in it an image and a record for each date."""

from __future__ import annotations

import os
import re
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec.structs import replace as replace_field

from mosscrate.core.blocks import Blocks, begun_image, open_blocks
from mosscrate.core.blocks.streaming import Copied, copy, digest
from mosscrate.core.contents import describe, survey
from mosscrate.core.contents.survey import Opened
from mosscrate.core.contents.unpacking import confirm_packed, in_full
from mosscrate.core.crate import record as records
from mosscrate.core.crate.catalogue import Catalogue, Listed
from mosscrate.core.crate.checking import about_of, check_chunks, check_store, is_all_there
from mosscrate.core.crate.leases import IN_NAMES, broken_in
from mosscrate.core.crate.notes import Note, notes_in
from mosscrate.core.crate.record import BackupRecord, as_large_as_it_is
from mosscrate.core.crate.storing import must_belong_together, store
from mosscrate.core.errors import CrateError, FormatError, MediumError
from mosscrate.core.images import disk_in
from mosscrate.core.images.kept.manifest import About, CardRecord
from mosscrate.core.new_file import must_be_new, new_file
from mosscrate.core.sizes import binary
from mosscrate.core.there import entries, is_there
from mosscrate.core.watch import Watch

RESCUE = ".rescue"
TAKEN = (".img", ".json", RESCUE)         # by a backup, or by a rescue that will become one
KEPT = ".kept"
DIGITS = 8                       # at the end of the name of a list of chunks
SPARE_ROOM = 64 << 20            # left on the disk for everything else


@dataclass(frozen=True)
class Backup:
    """One kept state: its record, where its image is, and what a person noted of it.

    The card in the record has the name that the person gave it, where they did.
    """

    record: BackupRecord
    path: Path
    note: str = ""

    @property
    def id(self) -> str:
        """What its crate finds it by, also where its record cannot be read: its lane and its name."""
        return f"{self.path.parent.name}/{self.path.stem}"

    @property
    def kept_at(self) -> datetime:
        """When the card was read."""
        return datetime.fromisoformat(self.record.kept_at)

    @property
    def is_in_chunks(self) -> bool:
        """Whether it is a list of chunks; else it is an image."""
        return self.path.suffix == KEPT

    @property
    def new(self) -> float:
        """Share of it that no backup had before, 0 to 1; all of it where that is not known."""
        fresh, used = self.record.fresh, self.record.written
        return 1.0 if fresh is None or not used else min(1.0, fresh / used)

    @property
    def chosen(self) -> str:
        """Of a part of a card, or of a device: what was kept; "" for a whole card."""
        return str(self.record.layout.get("chosen", ""))

    @property
    def listed(self) -> Listed:
        """As the catalogue knows it. Raises CrateError when it is gone."""
        try:
            return Listed(self.path, _stamp(self.path.stat()))
        except OSError as error:
            raise CrateError(f"The backup {self.path.stem} is gone: {error.strerror}.") from error

    def open(self) -> Blocks:
        """The card as it was kept, for reading. Raises CrateError when it is gone or has another length."""
        try:
            blocks = _open(self.path)
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
    """All backups of one card, oldest first, and what a person noted of it."""

    card: CardRecord
    backups: tuple[Backup, ...]
    note: str = ""


@dataclass(frozen=True)
class Trouble:
    """Something in the crate that cannot be used as it is; `path` of the image or the record."""

    path: Path
    sentence: str


@dataclass
class Crate:
    """The backups below a folder. `now` is the clock; the catalogue only makes it quick to look through."""

    root: Path
    now: Callable[[], datetime] = lambda: datetime.now(UTC).astimezone()
    catalogue: Catalogue = field(default_factory=Catalogue)

    def lanes(self) -> list[Lane]:
        """The cards, the one kept last first. Records that cannot be used are left out."""
        cards: dict[str, list[Backup]] = {}
        for path in _in_folders(self.root, ".json"):
            try:
                record = records.load(path)
            except CrateError:
                continue
            cards.setdefault(record.card.key, []).append(Backup(record, path.with_name(record.image)))
        for path, record in self.catalogue.records(_lists(self.root), _record_of).items():
            cards.setdefault(record.card.key, []).append(Backup(record, path))
        notes = notes_in(self.root)
        lanes = [_lane(sorted(found, key=lambda b: b.kept_at), notes) for found in cards.values()]
        return sorted(lanes, key=lambda lane: lane.backups[-1].kept_at, reverse=True)

    def troubles(self) -> list[Trouble]:
        """Kept images without a record that can be used, and records without their image: none of them is forgotten."""
        found = []
        for image in _in_folders(self.root, ".img"):
            try:
                record = records.load(image.with_suffix(".json"))
                if record.image != image.name:
                    raise CrateError(f"The record beside {image} is of another image, {record.image}.")
            except CrateError as error:
                if image.with_suffix(RESCUE).exists():
                    continue                             # it is made a backup of: the rescue is gone on with
                found.append(Trouble(image, f"The backup {image.name} in “{image.parent.name}” is there, but it is not "
                                     f"known of which card and whether it is whole: {error}"))
        listed = _lists(self.root)
        usable = self.catalogue.records(listed, _record_of)
        for path in (one.path for one in listed if one.path not in usable):
            try:
                _record_of(path)
            except CrateError as error:
                found.append(Trouble(path, str(error)))
        late = _taken_for_dead(self.root)
        found += [Trouble(Path(path), f"The folder {path} cannot be read: {why}. What is kept in it is not listed.")
                  for path, why in _unread(self.root)]
        for path in _in_folders(self.root / "backups", KEPT) if late else ():
            if _is_late(path, late):
                found.append(Trouble(path, f"The backup {path.stem} is not whole: its computer slept while it was "
                                     "made, and another one gave room back. Keep that card again."))
        for path in _in_folders(self.root, ".json"):
            with suppress(CrateError):
                image = path.with_name(records.load(path).image)
                if not image.exists():
                    found.append(Trouble(path, f"The backup {image.name} in “{path.parent.name}” is recorded, but its "
                                         "image is gone."))
        return found

    def room(self) -> int:
        """Bytes that everything in it takes on its disk."""
        taken = 0
        for folder, ending in (("packs", ".pack"), ("backups", KEPT), ("", ".img")):
            for path in _in_folders(self.root / folder, ending):
                with suppress(OSError):
                    taken += path.stat().st_blocks * 512
        return taken

    def has(self, id: str) -> bool:
        """Whether a backup is in this crate."""
        return self.image(id).is_file()

    def open(self, id: str) -> Blocks:
        """The card as it was kept, for reading. Raises MediumError."""
        return _open(self.image(id))

    def digest(self, id: str) -> str:
        """BLAKE3 that an image is recorded with; "" where it has none, and for chunks, which are proven one by one."""
        path = self.image(id)
        return "" if path.suffix == KEPT else records.digest_beside(path)

    @staticmethod
    def named(id: str) -> str:
        """A backup in a sentence."""
        return f"The backup {id.rpartition('/')[2]}"

    def find(self, text: str) -> Backup:
        """A backup by its file, the end of its name, or its card: the newest, or of the day behind @.

        Raises CrateError.
        """
        backups = [b for lane in self.lanes() for b in lane.backups]
        card, _, day = text.partition("@")
        wanted = card.casefold()
        for chosen in ([b for b in backups if text in (str(b.path), b.path.name, b.path.stem, b.id)],
                       [b for b in backups if len(text) >= DIGITS and b.path.stem.endswith(text)],
                       [b for b in backups if wanted in (b.record.card.name.casefold(), b.record.card.tag.casefold(),
                                                         b.record.card.key)
                        and f"{b.kept_at:%Y-%m-%d}".startswith(day)]):
            if chosen:
                return chosen[-1]
        for path, why in _unread(self.root):
            raise CrateError(f"The folder {path} cannot be read: {why}. It is not known whether “{text}” is in it.")
        raise CrateError(f"There is no backup “{text}” in this crate. `crate list` names what is kept.")

    def image(self, id: str) -> Path:
        """The file that stands for a backup: its image, or the list of its chunks."""
        if id.startswith("/"):                                # jobs named images by their paths once
            return Path(id)
        kept = self.root / "backups" / f"{id}{KEPT}"
        return kept if kept.exists() else self.root / f"{id}.img"

    def backups_of(self, key: str) -> tuple[Backup, ...]:
        """The backups of one card, oldest first."""
        return next((lane.backups for lane in self.lanes() if lane.card.key == key), ())

    def suggest(self, card: CardRecord) -> Path:
        """Where the next backup of a card goes: a folder with its name and tag, a dated file."""
        name = re.sub(r"[^\w .-]+", "", card.name).strip(" .") or "card"
        folder, stamp = self.root / f"{name} {card.tag}", self.now().strftime("%Y-%m-%d %H.%M")
        candidates = (folder / f"{stamp} {name}{f' ({n})' if n else ''}.img" for n in range(1000))
        return next(path for path in candidates if not any(path.with_suffix(ending).exists() for ending in TAKEN))

    def check_room(self, blocks: Blocks, folder: Path | None = None, *, used: int | None = None) -> None:
        """Raises CrateError when the card's data would not fit onto the disk of the crate.

        Args:
            blocks: the card.
            folder: where it goes; the crate's own where it is left out.
            used: bytes that are in use on it; None where that is not known.
        """
        try:
            place = folder or self.root
            while not is_there(place):
                place = place.parent
            spare = shutil.disk_usage(place).free
        except OSError as error:
            raise CrateError(f"The disk of {self.root} cannot be asked: {error.strerror}. Nothing was written.") \
                from error
        there = sum(e.length for e in blocks.extents() if not e.is_hole)
        needed = there if used is None else min(there, used)
        free = spare - SPARE_ROOM
        if needed > free:
            raise CrateError(f"There is no room for this backup: it may need {binary(needed)}, the disk of "
                             f"{place} has {binary(max(0, free))} to spare. Nothing was written.")

    def keep(self, card: CardRecord, blocks: Blocks, watch: Watch, *, verify: bool = True,
             every_byte: bool = False, kept_at: datetime | None = None, chosen: str = "") -> Backup:
        """Keep what is in use on a card, each chunk once in the whole crate.

        Free room and the slack of files come back as zeros, unless every byte is asked for. Sectors that cannot be
        read are zeros and named in the record. `kept_at` is now where it is left out; of a part, `chosen` says which.

        Raises:
            CrateError: there is no room, what was written does not read back, or the card was written to meanwhile.
            MediumError: the card is gone.
            Damaged: what it is packed in is not whole.
            Stopped: what was packed so far is used again next time.
        """
        def keep_all() -> Backup:
            seen, opened, since = None, Opened(), blocks.changed_at
            with suppress(MediumError, FormatError):
                seen = survey(blocks, opened=opened)
            if not self.backups_of(card.key):                # else most of it may be here already
                self.check_room(blocks, used=None if every_byte or seen is None or seen.is_closed else seen.used)
            described = (describe(seen) if seen else {}) | ({"chosen": chosen} if chosen else {})
            stored = store(self.root, as_large_as_it_is(card, blocks), blocks, seen, watch, opened=opened,
                           kept_at=kept_at or self.now(), described=described, since=since, verify=verify,
                           every_byte=every_byte)
            return Backup(_record(stored.path, stored.about), stored.path)

        return in_full(blocks, keep_all)

    def keep_as_image(self, card: CardRecord, blocks: Blocks, watch: Watch, path: Path, *, layout: dict[str, Any],
                      verify: bool = True) -> Backup:
        """Read a whole card into an image somewhere, and record it beside it.

        Sectors that cannot be read are zeros in the image and named in the record.

        Raises:
            CrateError: there is no room, what was written does not read back equal, or the card
                was written to meanwhile.
            MediumError: the path is taken, the disk of the crate could not be written.
            Damaged: what it is packed in is not whole.
            Stopped: the half-made image is removed.
        """
        for each in (path, path.with_suffix(".json")):
            must_be_new(each)
        return in_full(blocks, lambda: self._image_of(card, blocks, watch, path, layout, verify=verify))

    def _image_of(self, card: CardRecord, blocks: Blocks, watch: Watch, path: Path, layout: dict[str, Any], *,
                  verify: bool) -> Backup:
        self.check_room(blocks, path.parent)
        path.parent.mkdir(parents=True, exist_ok=True)
        begun, kept_at, since = time.monotonic(), self.now().isoformat(timespec="seconds"), blocks.changed_at
        with new_file(path) as part:
            with begun_image(part, blocks.size) as image:
                copied = copy(blocks, image, blocks.size, watch, phase="Keeping the card", mend=True)
                confirm_packed(blocks)
                image.flush()
                if verify:
                    _verify(image, copied, watch)
            must_belong_together(card, blocks, since)
        record = BackupRecord(as_large_as_it_is(card, blocks), kept_at, path.name, copied.length, copied.written,
                              copied.digest, round(time.monotonic() - begun, 3), verify,
                              [(e.start, e.length) for e in copied.unreadable], layout)
        records.save(path.with_suffix(".json"), record)
        return Backup(record, path)

    def check_all(self, watch: Watch) -> list[str]:
        """Read everything that is kept; a sentence for each backup that is damaged. Raises Stopped."""
        told = check_store(self.root, watch)
        for backup in (b for lane in self.lanes() for b in lane.backups if not b.is_in_chunks):
            try:
                self.check(backup, watch)
            except (CrateError, MediumError) as error:
                told.append(str(error))
        images = (t for t in self.troubles() if t.path.suffix != KEPT)
        return [*told, *(trouble.sentence for trouble in images)]

    def check(self, backup: Backup, watch: Watch) -> None:
        """Read a backup again and compare it with its record. Raises CrateError that names what is damaged."""
        if backup.is_in_chunks:
            check_chunks(backup.path, watch)
            return
        with backup.open() as image:
            if digest(image, image.size, watch, phase="Checking the backup") != backup.record.blake3:
                raise CrateError(f"The backup {backup.path.name} is not what was kept: its checksum differs. "
                                 "Do not put it back.")


def _lane(backups: list[Backup], notes: dict[str, Note]) -> Lane:
    """With the names and notes that a person gave."""
    own = notes.get(backups[-1].record.card.key, Note("", ""))
    if own.name:
        backups = [replace(b, record=replace_field(b.record, card=replace_field(b.record.card, name=own.name)))
                   for b in backups]
    backups = [replace(b, note=notes[b.id].text) if b.id in notes else b for b in backups]
    return Lane(backups[-1].record.card, tuple(backups), own.text)


def _open(path: Path) -> Blocks:
    """An image, or the disk that a list of chunks comes to. Raises MediumError."""
    blocks = open_blocks(path)
    return disk_in(blocks) if path.suffix == KEPT else blocks


def _lists(root: Path) -> list[Listed]:
    """The lists of chunks that are in a crate, in order; one that was put too late only if nothing is missing."""
    found, late = [], _taken_for_dead(root)
    with suppress(OSError), os.scandir(root / "backups") as folders:
        for folder in folders:
            with suppress(OSError), os.scandir(folder) as files:       # a file in between, or just removed
                found += [Listed(Path(file.path), _stamp(file.stat())) for file in files if file.name.endswith(KEPT)]
    return sorted((one for one in found if not _is_late(one.path, late)), key=lambda one: str(one.path))


def _taken_for_dead(root: Path) -> set[str]:
    """See `broken_in`; nothing where that cannot be told: every chunk is proven when it is read."""
    try:
        return broken_in(root)
    except OSError:
        return set()


def _in_folders(root: Path, ending: str) -> list[Path]:
    """What lies in the folders of a folder, as far as they can be read: `_unread` names the others."""
    found = list[Path]()
    with suppress(OSError):
        for folder in entries(root):
            with suppress(OSError):
                found += entries(folder, ending)
    return found


def _unread(root: Path) -> Iterator[tuple[str, str]]:
    """Folders of backups that may not be looked into, or do not answer, and why."""
    for place in (root, root / "backups"):
        folder = place
        try:
            for folder in entries(place):
                entries(folder)
        except OSError as error:
            yield str(folder), error.strerror or ""


def _is_late(path: Path, late: set[str]) -> bool:
    """Whether a list was put by somebody who was taken for dead, and lacks what was given back meanwhile."""
    if path.stem[-IN_NAMES:] not in late:
        return False
    try:
        return not is_all_there(path)
    except CrateError:
        return True


def _stamp(status: os.stat_result) -> str:
    return f"{status.st_size}:{status.st_mtime_ns}"


def _record_of(path: Path) -> BackupRecord:
    """Of a backup in chunks. Raises CrateError."""
    try:
        status = path.stat()
        return _record(path, about_of(path, status.st_size, status.st_mtime_ns))
    except (OSError, FormatError) as error:
        raise CrateError(f"The backup {path.stem} in “{path.parent.name}” cannot be used: {error}") from error


def _record(path: Path, about: About) -> BackupRecord:
    return BackupRecord(about.card, about.kept_at, path.name, about.card.size, about.used, about.root, about.seconds,
                        about.verified, about.unreadable, about.layout, fresh=about.fresh)


def _verify(image: Blocks, copied: Copied, watch: Watch) -> None:
    image.drop_cache()
    if digest(image, copied.length, watch, phase="Reading the backup back") != copied.digest:
        raise CrateError("What was written to the crate does not read back as it was. The disk of the crate "
                         "may be failing; the card itself is untouched.")
