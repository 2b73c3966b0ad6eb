"""The first sector of a card that is being written over: by it the card is known again after an interruption.

It holds neither a map nor a file system, and says in plain words what happened to whoever looks at it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks

SIZE = 512
MARK = b"MOSS CRATE: THIS CARD IS BEING WRITTEN\n"
_LINE = re.compile(rb"job (?P<job>[^\n]{1,64})\nnumber (?P<nonce>[0-9a-f]{32})\n")


@dataclass(frozen=True)
class Stamp:
    """The job that was at work, and a number that no other has."""

    job: str
    nonce: str


def stamp_of(job: str, nonce: str) -> bytes:
    """The sector, 512 bytes."""
    words = (f"job {job}\nnumber {nonce}\n\nThe job was interrupted, or is still at work. Finish it or take it back "
             "with the program\nthat began it; what stands behind this sector is not whole.\n")
    return (MARK + words.encode()).ljust(SIZE, b"\0")


def read_stamp(card: Blocks) -> Stamp | None:
    """What stands on a card that is being written; None on all others. Raises MediumError."""
    first = card.read(0, min(SIZE, card.size))
    found = _LINE.match(first, len(MARK)) if first.startswith(MARK) else None
    return Stamp(found["job"].decode("utf-8", "replace"), found["nonce"].decode()) if found else None


def has_stamp(card: Blocks, nonce: str) -> bool:
    """Whether a card bears the stamp of one job."""
    stamp = read_stamp(card)
    return stamp is not None and stamp.nonce == nonce
