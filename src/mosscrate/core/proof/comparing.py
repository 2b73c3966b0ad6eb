"""Is a card still what was kept? It is compared with its backup place by place; files where it differs are named."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import joined, runs_of
from mosscrate.core.blocks.streaming import Chunk, chunks
from mosscrate.core.contents import Layout
from mosscrate.core.proof.reading import Hit, hits, named
from mosscrate.core.sizes import binary, counted
from mosscrate.core.watch import Watch

GRAIN = 512                              # bytes that are told apart: the smallest clusters have no more


@dataclass(frozen=True)
class Likeness:
    """How a card compares with what was kept of it.

    Attributes:
        compared: bytes.
        differing: stretches that hold something else now.
        unreadable: stretches of the card that cannot be read.
        files: of the card that lie where it differs, or cannot be read.
    """

    compared: int
    differing: tuple[Extent, ...]
    unreadable: tuple[Extent, ...]
    files: tuple[Hit, ...]

    @property
    def is_same(self) -> bool:
        """Whether every byte is as it was kept."""
        return not self.differing and not self.unreadable

    def sentence(self, name: str, kept: str) -> str:
        """The verdict with its reason; `kept` names the backup."""
        if self.is_same:
            return f"{name} is still what was kept on {kept}: all {binary(self.compared)} are equal."
        said = []
        if self.differing:
            said.append(f"it differs in {counted(len(self.differing), 'stretch', 'stretches')} "
                        f"({binary(sum(e.length for e in self.differing))}), the first at byte "
                        f"{self.differing[0].start:,}")
        if self.unreadable:
            said.append(f"{counted(len(self.unreadable), 'place')} cannot be read")
        where = f" Files there: {named(self.files)}." if self.files else ""
        return f"{name} is not what was kept on {kept}: {' and '.join(said)}.{where}"


def compare(card: Blocks, backup: Blocks, layout: Layout | None, watch: Watch) -> Likeness:
    """Compare every byte that both have. Raises MediumError where the card is gone, Stopped."""
    length = min(card.size, backup.size)
    differing: list[Extent] = []
    unreadable: list[Extent] = []
    card.drop_cache()
    for here, there in zip(chunks(card, length, mend=True), chunks(backup, length), strict=True):
        unreadable += here.unreadable
        differing += _differing(here, there)
        watch.progress(f"Comparing {card.name}", here.start + here.length, length)
    merged = joined(differing)
    places = [*merged, *unreadable]
    return Likeness(length, tuple(merged), tuple(unreadable),
                    tuple(hits(card, layout, places)) if places and layout is not None else ())


def _differing(here: Chunk, there: Chunk) -> Iterator[Extent]:
    """Stretches of whole grains in which two pieces differ; what cannot be read is told apart from that."""
    a, b = here.bytes, there.bytes
    whole = len(a) // GRAIN * GRAIN
    grains = (np.frombuffer(a[:whole], np.uint64).reshape(-1, GRAIN // 8)
              != np.frombuffer(b[:whole], np.uint64).reshape(-1, GRAIN // 8)).any(axis=1)
    grains = np.append(grains, a[whole:] != b[whole:])
    for bad in here.unreadable:
        grains[(bad.start - here.start) // GRAIN:-(-(bad.end - here.start) // GRAIN)] = False
    for first, last in runs_of(grains).tolist():
        yield Extent(here.start + first * GRAIN, min(last * GRAIN, len(a)) - first * GRAIN)
