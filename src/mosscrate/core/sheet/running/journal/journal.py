"""One journal: read whole or not at all, groups added behind one another, slots put in turn."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Extent
from mosscrate.core.errors import JobError
from mosscrate.core.sheet.running.journal import structures as s
from mosscrate.core.sheet.running.journal.marks import SECTOR, Marks, sector_count
from mosscrate.core.sheet.running.journal.store import JOURNAL, Folder, StoredFile
from mosscrate.core.sheet.running.journal.structures import Head, Holds, Slot, Standing
from mosscrate.core.sizes import binary


@dataclass(frozen=True)
class Stretch:
    """Neighbouring sectors that a group changed. Bytes; `body` is where its old bytes and marks stand in the file."""

    holds: Holds
    start: int
    length: int
    new: bytes                          # digest
    body: int = 0

    @property
    def end(self) -> int:
        """The first byte behind it."""
        return self.start + self.length

    @property
    def extent(self) -> Extent:
        """Where it lies on the card."""
        return Extent(self.start, self.length)

    @property
    def sectors(self) -> int:
        """How many there are."""
        return sector_count(self.length)

    @property
    def old_bytes(self) -> int:
        """What the file has of the old contents."""
        return {Holds.OLD: self.length, Holds.SWAP: 8 * self.sectors}.get(self.holds, 0)

    @property
    def body_bytes(self) -> int:
        """Old contents and marks of the new ones."""
        return self.old_bytes + (0 if self.holds == Holds.LET_GO else 8 * self.sectors)


@dataclass(frozen=True)
class Group:
    """Writes that lead to the state `number`."""

    number: int
    step: int
    at: int
    length: int
    digest: bytes
    stretches: tuple[Stretch, ...]

    @property
    def end(self) -> int:
        """Where the next one begins."""
        return self.at + -(-self.length // SECTOR) * SECTOR


@dataclass(frozen=True)
class Written:
    """A stretch that is about to be noted, with the parts of its body."""

    holds: Holds
    start: int
    length: int
    new: bytes
    parts: tuple[bytes | memoryview, ...] = ()


class Journal:
    """A journal that is open. `groups` are those that its newest slot counts, and those added since."""

    def __init__(self, file: StoredFile, head: Head, slot: Slot, groups: list[Group]) -> None:
        self.file, self.head, self.slot, self.groups = file, head, slot, groups
        self._has_unsynced = False

    @classmethod
    def create(cls, folder: Folder, head: Head, room: int) -> Journal:
        """A new one with room for `room` bytes of groups, at state 0. Raises JobError where the disk has none.

        It has its name only once head and slot are on the disk: a journal is never found half made.
        """
        head = replace(head, file_size=s.SMALLEST + head.first_group - s.FIRST_GROUP + -(-room // s.PAGE) * s.PAGE)

        def first(inode: int) -> Iterator[tuple[int, bytes]]:
            nonlocal head
            head = replace(head, inode=inode)
            raw = s.build_head(head)
            yield 0, raw
            yield s.FIRST_GROUP, s.build_free(head.free)
            for place in _places(head, 0):
                yield place, s.build_slot(_first_slot(head, raw))
        file = folder.create(head.job, JOURNAL, head.file_size, first)
        return cls(file, head, _first_slot(head, s.build_head(head)), [])

    @classmethod
    def read(cls, folder: Folder, job: str) -> Journal:
        """One that is as it was written, every byte that counts compared. Raises JobError where it is not."""
        if not folder.has(job, JOURNAL):
            raise missing(job)
        file = folder.open(job, JOURNAL)
        raw = file.read(0, s.PAGE)
        head = s.parse_head(raw, file.read)
        slot = _newest(file, head) if head else None
        if head is None or slot is None or head.job != job or file.size < head.file_size:
            raise _damaged(job)
        return cls(file, head, slot, list(_groups(file, head, slot, job)))

    @classmethod
    def glance(cls, folder: Folder, job: str) -> Journal | None:
        """Head, slot and as many groups as can be read, for asking what shows on a card; None without head or slot."""
        file = _opened(folder, job)
        if file is None:
            return None
        raw = file.read(0, s.PAGE)
        head = s.parse_head(raw, file.read)
        slot = _newest(file, head) if head else None
        if head is None or slot is None or head.job != job:
            return None
        groups: list[Group] = []
        with suppress(JobError):
            for group in _groups(file, head, slot, job):
                groups.append(group)
        return cls(file, head, slot, groups)

    @classmethod
    def head_of(cls, folder: Folder, job: str) -> Head | None:
        """The head alone; None where there is no journal, or no head that is whole."""
        file = _opened(folder, job)
        return s.parse_head(file.read(0, s.PAGE), file.read) if file is not None else None

    @classmethod
    def slot_of(cls, folder: Folder, job: str) -> Slot | None:
        """The newest slot alone; None where there is no journal, or no slot that is whole."""
        file = _opened(folder, job)
        if file is None:
            return None
        head = s.parse_head(file.read(0, s.PAGE), file.read)
        return _newest(file, head) if head and head.job == job else None

    def append(self, step: int, stretches: Sequence[Written]) -> Group:
        """Write a group behind the last one; it is not synced, and no slot counts it yet. Raises JobError."""
        at = self.end
        bodies = [part for written in stretches for part in written.parts]
        heads = np.zeros(len(stretches), s.STRETCH)
        heads["kind"] = [w.holds for w in stretches]
        heads["start"] = [w.start for w in stretches]
        heads["length"] = [w.length for w in stretches]
        heads["new"] = np.frombuffer(b"".join(w.new for w in stretches), "V32")
        raw = np.zeros((), s.GROUP)
        raw["mark"], raw["number"], raw["step"] = np.void(s.GROUP_MARK), len(self.groups) + 1, step
        raw["stretches"], raw["chain"] = len(stretches), np.void(self.chain)
        length = s.GROUP.itemsize + heads.nbytes + sum(len(p) for p in bodies) + s.DIGEST
        raw["length"] = length
        if at + length > self.head.file_size - 2 * s.PAGE:
            raise JobError(f"The journal is full: {binary(self.head.file_size)} were reserved, and this job changes "
                           "more than was planned. It stops here; what it has changed can be taken back.")
        hasher, parts = blake3(), [raw.tobytes() + heads.tobytes(), *bodies]
        for part in parts:
            hasher.update(part)
        digest = hasher.digest()
        self.file.write_parts(at, [*parts, digest])
        group = Group(len(self.groups) + 1, step, at, length, digest, tuple(_placed(at, heads)))
        self.groups.append(group)
        self._has_unsynced = True
        return group

    def sync(self) -> None:
        """Every group that was added is on the disk itself. Raises JobError."""
        if self._has_unsynced:
            self.file.sync()
            self._has_unsynced = False

    def put_slot(self, **changes: Any) -> None:  # noqa: ANN401 - fields of a slot
        """Say where the card is; synced, behind all groups that were added. Raises JobError."""
        self.sync()
        self._put(replace(self.slot, number=self.slot.number + 1, groups=len(self.groups), end=self.end,
                          chain=self.chain, **changes))

    def forget_behind(self, state: int) -> None:
        """Groups behind a state do not count any more, with the next slot."""
        del self.groups[state:]

    def release(self) -> None:
        """Give back the room that was reserved and not needed."""
        first = -(-self.end // s.PAGE) * s.PAGE
        self.file.release(first, self.head.file_size - 2 * s.PAGE - first)

    @property
    def end(self) -> int:
        """Where the next group begins."""
        return self.groups[-1].end if self.groups else self.head.first_group

    @property
    def chain(self) -> bytes:
        """Digest of the last group, of the head where there is none."""
        return self.groups[-1].digest if self.groups else _chain_of(s.build_head(self.head))

    def old_bytes(self, stretch: Stretch, start: int, length: int) -> bytes:
        """Old contents from a byte of the card on, of a stretch that has them."""
        if stretch.holds == Holds.ZEROS:
            return bytes(length)
        return self.file.read(stretch.body + start - stretch.start, length)

    def old_marks(self, stretch: Stretch, start: int, length: int) -> Marks:
        """Marks of the old contents of a stretch whose words were exchanged."""
        return self._marks(stretch.body, stretch, start, length)

    def new_marks(self, stretch: Stretch, start: int, length: int) -> Marks:
        """Marks of what was put there, of a stretch that has them."""
        return self._marks(stretch.body + stretch.old_bytes, stretch, start, length)

    def _marks(self, at: int, stretch: Stretch, start: int, length: int) -> Marks:
        raw = self.file.read(at + (start - stretch.start) // SECTOR * 8, 8 * sector_count(length))
        return np.frombuffer(raw, "<u8")

    def _put(self, slot: Slot) -> None:
        data = s.build_slot(slot)
        for place in _places(self.head, slot.number % 2):
            self.file.write(place, data)
        self.file.sync()
        self.slot = slot


def _opened(folder: Folder, job: str) -> StoredFile | None:
    """A journal for asking; None where there is none that may be read: it must not stand in the way of other cards."""
    try:
        return folder.open(job, JOURNAL) if folder.has(job, JOURNAL) else None
    except JobError:
        return None


def _places(head: Head, which: int) -> tuple[int, int]:
    """Where both copies of a slot stand: at both ends, so that no one damage hides the newest."""
    return s.SLOT_PLACES[which], head.file_size - (2 - which) * s.PAGE


def _newest(file: StoredFile, head: Head) -> Slot | None:
    found = (s.parse_slot(file.read(place, s.SLOT.itemsize)) for which in (0, 1) for place in _places(head, which))
    return max((slot for slot in found if slot), key=lambda slot: slot.number, default=None)


def _groups(file: StoredFile, journal: Head, slot: Slot, job: str) -> Iterator[Group]:
    """The groups that a slot counts. Raises JobError at the first one that is not as it was written."""
    at, chain = journal.first_group, _chain_of(s.build_head(journal))
    for number in range(1, slot.groups + 1):
        raw = file.read(at, s.GROUP.itemsize)
        head = np.frombuffer(raw, s.GROUP)[0] if len(raw) == s.GROUP.itemsize else None
        if head is None or head["mark"].tobytes() != s.GROUP_MARK or head["chain"].tobytes() != chain \
                or int(head["number"]) != number or at + int(head["length"]) > slot.end \
                or int(head["length"]) < s.GROUP.itemsize + s.DIGEST + int(head["stretches"]) * s.STRETCH.itemsize:
            raise _damaged(job)
        data = file.read(at, int(head["length"]))
        chain = data[-s.DIGEST:]
        if len(data) != int(head["length"]) or blake3(memoryview(data)[:-s.DIGEST]).digest() != chain:
            raise _damaged(job)
        heads = np.frombuffer(data, s.STRETCH, count=int(head["stretches"]), offset=s.GROUP.itemsize)
        group = Group(number, int(head["step"]), at, len(data), chain, tuple(_placed(at, heads)))
        yield group
        at = group.end
    if chain != slot.chain or at != slot.end:
        raise _damaged(job)


def _placed(at: int, heads: np.ndarray[Any, np.dtype[np.void]]) -> Iterator[Stretch]:
    """Stretches of a group that begins at a byte of the file."""
    body = at + s.GROUP.itemsize + heads.nbytes
    kinds, starts, lengths = (heads[f].tolist() for f in ("kind", "start", "length"))
    for number, (kind, start, length) in enumerate(zip(kinds, starts, lengths, strict=True)):
        stretch = Stretch(Holds(kind), start, length, heads["new"][number].tobytes(), body)
        yield stretch
        body += stretch.body_bytes


def _first_slot(head: Head, raw: bytes) -> Slot:
    return Slot(0, Standing.OPEN, 0, 0, 0, head.first_group, _chain_of(raw), head.first_step)


def _chain_of(head: bytes) -> bytes:
    return blake3(head).digest()


def missing(job: str) -> JobError:
    """What is said of a job whose journal is gone."""
    return JobError(f"The journal of job {job} is missing; it can be neither finished nor taken back, and nothing was "
                    "written to the card.")


def _damaged(job: str) -> JobError:
    return JobError(f"The journal of job {job} is damaged: it is not as it was written. Nothing of it is used, and "
                    "nothing was written to the card. This job can be neither undone nor finished any more; other jobs "
                    f"are not affected. Close it: `mosscrate sheet close {job}`.")
