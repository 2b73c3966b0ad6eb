"""A medium as a person sees it: a card, a drive or an image, and how to know it again."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path

from blake3 import blake3

from mosscrate.core.blocks import Blocks, open_blocks
from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.images import open_image
from mosscrate.core.sizes import printed

_TAG_LETTERS = "ACDEFHJKLMNPRTUVWXY3479"        # none that is read as another
EDGE = 1 << 20


class Source(StrEnum):
    """Where a medium is."""

    READER = "reader"            # a real block device
    SIMULATED = "simulated"      # a card of a simulated slot
    IMAGE = "image"              # a file somewhere
    BACKUP = "backup"            # a file in the crate


@dataclass(frozen=True)
class Medium:
    """One medium at hand.

    Attributes:
        name: what people call it.
        path: of the device or file.
        size: bytes.
        model, serial, reader: as the hardware says; "" where it says nothing.
        is_write_protected: by its switch or by permission.
        in_use: why it must not be written, such as "mounted at /media/x"; "" when free.
        faults: of a simulated card.
    """

    name: str
    path: Path
    size: int
    source: Source
    model: str = ""
    serial: str = ""
    reader: str = ""
    is_removable: bool = True
    is_write_protected: bool = False
    in_use: str = ""
    faults: Faults = field(default_factory=Faults)

    @property
    def key(self) -> str:
        """Knows the same medium again: hardware identity where there is one, else its path."""
        identity = f"{self.model}|{self.serial}|{self.size}" if self.serial else str(self.path.resolve())
        return blake3(identity.encode()).hexdigest()[:16]

    @property
    def tag(self) -> str:
        """Four characters to type before this medium is written."""
        number = int(self.key, 16)
        letters = []
        for _ in range(4):
            number, index = divmod(number, len(_TAG_LETTERS))
            letters.append(_TAG_LETTERS[index])
        return "".join(letters)

    @property
    def subtitle(self) -> str:
        """One line under the name: printed size and where it is."""
        return " · ".join(filter(None, (printed(self.size), self.reader or str(self.path.name))))

    def open(self) -> Blocks:
        """For reading. Raises MediumError."""
        return self._with_faults(open_image(self.path))

    def open_for_guard(self) -> Blocks:
        """For writing; the guard alone calls this. Raises MediumError."""
        return self._with_faults(open_blocks(self.path, writable=True))

    def _with_faults(self, blocks: Blocks) -> Blocks:
        blocks.name = self.name
        return blocks if self.faults == Faults() else FaultyBlocks(blocks, self.faults)


def fingerprint(blocks: Blocks) -> str:
    """BLAKE3 over size, first and last MiB: enough to see that a card was changed or exchanged."""
    edge = min(EDGE, blocks.size)
    hasher = blake3(str(blocks.size).encode())
    hasher.update(blocks.read(0, edge))
    hasher.update(blocks.read(blocks.size - edge, edge))
    return hasher.hexdigest()
