"""All media at hand, and finding one by what a person types."""

from __future__ import annotations

import os
import stat
from dataclasses import dataclass, field, replace
from pathlib import Path

from mosscrate.core.blocks import open_blocks
from mosscrate.core.blocks.file import is_write_protected
from mosscrate.core.contents.identity import mark_of
from mosscrate.core.errors import MediumError
from mosscrate.core.slots import simulated, sysfs
from mosscrate.core.slots.kernel_tree import Tree, text_in
from mosscrate.core.slots.medium import Medium, Source
from mosscrate.core.slots.storage import Storage, storage_of

_WRITE_BITS = 0o222


@dataclass
class Shelf:
    """Where media are looked for. `images` are files somebody opened; below `crates` lie kept backups."""

    simulated_folder: Path | None = None
    images: list[Path] = field(default_factory=list)
    backups: Path | None = None              # root of the crate: files below it are backups
    crates: tuple[Path, ...] = ()            # of other crates that were used here
    _marks: dict[Path, tuple[tuple[str, str], str]] = field(default_factory=dict, repr=False)   # as of when, mark

    def media(self) -> list[Medium]:
        """Everything at hand: simulated cards, readers, opened images. Raises MediumError."""
        found = simulated.media_in(self.simulated_folder) if self.simulated_folder else []
        found += [self._known(medium) for medium in sysfs.media()]
        return found + [self.medium_at(path) for path in self.images if path.exists()]

    def find(self, text: str) -> Medium:
        """By path, name, tag or key, in that order. Raises MediumError."""
        path = Path(text).expanduser()
        if path.exists() and not path.is_dir():
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
        if self.simulated_folder and path.parent == self.simulated_folder.resolve():
            for medium in simulated.media_in(self.simulated_folder):
                if medium.path.resolve() == path:
                    return medium
        status = path.stat()
        if stat.S_ISBLK(status.st_mode):
            return self._known(_device(path))
        if not path.is_file():
            raise MediumError(f"{path} is a folder, not a card image.")
        source = Source.BACKUP if self.is_kept(storage_of(path)) else Source.IMAGE
        return Medium(path.stem, path, status.st_size, source, reader="image file",
                      is_write_protected=not may_be_written(path))

    def is_kept(self, storage: Storage) -> bool:
        """Whether a storage is that of a kept backup, in whatever crate and under whatever name."""
        roots = {root.resolve() for root in (self.backups, *self.crates) if root is not None and root.is_dir()}
        for image in (image for root in roots for image in root.glob("*/*.img")):
            try:
                status = image.stat()
            except OSError:
                continue
            if f"file-{status.st_dev}-{status.st_ino}" in storage.members:
                return True
        return False

    def _known(self, medium: Medium) -> Medium:
        """A device with what is on it where it has no serial number, and whether it stands on a backup."""
        try:
            storage = medium.storage()
            if self.is_kept(storage):
                medium = replace(medium, source=Source.BACKUP)
            if medium.serial:
                return medium
            known = self._marks.get(medium.path)
            if known is None or known[0] != _moment(medium.path):
                with open_blocks(medium.path) as blocks:
                    known = self._marks[medium.path] = _moment(medium.path), mark_of(blocks)
            return replace(medium, mark=known[1])
        except (MediumError, OSError):
            return medium                        # what cannot be read is known by where it is


def _moment(device: Path) -> tuple[str, str]:
    """The card in a reader and what was written to it so far, as the kernel counts both."""
    folder = Tree().sys / "class/block" / device.name
    return text_in(folder / "diskseq"), " ".join(text_in(folder / "stat").split()[4:7])


def may_be_written(path: Path) -> bool:
    """Whether somebody may write to a file by its own permission bits, which also bind those who could pass over them.
    """
    return bool(path.stat().st_mode & _WRITE_BITS) and os.access(path, os.W_OK)


def _device(path: Path) -> Medium:
    use = sysfs.in_use(path)
    known = next((m for m in sysfs.media() if m.path == path), None)
    if known:
        return replace(known, in_use=known.in_use or use)
    blocks = open_blocks(path)
    with blocks:
        return Medium(path.name, path, blocks.size, Source.READER, reader=path.name,
                      is_write_protected=is_write_protected(blocks), in_use=use)
