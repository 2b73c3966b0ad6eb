"""The journal file, field by field: head, slots, groups, stretches. Little-endian; docs/formats/journal.md
has the rest.

Each structure ends in a BLAKE3 of all that stands before it; a group names the digest of the one before it.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from blake3 import blake3

from mosscrate.core.binary import Place, Record

MAGIC = b"MOSSJRN2"
SLOT_MARK, GROUP_MARK = b"SLOT", b"GRUP"
MOST_BELOW, MOST_ENDS, NAME = 8, 64, 32
DIGEST = 32

HEAD = np.dtype([
    ("magic", "V8"),
    ("job", "S32"),
    ("file_size", "<u8"),                # bytes reserved for the journal
    ("card_size", "<u8"),
    ("sector", "<u4"),                   # of the card
    ("first_step", "<u4"),               # of the sheet that this journal is of, from 0
    ("inode", "<u8"),                    # of the journal, so that a copy of it shows
    ("seen", "V32"),                     # the card's fingerprint before the first group
    ("below", "S32", MOST_BELOW),        # jobs that this one lies on
    ("digest", "V32")])
SLOT = np.dtype([
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
    ("is_free_unclaimed", "<u4"),          # what was put into free room may have been overwritten by a step taken back
    ("above", "S32"),                    # the job that lies on this one
    ("digest", "V32")])
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
PAGE = 4096
FIRST_GROUP = 12288
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
    """What is known before the first change, and stays. Bytes; `below` are jobs on which this one lies."""

    job: str
    file_size: int
    card_size: int
    sector: int
    seen: bytes
    below: tuple[str, ...] = ()
    first_step: int = 0
    inode: int = 0


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


def build_head(head: Head) -> bytes:
    """The first 4096 bytes of a journal."""
    raw = np.zeros((), HEAD)
    Place("journal", HEAD, 0).put(raw, magic=MAGIC, file_size=head.file_size, card_size=head.card_size,
                                  sector=head.sector, first_step=head.first_step, seen=head.seen, inode=head.inode)
    raw["job"] = _name(head.job)
    for number, below in enumerate(head.below[:MOST_BELOW]):
        raw["below"][number] = _name(below)
    return _sealed(raw).ljust(PAGE, b"\0")


def parse_head(data: bytes) -> Head | None:
    """None where it is not as it was written."""
    raw = _whole(data, HEAD, "magic", MAGIC)
    if raw is None:
        return None
    below = tuple(b.decode() for b in raw["below"].tolist() if b)
    return Head(raw["job"].item().decode(), int(raw["file_size"]), int(raw["card_size"]), int(raw["sector"]),
                raw["seen"].tobytes(), below, int(raw["first_step"]), int(raw["inode"]))


def build_slot(slot: Slot) -> bytes:
    """The bytes of a slot."""
    raw = np.zeros((), SLOT)
    Place("journal slot", SLOT, 0).put(
        raw, mark=SLOT_MARK, standing=int(slot.standing), number=slot.number, low=slot.low, high=slot.high,
        groups=slot.groups, steps=slot.steps, end=slot.end, chain=slot.chain)
    ends = slot.ends[-MOST_ENDS:]
    raw["ends"][:len(ends)] = ends
    raw["ends_count"] = len(ends)
    raw["above"] = _name(slot.above)
    raw["is_free_unclaimed"] = slot.is_free_unclaimed
    return _sealed(raw)


def parse_slot(data: bytes) -> Slot | None:
    """None where it is not as it was written."""
    raw = _whole(data, SLOT, "mark", SLOT_MARK)
    if raw is None or int(raw["standing"]) not in list(Standing):
        return None
    ends = tuple(int(e) for e in raw["ends"][:int(raw["ends_count"])])
    return Slot(int(raw["number"]), Standing(int(raw["standing"])), int(raw["low"]), int(raw["high"]),
                int(raw["groups"]), int(raw["end"]), raw["chain"].tobytes(), int(raw["steps"]), ends,
                raw["above"].item().decode(), bool(raw["is_free_unclaimed"]))


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
