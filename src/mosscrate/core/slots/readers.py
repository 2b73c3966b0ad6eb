"""Readers and drives of this computer, opened directly."""

from __future__ import annotations

import stat
from dataclasses import dataclass, field, replace
from pathlib import Path

from mosscrate.core.blocks import FileBlocks, open_blocks
from mosscrate.core.blocks.file import is_write_protected
from mosscrate.core.contents.identity import mark_of
from mosscrate.core.errors import MediumError
from mosscrate.core.images import open_image
from mosscrate.core.slots import sysfs
from mosscrate.core.slots.kernel_tree import Tree, text_in
from mosscrate.core.slots.medium import Medium, Source


@dataclass
class Readers:
    """What the kernel's tree tells; a card without a serial number is known by what is on it."""

    _marks: dict[Path, tuple[tuple[str, str], str]] = field(default_factory=dict, repr=False)   # as of when, mark

    def media(self) -> list[Medium]:
        """See Slot."""
        return [self._marked(medium) for medium in sysfs.media()]

    def medium_at(self, path: Path) -> Medium | None:
        """See Slot; devices that are not offered are found too."""
        if not path.exists() or not stat.S_ISBLK(path.stat().st_mode):
            return None
        use = sysfs.in_use(path)
        known = next((m for m in sysfs.media() if m.path == path), None)
        if known:
            return self._marked(replace(known, in_use=known.in_use or use))
        blocks = open_blocks(path)
        with blocks:
            return self._marked(Medium(path.name, path, blocks.size, Source.READER, reader=path.name,
                                       is_write_protected=is_write_protected(blocks), in_use=use))

    def open(self, medium: Medium, *, writable: bool) -> FileBlocks:
        """See Slot."""
        return open_image(medium.path, writable=writable)

    def _marked(self, medium: Medium) -> Medium:
        medium = replace(medium, slot=self)
        if medium.serial:
            return medium
        try:
            now = _moment(medium.path)
            if self._marks.get(medium.path, (None, ""))[0] != now:
                with open_blocks(medium.path) as blocks:
                    self._marks[medium.path] = now, mark_of(blocks)
            return replace(medium, mark=self._marks[medium.path][1])
        except (MediumError, OSError):
            return medium                        # what cannot be read is known by where it is


def _moment(device: Path) -> tuple[str, str]:
    """The card in a reader and what was written to it so far, as the kernel counts both."""
    folder = Tree().sys / "class/block" / device.name
    return text_in(folder / "diskseq"), " ".join(text_in(folder / "stat").split()[4:7])
