"""Proofs that were interrupted: whose marks may still stand on a card, told by the log and by the card itself.

A card in the middle of a proof holds marks where its contents should be. Nothing reads these as contents, and nothing
but putting back writes to it. What a proof notes is in docs/formats/proof.md.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.file import PUT_BACK, must_be_contents
from mosscrate.core.blocks.proof_marks import BLOCK, NONE, read
from mosscrate.core.errors import InProof, MediumError

FORMAT = 1
WHOLE = "whole"                          # the stage in which every block may be a mark
MOST_FAILED = 2                          # places that cannot be read, after which a card is not asked any more
LOWEST, SPREAD = 32, 32                  # blocks that are looked at: the last ones that are put back, and others
Ended = Literal["none", "put back"]


class Place(msgspec.Struct, frozen=True, array_like=True):
    """A stretch whose contents are held: block, blocks, where in the data file, BLAKE3, the round that read it."""

    block: int
    count: int
    at: int
    digest: str
    round: int


class Record(msgspec.Struct):
    """The journal of a proof as its JSON file says it.

    `stage` is the step that it is in; in "whole" a file of that name holds everything that stood on the card, but
    `skipped`, [start, length] in bytes, which could not be read.
    """

    card: str                              # key of the medium
    name: str
    tag: str
    size: int
    nonce: str
    stage: str = "knock"
    rounds: int = 0
    places: list[Place] = []
    ended: Ended = "none"
    skipped: list[tuple[int, int]] = []
    format: int = FORMAT
    mark: str = ""                         # by what a card without a serial number was known

    @property
    def sentence(self) -> str:
        """What a card in the middle of it is told to be."""
        return ("A proof of this card was interrupted: marks stand where its contents should be, and what stood there "
                "is kept on this computer.")

    def marked_blocks(self) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
        """Some of the blocks that may bear its marks, the lowest among them; shape (n,)."""
        if self.stage == WHOLE:
            every = np.arange(max(1, self.size // BLOCK), dtype=np.int64)
        else:
            blocks = [block for p in self.places for block in range(p.block, p.block + p.count)]
            every = np.sort(np.array(blocks, np.int64))
        spread = every[np.linspace(0, len(every) - 1, min(SPREAD, len(every))).astype(int)] if len(every) else every
        return np.concatenate((every[:LOWEST], spread))


def unfinished(folder: Path) -> Iterator[tuple[Path, Record]]:
    """Records in a folder of proofs whose cards may still hold marks; what cannot be read is left alone."""
    for path in sorted(folder.glob("*/proof.json")):
        try:
            record = msgspec.json.decode(path.read_bytes(), type=Record)
        except (OSError, msgspec.MsgspecError):
            continue
        if record.ended == "none" and record.format == FORMAT:
            yield path.parent, record


def bears_marks(record: Record, card: Blocks) -> bool:
    """Whether a mark of a proof stands on a card, looked for at some places."""
    if record.size != card.size:
        return False
    failed = 0
    for block in record.marked_blocks().tolist():
        try:
            data = np.frombuffer(card.read(block * BLOCK, BLOCK), np.uint8).reshape(-1, BLOCK)
        except MediumError:
            failed += 1
            if failed == MOST_FAILED:
                return False
            continue
        except InProof as met:
            if met.nonce.hex() == record.nonce:
                return True
            continue
        if read(data, bytes.fromhex(record.nonce))[0] != NONE:
            return True
    return False


def known_by(folder: Path | None, nonce: bytes) -> str:
    """By what a card was known before its proof was interrupted; "" where that proof is not known here."""
    noted = unfinished(folder) if folder else iter(())
    return next((record.mark for _, record in noted if record.nonce == nonce.hex()), "")


def in_the_middle(folder: Path | None, key: str, card: Blocks) -> tuple[Path, Record] | None:
    """The proof that a card is in the middle of: one that was noted for it, or whose marks it bears."""
    found = [(path, record) for path, record in (unfinished(folder) if folder else ()) if record.size == card.size]
    mine = [each for each in found if each[1].card == key]
    return next((each for each in found if bears_marks(each[1], card)), None) or next(iter(mine), None)


def must_hold_contents(folder: Path | None, key: str, card: Blocks) -> None:
    """Raises InProof where a card is in the middle of a proof, of this bench or of another one."""
    if (found := in_the_middle(folder, key, card)) is not None:
        raise InProof(f"{found[1].sentence} {PUT_BACK}", 0, bytes.fromhex(found[1].nonce))
    last, failed = max(1, card.size // BLOCK) - 1, 0
    for block in sorted({0, last, *(last * k // SPREAD for k in range(SPREAD))}):
        length = min(BLOCK, card.size - block * BLOCK)
        try:
            must_be_contents(card.read(block * BLOCK, length), block * BLOCK, card.name)
        except MediumError:                               # a bad place is no mark; each may take seconds
            failed += 1
            if failed == MOST_FAILED:
                return
