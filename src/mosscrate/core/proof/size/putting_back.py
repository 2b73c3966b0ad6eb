"""What stood on a card comes back after an interruption: where marks stand, and nowhere else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.proof_marks import BLOCK, NONE, read
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.size.journal import Journal, as_blocks
from mosscrate.core.sizes import counted


@dataclass(frozen=True)
class PutBack:
    """What came of it: how many blocks bore marks; bytes of those that do not take what stood there, and of those that
    hold neither a mark nor what stood there, since somebody wrote to them."""

    marked: int
    left: tuple[int, ...] = ()
    since: tuple[int, ...] = ()

    def end(self, journal: Journal) -> None:
        """The proof is over. What stood on a card that bears no mark and holds something else stays in its folder."""
        if self.since and not self.marked:
            journal.set_aside()
        elif not self.left:
            journal.end()
        else:
            journal.close()

    def sentence(self, name: str) -> str:
        """What may be said of it."""
        if not self.marked and self.since:
            return (f"No mark of its proof stands on {name} any more, and {counted(len(self.since), 'block')} hold "
                    "something else than before it: the card was written since, or it is another one. Nothing was put "
                    "back; what stood there is kept in the state folder.")
        if not self.marked:
            return f"No mark stood on {name}: there was nothing to put back."
        said = [f"{counted(self.marked, 'block')} of {name} bore marks of its proof."]
        if self.left:
            said.append(f"{counted(len(self.left), 'block')} of them, the first at byte {self.left[0]:,}, did not take "
                        "back what stood there; it is kept, and “Put back” tries again.")
        else:
            said.append("What stood there before is back.")
        if self.since:
            said.append(f"{counted(len(self.since), 'block')}, the first at byte {self.since[0]:,}, were written by "
                        "somebody since and are left as they are.")
        return " ".join(said)


@dataclass(frozen=True)
class ToldApart:
    """Blocks that bear marks or cannot be read, and blocks that hold neither a mark nor what stood there."""

    marked: list[int]
    since: list[int]


def told_apart(card: Blocks, blocks: Sequence[int], old: bytes | memoryview, nonce: bytes) -> ToldApart:
    """Compare neighbouring blocks with what stood there. Raises nothing: what cannot be read is to be written."""
    first, was = blocks[0] if blocks else 0, as_blocks(old)
    try:
        now = as_blocks(card.read(first * BLOCK, len(blocks) * BLOCK))
    except MediumError:
        if len(blocks) == 1:
            return ToldApart(list(blocks), [])
        parts = [told_apart(card, [block], was[k].tobytes(), nonce) for k, block in enumerate(blocks)]
        return ToldApart([b for p in parts for b in p.marked], [b for p in parts for b in p.since])
    is_mark = read(now, nonce) != NONE
    is_other = ~is_mark & (now != was).any(axis=1)
    return ToldApart((first + np.flatnonzero(is_mark)).tolist(), (first + np.flatnonzero(is_other)).tolist())
