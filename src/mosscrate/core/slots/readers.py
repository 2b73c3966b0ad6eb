"""Readers and drives of this computer: opened directly where that is allowed, else by the desktop's disk service."""

from __future__ import annotations

import stat
from dataclasses import dataclass, field, replace
from pathlib import Path

from mosscrate.core.blocks import FileBlocks, open_blocks
from mosscrate.core.blocks.file import may_open
from mosscrate.core.contents.identity import mark_of
from mosscrate.core.errors import InProof, InUse, MediumError
from mosscrate.core.slots import sysfs
from mosscrate.core.slots.kernel_tree import Tree, number_in, text_in
from mosscrate.core.slots.medium import Access, Medium, Source
from mosscrate.core.slots.proofs import known_by
from mosscrate.core.slots.service import Service
from mosscrate.core.slots.uses import System


@dataclass
class Readers:
    """What both views tell; a card without a serial number is known by what is on it.

    Where they are not shown, none of this computer's cards and drives is listed beside made-up ones.
    """

    are_shown: bool = True
    service: Service = field(default_factory=Service)
    proofs: Path | None = None                # where proofs of cards are noted
    _marks: dict[Path, tuple[tuple[str, str], str]] = field(default_factory=dict, repr=False)   # as of when, mark

    def media(self) -> list[Medium]:
        """See Slot."""
        return [self._marked(medium) for medium in sysfs.media(self.system())] if self.are_shown else []

    def medium_at(self, path: Path) -> Medium | None:
        """See Slot; devices that are not offered are found too."""
        if not path.exists() or not stat.S_ISBLK(path.stat().st_mode):
            return None
        system = self.system()
        use = sysfs.in_use(path, system)
        known = next((m for m in sysfs.media(system) if m.path == path), None)
        if known:
            return self._marked(replace(known, in_use=known.in_use or use))
        folder = system.tree.sys / "class/block" / path.name
        return self._marked(Medium(path.name, path, number_in(folder / "size") * 512, Source.READER, reader=path.name,
                                   is_write_protected=number_in(folder / "ro") == 1, in_use=use))

    def system(self) -> System:
        """How the system uses its devices now."""
        return System(Tree(), self.service.view())

    def open(self, medium: Medium, access: Access) -> FileBlocks:
        """See Slot."""
        try:
            return self._open(medium, access)
        except InUse:
            if access != Access.READ_ALONE:
                raise
            return self._open(medium, Access.READ)

    def _open(self, medium: Medium, access: Access) -> FileBlocks:
        writable, alone = access == Access.WRITE, access != Access.READ
        if may_open(medium.path, writable=writable):
            return open_blocks(medium.path, writable=writable, alone=alone)
        fd = self.service.open(medium.path, medium.name, writable=writable, exclusive=alone, may_ask=medium.may_ask)
        return FileBlocks(fd, medium.path, writable=writable)

    def _marked(self, medium: Medium) -> Medium:
        medium = replace(medium, slot=self)
        if medium.serial:
            return medium
        now = _moment(medium.path)
        then, mark = self._marks.get(medium.path, (None, ""))
        if then != now:
            try:
                with self.open(replace(medium, may_ask=False), Access.READ) as blocks:
                    blocks.refuse_marks()
                    mark = mark_of(blocks)
                self._marks[medium.path] = now, mark
            except InProof as met:
                mark = known_by(self.proofs, met.nonce) or met.nonce.hex()
            except (MediumError, OSError):               # it stays what it was known as, as long as it is not taken out
                mark = mark if then is not None and then[0] == now[0] else ""
        return replace(medium, mark=mark)


def _moment(device: Path) -> tuple[str, str]:
    """The card in a reader and what was written to it so far, as the kernel counts both."""
    folder = Tree().sys / "class/block" / device.name
    return text_in(folder / "diskseq"), " ".join(text_in(folder / "stat").split()[4:7])
