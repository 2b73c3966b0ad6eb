"""The journal file, field by field: head, slots, groups, stretches. Little-endian; docs/formats/journal.md
has the rest.

Each structure ends in a BLAKE3 of all that stands before it; a group names the digest of the one before it. Journals
of earlier versions have shorter heads and slots; they are read as well.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import IntEnum

import numpy as np
from blake3 import blake3

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks.stretches import Stretches

MAGIC, MAGIC_2 = b"MOSSJRN3", b"MOSSJRN2"
SLOT_MARK, SLOT_MARK_2, GROUP_MARK = b"SLT3", b"SLOT", b"GRUP"
MOST_BELOW, MOST_ENDS, NAME = 8, 64, 32
DIGEST = 32

_HEAD = [
    ("magic", "V8"),
    ("job", "S32"),
    ("file_size", "<u8"),                # bytes reserved for the journal
    ("card_size", "<u8"),
    ("sector", "<u4"),                   # of the card
    ("first_step", "<u4"),               # of the sheet that this journal is of, from 0
    ("inode", "<u8"),                    # of the journal, so that a copy of it shows
    ("seen", "V32"),                     # the card's fingerprint before the first group
    ("below", "S32", MOST_BELOW)]        # jobs that this one lies on
_SEAL = [("digest", "V32")]
HEAD_2 = np.dtype([*_HEAD, *_SEAL])
HEAD = np.dtype([
    *_HEAD,
    ("free_runs", "<u8"),                # of room that may be let go: they stand in front of the first group
    ("free_digest", "V32"),              # of these rows
    *_SEAL])
_SLOT = [
    ("mark", "V4"),
    ("standing", "<u4"),
    ("number", "<u8"),                   # the highest whole one counts
    ("low", "<u4"), ("high", "<u4"),     # the card is in one of these states
    ("groups", "<u4"),                   # that belong to the job
    ("steps", "<u4"),                    # of the sheet that are finished
    ("end", "<u8"),                      # where the groups end, bytes from the start of the file
    ("chain", "V32"),                    # digest of the last group that counts, of the head where there is none
    ("ends", "<u4", MOST_ENDS),          # the states at which the last steps ended
    ("ends_count", "<u4"),
    ("is_free_unclaimed", "<u4"),        # of earlier versions: what was put into free room may have been overwritten
    ("above", "S32")]                    # the job that lies on this one
SLOT_2 = np.dtype([*_SLOT, *_SEAL])
SLOT = np.dtype([
    *_SLOT,
    ("left", "V32"),                     # the card's fingerprint once the job was done, zeros before
    *_SEAL])
FREE = np.dtype([("start", "<i8"), ("end", "<i8")])     # a run of bytes of the card
GROUP = np.dtype([
    ("mark", "V4"),
    ("number", "<u4"),                   # the state that it leads to
    ("step", "<u4"),
    ("stretches", "<u4"),
    ("length", "<u8"),                   # bytes from this mark to the end of the digest
    ("reserved", "V8"),
    ("chain", "V32")])                   # digest of the group before, of the head for the first
STRETCH = np.dtype([
    ("kind", "<u4"),
    ("reserved", "<u4"),
    ("start", "<u8"),                    # bytes from the start of the card, a multiple of 512
    ("length", "<u8"),
    ("new", "V32")])                     # digest of what was put there; zeros stand for zeros

SLOT_PLACES = (4096, 8192)               # even numbers, odd numbers; once more at the end of the file
PAGE, GRID = 4096, 512
FIRST_GROUP = 12288                      # behind the rows of free runs
SMALLEST = FIRST_GROUP + 2 * PAGE
OF_ZEROS = bytes(DIGEST)
PIECE = 1 << 20                          # the longest stretch whose old bytes are not kept


class Standing(IntEnum):
    """How a job stands with its card."""

    OPEN = 1
    BACK = 2
    DONE = 3
    UNDONE = 4
    CLOSED = 5

    @property
    def word(self) -> str:
        """For the person."""
        return {1: "in the middle", 2: "being taken back", 3: "done", 4: "taken back", 5: "closed"}[self]


class Holds(IntEnum):
    """What a stretch keeps of the old contents."""

    OLD = 1
    ZEROS = 2                            # they were zeros
    SWAP = 3                             # marks of them; the bytes are the new ones with neighbours exchanged
    LET_GO = 4                           # they belonged to nobody: neither put back nor claimed


@dataclass(frozen=True)
class Head:
    """What is known before the first change, and stays. Bytes; `below` are jobs on which this one lies.

    `free` is what was free when the job began and at the beginning of every job below, and was not written since.
    """

    job: str
    file_size: int
    card_size: int
    sector: int
    seen: bytes
    below: tuple[str, ...] = ()
    first_step: int = 0
    inode: int = 0
    free: Stretches = field(default_factory=Stretches)
    version: int = 3

    @property
    def first_group(self) -> int:
        """Where the first group stands in the file."""
        return FIRST_GROUP + -(-len(self.free) * FREE.itemsize // GRID) * GRID


@dataclass(frozen=True)
class Slot:
    """Where the card and the job are. `ends` are the states at which the last finished steps ended."""

    number: int
    standing: Standing
    low: int
    high: int
    groups: int
    end: int
    chain: bytes
    steps: int = 0
    ends: tuple[int, ...] = ()
    above: str = ""
    is_free_unclaimed: bool = False
    left: bytes = b""


def build_head(head: Head) -> bytes:
    """The first 4096 bytes of a journal."""
    dtype, magic = (HEAD, MAGIC) if head.version > 2 else (HEAD_2, MAGIC_2)
    raw, place = np.zeros((), dtype), Place("journal", dtype, 0)
    place.put(raw, magic=magic, file_size=head.file_size, card_size=head.card_size, sector=head.sector,
              first_step=head.first_step, seen=head.seen, inode=head.inode)
    if head.version > 2:
        place.put(raw, free_runs=len(head.free), free_digest=digest_of(build_free(head.free)))
    raw["job"] = _name(head.job)
    for number, below in enumerate(head.below[:MOST_BELOW]):
        raw["below"][number] = _name(below)
    return _sealed(raw).ljust(PAGE, b"\0")


def parse_head(data: bytes, read: Callable[[int, int], bytes]) -> Head | None:
    """None where it is not as it was written; `read(at, length)` gives more of the file."""
    raw, version = _whole(data, HEAD, "magic", MAGIC), 3
    if raw is None:
        raw, version = _whole(data, HEAD_2, "magic", MAGIC_2), 2
    if raw is None:
        return None
    free = Stretches()
    if version > 2:
        rows = read(FIRST_GROUP, min(int(raw["free_runs"]) * FREE.itemsize, int(raw["file_size"])))
        if digest_of(rows) != raw["free_digest"].tobytes():
            return None
        free = Stretches(np.frombuffer(rows, "<i8").reshape(-1, 2))
    below = tuple(b.decode() for b in raw["below"].tolist() if b)
    return Head(raw["job"].item().decode(), int(raw["file_size"]), int(raw["card_size"]), int(raw["sector"]),
                raw["seen"].tobytes(), below, int(raw["first_step"]), int(raw["inode"]), free, version)


def build_free(free: Stretches) -> bytes:
    """The rows of runs that stand in front of the first group."""
    return free.rows.astype("<i8").tobytes()


def build_slot(slot: Slot) -> bytes:
    """The bytes of a slot."""
    raw = np.zeros((), SLOT)
    Place("journal slot", SLOT, 0).put(
        raw, mark=SLOT_MARK, standing=int(slot.standing), number=slot.number, low=slot.low, high=slot.high,
        groups=slot.groups, steps=slot.steps, end=slot.end, chain=slot.chain, left=slot.left or OF_ZEROS)
    ends = slot.ends[-MOST_ENDS:]
    raw["ends"][:len(ends)] = ends
    raw["ends_count"] = len(ends)
    raw["above"] = _name(slot.above)
    raw["is_free_unclaimed"] = slot.is_free_unclaimed
    return _sealed(raw)


def parse_slot(data: bytes) -> Slot | None:
    """None where it is not as it was written."""
    raw = _whole(data, SLOT, "mark", SLOT_MARK)
    left = raw["left"].tobytes() if raw is not None else OF_ZEROS
    if raw is None:
        raw = _whole(data, SLOT_2, "mark", SLOT_MARK_2)
    if raw is None or int(raw["standing"]) not in list(Standing):
        return None
    ends = tuple(int(e) for e in raw["ends"][:int(raw["ends_count"])])
    return Slot(int(raw["number"]), Standing(int(raw["standing"])), int(raw["low"]), int(raw["high"]),
                int(raw["groups"]), int(raw["end"]), raw["chain"].tobytes(), int(raw["steps"]), ends,
                raw["above"].item().decode(), bool(raw["is_free_unclaimed"]), b"" if left == OF_ZEROS else left)


def digest_of(data: bytes | memoryview) -> bytes:
    """Of what was put somewhere; zeros have one of their own, which costs nothing to find again."""
    return blake3(data).digest()


def _name(job: str) -> bytes:
    name = job.encode()
    if len(name) > NAME:
        raise ValueError(f"the name of a job has {len(name)} bytes, at most {NAME} fit into a journal")
    return name


def _sealed(raw: Record) -> bytes:
    data = raw.tobytes()[:-DIGEST]
    return data + blake3(data).digest()


def _whole(data: bytes, dtype: np.dtype[np.void], field: str, mark: bytes) -> Record | None:
    if len(data) < dtype.itemsize:
        return None
    raw = np.frombuffer(data, dtype, count=1).reshape(()).copy()
    body = data[:dtype.itemsize - DIGEST]
    is_whole = raw[field].tobytes() == mark and blake3(body).digest() == data[dtype.itemsize - DIGEST:dtype.itemsize]
    return raw if is_whole else None
