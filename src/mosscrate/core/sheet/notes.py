"""What a job notes of a card that it writes over."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

BLANK = "blank"                         # the digest of a body that is nothing but zeros


@dataclass(frozen=True)
class Body:
    """What stands on a card that only lacks its head: digests of all of it and of the head, and the bytes."""

    digest: str
    head: str
    length: int


@dataclass(frozen=True)
class Notes:
    """What a job wants of a whole write.

    Attributes:
        stamp: stands in the first sector until the rest is written.
        before_head: is told when only the head is missing.
        expected: BLAKE3 that the source is recorded with; "" where there is no record.
        source_name: for the sentence, where it is another.
    """

    stamp: bytes = bytes(512)
    before_head: Callable[[Body], None] = lambda body: None
    expected: str = ""
    source_name: str = ""
