"""What stood where marks are put: a file of old contents and a record of their places, in a folder of the state.

The record is replaced whole, after the contents it names are on the disk (`durable`). See docs/formats/proof.md.
"""

from __future__ import annotations

import os
import secrets
import shutil
from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
from blake3 import blake3

from mosscrate.core.blocks.proof_marks import BLOCK
from mosscrate.core.durable import sync_folder, write_whole
from mosscrate.core.errors import JobError
from mosscrate.core.sizes import MIB, binary
from mosscrate.core.slots.proofs import Place, Record, unfinished

SPARE = 12 * MIB
PROOFS = "proofs"                        # the folder of the state


class Journal:
    """Of one proof."""

    def __init__(self, folder: Path, record: Record) -> None:
        self.folder, self.record = folder, record
        self.held: dict[int, Place] = {}
        for place in record.places:
            self._note(place)
        self._fd = -1                      # most journals are only asked whose they are
        self._end = max((place.at + place.count * BLOCK for place in record.places), default=0)

    @classmethod
    def begin(cls, state: Path, card: str, name: str, tag: str, size: int, room: int, *, mark: str = "") -> Journal:
        """A new one. Raises JobError where there is no room for what it may have to hold."""
        nonce = secrets.token_hex(16)
        folder = state / PROOFS / nonce[:12]
        try:
            folder.mkdir(parents=True)
            free = shutil.disk_usage(folder).free
            if free < room + SPARE:
                folder.rmdir()
                raise JobError(f"There is no room to keep what is on {name} where marks are put: {state} needs "
                               f"{binary(room + SPARE)} and has {binary(free)} left. Nothing was written.")
            journal = cls(folder, Record(card, name, tag, size, nonce, mark=mark))
            journal.save()
        except OSError as error:
            raise JobError(f"A proof cannot be noted in {state}: {error.strerror}. Nothing was written.") from error
        return journal

    @classmethod
    def unfinished(cls, state: Path) -> Iterator[Journal]:
        """Those whose cards may still hold marks; what cannot be read is left alone."""
        return (cls(folder, record) for folder, record in unfinished(state / PROOFS))

    @property
    def nonce(self) -> bytes:
        """Of its marks: 16 bytes."""
        return bytes.fromhex(self.record.nonce)

    def holds(self, block: int) -> bool:
        """Whether the old contents of a block are in it."""
        return block in self.held

    def add(self, block: int, data: bytes | memoryview) -> None:
        """Hold the old contents of whole blocks; they count once `sync` has returned. Raises JobError."""
        count = len(data) // BLOCK
        try:
            os.pwrite(self._data, data, self._end)
        except OSError as error:
            raise JobError(f"What is on {self.record.name} cannot be kept: {error.strerror}. Nothing more was "
                           "written.") from error
        place = Place(block, count, self._end, blake3(data).hexdigest(), self.record.rounds)
        self._end += count * BLOCK
        self.record.places.append(place)
        self._note(place)

    def alias(self, block: int, of: int) -> None:
        """A block is the same room as another one: so are its old contents."""
        other = self.held[of]
        data = os.pread(self._data, BLOCK, other.at + (of - other.block) * BLOCK)
        self.add(block, data)

    def sync(self) -> None:
        """Return when everything added is on the disk itself. Raises JobError."""
        try:
            os.fsync(self._data)
            self.save()
        except OSError as error:
            raise JobError(f"What is on {self.record.name} cannot be kept: {error.strerror}. Nothing more was "
                           "written.") from error

    def save(self) -> None:
        """Write the record. Raises OSError."""
        write_whole(self.folder / "proof.json", msgspec.json.encode(self.record))

    def old(self, place: Place) -> bytes:
        """The old contents of a stretch. Raises JobError where the file is damaged."""
        data = os.pread(self._data, place.count * BLOCK, place.at)
        if blake3(data).hexdigest() != place.digest:
            raise JobError(f"What was on {self.record.name} at block {place.block} is damaged in {self.folder}; it "
                           "cannot be put back. Everything else can.")
        return data

    def block_of(self, place: Place, number: int) -> Place:
        """One block of a stretch. Raises JobError where the file is damaged."""
        old = self.old(place)[number * BLOCK:(number + 1) * BLOCK]
        return Place(place.block + number, 1, place.at + number * BLOCK, blake3(old).hexdigest(), place.round)

    def downwards(self) -> list[Place]:
        """All stretches, the highest address first: where reads and writes disagree, the low one has the last word."""
        return sorted(self.record.places, key=lambda place: -place.block)

    def forget(self, kept: set[int]) -> None:
        """All that was held is back but the stretches of some blocks: the record says so before the rest goes."""
        places = [place for place in self.record.places
                  if any(block in kept for block in range(place.block, place.block + place.count))]
        self.record.places = places
        self.held = {}
        for place in places:
            self._note(place)
        try:
            self.save()
            if not places:
                os.ftruncate(self._data, 0)
                self._end = 0
        except OSError as error:
            raise JobError(f"A proof of {self.record.name} cannot be noted any more: {error.strerror}. Everything on "
                           "it is as it was.") from error

    def set_aside(self) -> None:
        """The card is in the middle of it no longer; what stood there stays in the folder."""
        self.record.ended = "put back"
        self.save()
        self.close()

    def end(self) -> None:
        """Nothing of it is needed any more: the record says so before the contents go."""
        self.set_aside()
        shutil.rmtree(self.folder, ignore_errors=True)
        sync_folder(self.folder.parent)

    def close(self) -> None:
        """Let go of the file."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    @property
    def _data(self) -> int:
        if self._fd < 0:
            self._fd = os.open(self.folder / "old", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        return self._fd

    def _note(self, place: Place) -> None:
        if place.count == 1:
            self.held[place.block] = place
        else:
            self.held.update(dict.fromkeys(range(place.block, place.block + place.count), place))


def as_blocks(data: bytes | bytearray | memoryview) -> np.ndarray[tuple[int, ...], np.dtype[np.uint8]]:
    """Bytes as an array of (n, 4096)."""
    return np.frombuffer(data, np.uint8).reshape(-1, BLOCK)
