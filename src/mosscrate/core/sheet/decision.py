"""What a step has decided, and what it has done."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.contents.transfer import Passage
from mosscrate.core.maps import PartitionMap

SMALL = 4 << 20


@dataclass(frozen=True)
class Decision:
    """What a step will do: in words, in bytes, and as what the card looks like afterwards.

    Attributes:
        sentence: of the plan.
        reads, writes: bytes at most.
        note: beside the sentence.
        map: of the card afterwards; None where it stays.
        looks: partitions whose contents change, as they are in that map.
        kept: numbers of those whose bytes stay as they are, with another place or name in the map.
        same_files: numbers of those whose files stay as they are.
        bytes: {number: bytes of a partition} of changes that were tried out on a view; files in them may be hollow.
        before: the same where only the names in them are as they will be.
        brought: {number: number on the source} of those that come over with their files.
        exact: numbers of those among them that come over byte for byte.
        whole: the layout of a card of which nothing stays; instead of `map` and `looks`.
        passage: what files lose on their way.
        journal: bytes that the journal may have to hold, beyond what every change needs.
        chosen: what the step hands to itself.
    """

    sentence: str
    reads: int = 0
    writes: int = SMALL
    note: str = ""
    map: PartitionMap | None = None
    looks: tuple[PartitionLook, ...] = ()
    kept: frozenset[int] = frozenset()
    same_files: frozenset[int] = frozenset()
    bytes: Mapping[int, Blocks] = field(default_factory=dict)
    before: Mapping[int, Blocks] = field(default_factory=dict)
    brought: Mapping[int, int] = field(default_factory=dict)
    exact: frozenset[int] = frozenset()
    whole: Layout | None = None
    passage: Passage | None = None
    journal: int = 0
    chosen: Any = None

    @property
    def noted(self) -> str:
        """The note as a sentence that follows another one, "" for none."""
        return f" {self.note[0].upper()}{self.note[1:]}." if self.note else ""


@dataclass(frozen=True)
class Done:
    """What a step did: a sentence and the bytes that it moved or compared; `is_proof` where it compared them all."""

    sentence: str
    bytes: int = 0
    is_proof: bool = False
