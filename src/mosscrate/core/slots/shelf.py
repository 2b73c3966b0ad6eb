"""All media at hand, and finding one by what a person types."""

from __future__ import annotations

import os
import stat
from dataclasses import dataclass, field, replace
from pathlib import Path

from mosscrate.core.blocks import open_blocks
from mosscrate.core.blocks.file import is_write_protected
from mosscrate.core.errors import MediumError
from mosscrate.core.slots import simulated, sysfs
from mosscrate.core.slots.medium import Medium, Source


@dataclass
class Shelf:
    """Where media are looked for. `images` are files somebody opened."""

    simulated_folder: Path | None = None
    images: list[Path] = field(default_factory=list)
    backups: Path | None = None              # root of the crate: files below it are backups

    def media(self) -> list[Medium]:
        """Everything at hand: simulated cards, readers, opened images. Raises MediumError."""
        found = simulated.media_in(self.simulated_folder) if self.simulated_folder else []
        found += sysfs.media()
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
                tags = ", ".join(m.tag for m in found)
                raise MediumError(f"“{text}” names several media; say which by its tag: {tags}.")
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
        if stat.S_ISBLK(path.stat().st_mode):
            return _device(path)
        if not path.is_file():
            raise MediumError(f"{path} is a folder, not a card image.")
        source = Source.BACKUP if self.backups and self.backups.resolve() in path.parents else Source.IMAGE
        return Medium(path.stem, path, path.stat().st_size, source, reader="image file",
                      is_write_protected=not os.access(path, os.W_OK))


def _device(path: Path) -> Medium:
    use = sysfs.in_use(path)
    known = next((m for m in sysfs.media() if m.path == path), None)
    if known:
        return replace(known, in_use=known.in_use or use)
    blocks = open_blocks(path)
    with blocks:
        return Medium(path.name, path, blocks.size, Source.READER, reader=path.name,
                      is_write_protected=is_write_protected(blocks), in_use=use)
