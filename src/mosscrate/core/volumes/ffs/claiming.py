"""Which blocks of an OFS or FFS volume its files and folders claim, followed from the root."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.fields import Fields
from mosscrate.core.volumes.ffs.structures import Longs


class Followed(Protocol):
    """What of a volume is followed."""

    @property
    def root(self) -> int:
        """Its block."""

    @property
    def total(self) -> int:
        """Blocks."""

    @property
    def block(self) -> int:
        """Bytes of one."""

    @property
    def is_cached(self) -> bool:
        """Whether folders have caches."""

    @property
    def fields(self) -> Fields:
        """Where names stand."""

    def longs(self, number: int) -> Longs:
        """A block."""

    def header(self, number: int) -> Longs:
        """A block that is one."""

    def members(self, folder: Longs) -> Iterator[tuple[int, Longs]]:
        """What is in a folder."""

    def bitmap_pages(self) -> list[int]:
        """Blocks of the bitmap."""

    def bitmap_extensions(self) -> list[int]:
        """Blocks that list them."""

    def comment_of(self, header: Longs) -> str:
        """The comment, wherever it stands."""

    def data_blocks(self, number: int) -> tuple[NDArray[np.int64], list[int]]:
        """Blocks of a file, and those that list them."""


NEXT = 4                               # of a cache block, in longs from its start
Look: TypeAlias = Callable[[int, Longs, int, Longs], Iterator[Finding]]     # folder and its header, member and its


def chain_of(volume: Followed, folder: Longs) -> list[int]:
    """The cache blocks of a folder in their order. Raises FormatError."""
    number, found = int(folder[s.EXTENSION]), list[int]()
    while number:
        longs = volume.longs(number)
        if number in found or longs[s.TYPE] != s.T_CACHE or s.sum_of(longs):
            raise FormatError("directory cache", "block", number * volume.block, number,
                              "a sound cache block that was not there before")
        found.append(number)
        number = int(longs[NEXT])
    return found


def claimed_blocks(volume: Followed, look: Look | None = None) -> tuple[NDArray[np.int32], list[Finding]]:
    """How often each block is claimed, shape (total,), and what could not be followed on the way.

    What cannot be followed ends its own chain and no other. `look` is asked about every member too.
    """
    claims = np.zeros(volume.total, np.int32)
    claims[:s.RESERVED] = 1
    claims[volume.root] += 1
    found: list[Finding] = []
    try:
        for page in (*volume.bitmap_pages(), *volume.bitmap_extensions()):
            claims[page] += 1
    except (FormatError, IndexError) as error:
        found.append(Finding(Severity.PROBLEM, f"The bitmap cannot be found: {error}"))
    queue, seen = [volume.root], {volume.root}
    for folder in queue:
        try:
            header = volume.header(folder)
            if volume.is_cached:
                claims[chain_of(volume, header)] += 1
            for number, longs in volume.members(header):
                claims[number] += 1
                if s.signed(int(longs[s.SEC_TYPE])) == s.ST_FOLDER and number not in seen:
                    seen.add(number)
                    queue.append(number)
                found += _claim(volume, number, longs, claims)
                found += look(folder, header, number, longs) if look else ()
        except (FormatError, MediumError) as error:
            found.append(Finding(Severity.PROBLEM, f"Block {folder} cannot be followed: {error}"))
    return claims, found


def _claim(volume: Followed, number: int, longs: Longs, claims: NDArray[np.int32]) -> Iterator[Finding]:
    """The blocks of one member beside its header."""
    try:
        if comment := volume.fields.comment_block(longs):
            volume.comment_of(longs)                       # raises where it is none
            claims[comment] += 1
        if s.signed(int(longs[s.SEC_TYPE])) == s.ST_FILE:
            data, extensions = volume.data_blocks(number)
            np.add.at(claims, data, 1)
            claims[extensions] += 1
    except (FormatError, MediumError) as error:
        name = volume.fields.name(longs)
        yield Finding(Severity.PROBLEM, f"“{name}” cannot be followed to its end: {error}", name)
