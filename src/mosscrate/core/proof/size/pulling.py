"""The last step of a size proof: marks are left on the card while it is out of its reader.

Only this shows a cache that forgets when the power goes. What stood there is in the journal meanwhile.
"""

from __future__ import annotations

import random

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.proof_marks import BLOCK, NONE
from mosscrate.core.errors import JobError
from mosscrate.core.proof.size import rounds
from mosscrate.core.proof.size.journal import Journal
from mosscrate.core.proof.size.plans import Numbers, comb, knock
from mosscrate.core.proof.size.rounds import UNREADABLE, Rounds
from mosscrate.core.proof.size.verdict import Kind, Verdict
from mosscrate.core.watch import Watch

PULLED = "pulled"
GONE = 0.02                              # share of the marks that has to be gone: fewer are bad places
LEAST = 3


def leave_marks(card: Blocks, journal: Journal, watch: Watch) -> int:
    """Put marks all over the card and leave them there; returns how many. Raises MediumError, JobError, Stopped."""
    going = Rounds(card, journal, watch)
    marked, _ = _places(going.blocks, journal)
    return going.leave(marked, PULLED)


def look_after_pulling(card: Blocks, journal: Journal, watch: Watch) -> Verdict:
    """Read the marks again, and put everything back. Raises MediumError, JobError, Stopped."""
    going = Rounds(card, journal, watch)
    held = np.array(sorted(journal.held), np.int64)
    if not len(held):
        raise JobError(f"No marks were left on {journal.record.name}.")
    looked = np.setdiff1d(_places(going.blocks, journal)[1], held)
    blocks = np.concatenate([held, looked])
    shown = going.look(blocks)
    back = rounds.put_back(journal.downwards(), card, journal, watch)
    return _verdict(card.size, blocks, shown, len(held), tuple(sorted(block * BLOCK for block in back)))


def _places(blocks: int, journal: Journal) -> tuple[Numbers, Numbers]:
    """Blocks that are marked and blocks that are only looked at, the same ones both times."""
    chance = random.Random(journal.nonce)
    plans = [knock(blocks, chance), comb(blocks, chance)]
    marked = dict.fromkeys(np.concatenate([plan.single for plan in plans]).tolist())
    return np.array(list(marked), np.int64), plans[1].looked


def _verdict(size: int, blocks: Numbers, shown: Numbers, marked: int, back: tuple[int, ...]) -> Verdict:
    """From what the places show; the first `marked` of them carry marks."""
    ours = shown[:marked]
    read, gone = int((ours != UNREADABLE).sum()), blocks[:marked][ours == NONE]
    foreign = (shown >= 0) & (shown != blocks)
    if foreign.sum() > 1:
        mark, place = int(shown[foreign][0]), int(blocks[foreign][0])
        return Verdict(Kind.FOLDS, PULLED, size, bad=marked - read, not_back=back,
                       evidence=f"A mark that was written at byte {mark * BLOCK:,} was read at byte {place * BLOCK:,}.")
    if len(gone) >= max(LEAST, GONE * read):
        held = blocks[:marked][ours == blocks[:marked]]
        is_top = len(held) > 0 and held.max() < gone.min()
        return Verdict(Kind.DROPS, PULLED, size, int(gone.min()) * BLOCK if is_top else None, bad=marked - read,
                       not_back=back, evidence=f"{len(gone)} of {read} marks were gone after it was taken out.")
    kind = Kind.UNSURE if read * 2 < marked else Kind.HOLDS
    return Verdict(kind, PULLED, size, size if kind == Kind.HOLDS else None, bad=marked - read, not_back=back)
