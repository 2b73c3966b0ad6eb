"""Media that are open for one run."""

from __future__ import annotations

from dataclasses import dataclass, field

from mosscrate.core.blocks import Blocks, Overlay


@dataclass
class Opened:
    """All of them are closed at its end, the last one first."""

    blocks: list[Blocks] = field(default_factory=list)

    def add(self, blocks: Blocks) -> Blocks:
        """Close these too."""
        self.blocks.append(blocks)
        return blocks

    def add_overlay(self, overlay: Overlay) -> Overlay:
        """A view that goes with the run."""
        self.blocks.append(overlay)
        return overlay

    def __enter__(self) -> Opened:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """All of them, if they are not closed yet."""
        while self.blocks:
            self.blocks.pop().close()
