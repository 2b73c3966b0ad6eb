"""All media at hand, and finding one by what a person types."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

from mosscrate.core.contents.identity import mark_of
from mosscrate.core.errors import InProof, MediumError
from mosscrate.core.slots import letting_go
from mosscrate.core.slots.files import ImageFiles, Memory, file_on
from mosscrate.core.slots.medium import Medium, Slot, Source
from mosscrate.core.slots.proofs import known_by
from mosscrate.core.slots.readers import Readers
from mosscrate.core.slots.simulated import SimulatedSlots
from mosscrate.core.slots.storage import Storage
from mosscrate.core.slots.sysfs import EmptySlot, empty_slots
from mosscrate.core.slots.watching import Watcher


@dataclass
class Shelf:
    """Where media are looked for. `images` are files somebody opened; below `crates` lie kept backups."""

    simulated_folder: Path | None = None
    images: list[Path] = field(default_factory=list)
    backups: Path | None = None              # root of the crate: files below it are backups
    crates: tuple[Path, ...] = ()            # of other crates that were used here
    memory: Memory = field(default_factory=Memory)
    readers: Readers = field(default_factory=Readers, repr=False)
    proofs: Path | None = None               # where proofs of cards are noted, of this bench
    slots: tuple[Slot, ...] = field(init=False, repr=False)     # asked in this order

    def __post_init__(self) -> None:
        simulated = (SimulatedSlots(self.simulated_folder),) if self.simulated_folder else ()
        self.slots = (*simulated, self.readers, ImageFiles(self.images, self.memory))

    def media(self) -> list[Medium]:
        """Everything at hand: simulated cards, readers, opened images. Raises MediumError."""
        return _told_apart([self._known(medium) for slot in self.slots for medium in slot.media()])

    def empty_slots(self) -> list[EmptySlot]:
        """Slots of readers that wait for a card."""
        return empty_slots(self.readers.system()) if self.readers.are_shown else []

    def unmount(self, medium: Medium) -> tuple[str, ...]:
        """See letting_go."""
        return letting_go.unmount(medium, self.readers.service)

    def eject(self, medium: Medium) -> str:
        """See letting_go."""
        return letting_go.eject(medium, self.readers.service)

    def rescan(self, medium: Medium) -> None:
        """See letting_go."""
        letting_go.rescan(medium, self.readers.service)

    def watch(self, changed: Callable[[], None]) -> Watcher:
        """Be told when media may have come or gone."""
        return Watcher(changed, self.simulated_folder)

    def find(self, text: str) -> Medium:
        """By path, name, tag or key, in that order. Raises MediumError."""
        path = Path(text).expanduser()
        if file_on(path):
            return self.medium_at(path)
        wanted = text.casefold()
        media = self.media()
        for names in ([m.name for m in media], [m.tag for m in media], [m.key for m in media],
                      [m.path.stem for m in media], [m.path.name for m in media]):
            found = [m for m, name in zip(media, names, strict=True) if name.casefold() == wanted]
            if len(found) == 1:
                return found[0]
            if found:
                which = ", ".join(f"{m.tag} ({m.path})" for m in found)
                raise MediumError(f"“{text}” names several media; say which by its tag or its path: {which}.")
        if path.is_dir():
            raise MediumError(f"{path} is a folder, not a card image.")
        raise MediumError(f"There is no card, drive or file called “{text}”. Type a path, or a name or tag "
                          "that the slots list shows.")

    def medium_at(self, path: Path) -> Medium:
        """The medium behind a path: a slot's card when it is one, else an image. Raises MediumError."""
        path = path.resolve()
        found = next(filter(None, (slot.medium_at(path) for slot in self.slots)), None)
        if found is None:
            raise MediumError(f"{path} is neither a device nor an image.")
        twin = next((m for m in self.media() if m.path == found.path and m.twin), None) \
            if found.serial or found.mark else None
        return twin or self._known(found)

    def note_proofs(self, folder: Path) -> None:
        """Say where proofs are noted: a card in the middle of one is known for that."""
        self.proofs = self.readers.proofs = folder

    def kept_as(self, storage: Storage) -> str:
        """The id of the backup that a storage is, in whatever crate and under whatever name; "" for none."""
        patterns = ("*/*.img", "backups/*/*.kept")
        for image in (image for root in self._crates() for pattern in patterns for image in root.glob(pattern)):
            try:
                status = image.stat()
            except OSError:
                continue
            if f"file-{status.st_dev}-{status.st_ino}" in storage.members:
                return f"{image.parent.name}/{image.stem}"
        return ""

    def _pack(self, path: Path) -> str:
        """What a file with chunks of backups is called; "" for every other file."""
        folder = path.resolve().parents[1:3]
        is_pack = len(folder) == 2 and folder[0].name == "packs" and folder[1] in self._crates()
        return f"packs/{path.stem}" if is_pack else ""

    def _crates(self) -> set[Path]:
        return {root.resolve() for root in (self.backups, *self.crates) if root is not None and _is_open(root)}

    def _known(self, medium: Medium) -> Medium:
        """With what is noted here of proofs; a medium that stands on a backup is one, also a device."""
        medium = replace(medium, proofs=self.proofs)
        if medium.source == Source.SIMULATED:
            return medium
        try:
            backup = self._pack(medium.path) or self.kept_as(medium.storage())
        except MediumError:
            return medium                        # it is gone meanwhile
        return replace(medium, source=Source.BACKUP, backup=backup) if backup else medium


def _told_apart(media: list[Medium]) -> list[Medium]:
    """Cards of one model with one serial number are known by what is on them, else by where they are.

    Those without one that hold the same are one card to everything that was noted of it; their tags name one each.
    """
    for tell in (_mark, lambda medium: f"{medium.twin}|{medium.path}"):
        alike = {key for key, count in Counter(m.key for m in media if m.serial).items() if count > 1}
        media = [replace(m, twin=tell(m)) if m.key in alike else m for m in media]
    clones = {key for key, count in Counter(m.key for m in media if m.mark and not m.serial).items() if count > 1}
    return [replace(m, twin=str(m.path)) if m.key in clones else m for m in media]


def _mark(medium: Medium) -> str:
    try:
        with replace(medium, may_ask=False).open_to_look() as blocks:
            return mark_of(blocks) or "blank"
    except InProof as met:
        return known_by(medium.proofs, met.nonce) or met.nonce.hex()
    except MediumError:
        return "unread"


def _is_open(folder: Path) -> bool:
    """Whether a folder is there and this user may look into it; into others they cannot write either."""
    try:
        return folder.is_dir() and os.access(folder, os.R_OK | os.X_OK)
    except OSError:
        return False
