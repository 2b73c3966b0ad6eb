"""Simulated slots: a folder of cards, each described in TOML and backed by a sparse file.

They stand in for readers where there are none: to try the program, to rehearse, to test. A card
`pipkin.toml` keeps its contents in `pipkin.img` beside it, made when it is first looked at.
"""

from __future__ import annotations

import random
from dataclasses import dataclass
from pathlib import Path

import msgspec

from mosscrate.core.blocks import FileBlocks, create_image
from mosscrate.core.blocks.faulty import Bad, CardState, Drop, Faults
from mosscrate.core.errors import MediumError
from mosscrate.core.images import open_image
from mosscrate.core.slots.medium import Access, Medium, Source


class CardFile(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """One card as its TOML file says it. Sizes in bytes; `unreadable` holds [start, length] pairs.

    `unreadable` and `real_size` are short for what `faults` can say of bad places and a false size.
    """

    name: str
    size: int
    model: str = ""
    serial: str = ""
    reader: str = "simulated slot"
    write_protected: bool = False
    removable: bool = True
    order: int = 100
    unreadable: list[tuple[int, int]] = []
    real_size: int | None = None
    faults: Faults = Faults()

    @property
    def all_faults(self) -> Faults:
        """What is said in short and at length."""
        bad = tuple(Bad(start, length) for start, length in self.unreadable)
        drop = Drop(self.real_size) if self.real_size is not None else self.faults.drop
        return msgspec.structs.replace(self.faults, bad=(*self.faults.bad, *bad), drop=drop)


_states: dict[Path, CardState] = {}      # of cards that are put in, as long as the program runs
msgspec.json.Decoder(CardFile)           # knows the type before two threads ask for it at once


def read_card(path: Path) -> CardFile:
    """Read one description. Raises MediumError that names file, key and what was expected."""
    try:
        card = msgspec.toml.decode(path.read_bytes(), type=CardFile)
    except (OSError, ValueError) as error:
        raise MediumError(f"The card description {path} cannot be used: {error}") from error
    if card.size <= 0 or card.size % 512:
        raise MediumError(f"The card description {path} cannot be used: size is {card.size}, "
                          "expected a positive multiple of 512.")
    return card


def write_card(path: Path, card: CardFile) -> None:
    """Write one description."""
    path.write_bytes(msgspec.toml.encode(card))


@dataclass(frozen=True)
class SimulatedSlots:
    """The cards of a folder, in the order that they ask for."""

    folder: Path

    def media(self) -> list[Medium]:
        """See Slot."""
        try:
            paths = [path for path in sorted(self.folder.iterdir()) if path.suffix == ".toml"]
        except OSError as error:
            raise MediumError(f"The folder of made-up cards {self.folder} cannot be read: {error.strerror}.") from error
        cards = [(read_card(path), path) for path in paths]
        return [self._medium(card, path.with_suffix(".img")) for card, path in sorted(cards, key=lambda c: c[0].order)]

    def medium_at(self, path: Path) -> Medium | None:
        """See Slot."""
        if path.parent != self.folder.resolve():
            return None
        return next((m for m in self.media() if m.path.resolve() == path), None)

    def open(self, medium: Medium, access: Access) -> FileBlocks:
        """See Slot."""
        return open_image(medium.path, writable=access == Access.WRITE)

    def _medium(self, card: CardFile, image: Path) -> Medium:
        if not image.exists():
            create_image(image, card.size).close()
        return Medium(card.name, image, card.size, Source.SIMULATED, card.model, card.serial, card.reader,
                      card.removable, card.write_protected, faults=card.all_faults, slot=self,
                      state=_states.setdefault(image, CardState(chance=random.Random(card.faults.seed))))
