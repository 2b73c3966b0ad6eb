"""How a card is looked at by what journals it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.stretches import Stretches


class Seen(Protocol):
    """A card as it stands; either may raise MediumError."""

    @property
    def digest(self) -> bytes:
        """By what it is known again, 32 bytes."""

    @property
    def free(self) -> Stretches:
        """What of it holds nothing that anybody could want back."""


Look = Callable[[Blocks], Seen]
