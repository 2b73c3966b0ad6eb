"""What can be wrong with a card, as its description says it. Bytes from its start, seconds of its own clock."""

from __future__ import annotations

from typing import Literal

import msgspec


class _Part(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One line of a description."""


class Fold(_Part, frozen=True):
    """What lies above `real` comes to lie between `start` and `real`; reads there too, unless `reads` is false."""

    real: int
    start: int = 0
    reads: bool = True


class Drop(_Part, frozen=True):
    """What is written above `real` is lost; reads there give zeros, ones, noise, what was there, or fold."""

    real: int
    reads: Literal["zeros", "ones", "random", "old", "fold"] = "zeros"


class AddressLine(_Part, frozen=True):
    """One bit of every byte address is stuck."""

    bit: int
    stuck: Literal[0, 1] = 0


class Repeat(_Part, frozen=True):
    """Everything above `real` is one and the same block of 4 KiB, the last one that is real."""

    real: int


class FalseMiddle(_Part, frozen=True):
    """A stretch that holds nothing; with `by` it is the room so many bytes before it."""

    start: int
    end: int
    by: int = 0


class Cache(_Part, frozen=True):
    """Blocks of 4 KiB that the card remembers by their addresses before they go where these lead.

    kind: "last-used" forgets the one longest unused, "slot" has a place for each remainder, "volatile" is the first one
    and is lost when the card is pulled.
    """

    kind: Literal["last-used", "slot", "volatile"] = "last-used"
    blocks: int = 256
    counts_reads: bool = False


class Bad(_Part, frozen=True):
    """A bad stretch.

    reading, writing: end in an error. silent: what is written is lost without one.
    seconds: that a failing command takes. comes_back: the chance that a failing read succeeds.
    after: seconds until it goes bad.
    """

    start: int
    length: int
    reading: bool = True
    writing: bool = False
    silent: bool = False
    seconds: float = 0.0
    comes_back: float = 0.0
    after: float = 0.0


class Slow(_Part, frozen=True):
    """A stretch that takes so many times as long."""

    start: int
    length: int
    factor: float


class Stall(_Part, frozen=True):
    """Nothing happens for some seconds, once so many bytes went over."""

    after: int
    seconds: float


class Speed(_Part, frozen=True):
    """Bytes a second, and seconds that each command takes besides. Without one the card's clock stands still."""

    reading: float
    writing: float
    command: float = 0.0004


class Faults(_Part, frozen=True):
    """Everything that is wrong with a card.

    Attributes:
        pulled_after_writes, pulled_after: commands and bytes written after which it is pulled out.
        read_only_after: bytes written after which nothing more is taken.
        dies_after: bytes moved after which it is dead.
        dies_at: second at which it is dead.
        worsens: chance that a failing read spoils the 4 KiB behind it too.
        seed: of everything that is left to chance.
    """

    fold: Fold | None = None
    drop: Drop | None = None
    address_line: AddressLine | None = None
    repeat: Repeat | None = None
    false_middle: FalseMiddle | None = None
    cache: Cache | None = None
    bad: tuple[Bad, ...] = ()
    slow: tuple[Slow, ...] = ()
    stalls: tuple[Stall, ...] = ()
    speed: Speed | None = None
    pulled_after_writes: int | None = None
    pulled_after: int | None = None
    read_only_after: int | None = None
    dies_after: int | None = None
    dies_at: float | None = None
    worsens: float = 0.0
    seed: int = 1
