"""A structure that stands on a medium as its format declares it: for whoever shows it field by field."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np

Words = Callable[[bytes], str]
MOST_ENTRIES = 64                      # of a chain or table that are shown


class Verdict(NamedTuple):
    """What a checksum or a signature says."""

    sentence: str
    is_wrong: bool = False


SUMS = Verdict("its longs sum to zero")
SUMS_NOT = Verdict("its checksum is wrong", is_wrong=True)


@dataclass(frozen=True)
class Declared:
    """One structure.

    Attributes:
        title: what it is.
        dtype: its fields.
        at: byte on the medium or in the volume that it belongs to.
        words: {field: what its bytes mean} where a number says too little.
        verdict: what its checksum or signature says of its first 512 bytes; None where it has none.
    """

    title: str
    dtype: np.dtype[Any]
    at: int
    words: Mapping[str, Words] = field(default_factory=dict)
    verdict: Callable[[bytes], Verdict] | None = None


def as_hex(raw: bytes) -> str:
    """0x and the digits as they stand."""
    return f"0x{raw.hex()}"


def backwards(raw: bytes) -> str:
    """A little-endian number as people write a serial."""
    return raw[::-1].hex().upper()
