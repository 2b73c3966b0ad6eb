"""Whether a file that is brought in is one that lies on the card: by its print, then whole, as far as there is time."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Mapping

from mosscrate.core.contents.comparing import are_equal
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import Brought, print_of
from mosscrate.core.fill.headers import FRONT
from mosscrate.core.fill.origins import InTree, Origin
from mosscrate.core.sizes import MIB
from mosscrate.core.volumes import Entry

AT_ONCE = 256 * MIB                      # of a card that are compared while something is planned
SMALL = 64 * 1024                        # bytes up to which a file is always compared
SEEMING, COMPARE = "seeming", "compare all of them"      # a question, and the answer for which there is time for all
SPOTS, SPOT = 16, 4096                   # places of a larger one that are compared first, and bytes of each


class OnTheCard:
    """The files of the card that is filled.

    Args:
        read_at: (entry, at, count) → bytes.
        read_file: bytes of an entry in pieces.
        at_once: bytes that may be compared before a job runs; what is beyond that is compared by the job.
    """

    def __init__(self, read_at: Callable[[Entry, int, int], bytes], read_file: Callable[[Entry], Iterable[bytes]],
                 at_once: int = AT_ONCE) -> None:
        self._read_at, self._read_file, self._left = read_at, read_file, at_once
        self._prints: dict[str, bytes] = {}

    def take_time(self, answers: Mapping[str, str]) -> None:
        """All there is for comparing, where a person has said so."""
        if answers.get(SEEMING) == COMPARE:
            self._left = sys.maxsize

    def origin(self, entry: Entry) -> Origin:
        """Where the bytes of one of its files are."""
        return InTree(self, entry)

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """Bytes of one of its files. Raises FormatError, MediumError."""
        return self._read_at(entry, at, count)

    def read_file(self, entry: Entry) -> Iterable[bytes]:
        """All of one in pieces. Raises FormatError, MediumError."""
        return self._read_file(entry)

    def print(self, entry: Entry) -> bytes:
        """See Brought.print. Raises FormatError, MediumError."""
        if entry.path not in self._prints:
            self._prints[entry.path] = print_of(entry.size, self._read_at(entry, 0, min(FRONT, entry.size)))
        return self._prints[entry.path]

    def is_equal(self, origin: Origin, entry: Entry) -> bool | None:
        """Whether two files of one size hold the same; None where that is left to the job. Raises MossError."""
        if not self._has_time_for(entry.size):
            with origin.opened() as read:
                is_alike = print_of(entry.size, read(0, min(FRONT, entry.size))) == self.print(entry)
            return None if is_alike else False
        return are_equal(origin.read(), self._read_file(entry))

    def are_same(self, file: Brought, other: Brought) -> bool | None:
        """Whether two files that are brought in hold the same; None where there is time for some places only.

        What cannot be compared comes twice rather than not at all.
        """
        if file.size != other.size or (file.print and other.print and file.print != other.print):
            return False
        try:
            has_spots = file.origin.reads_anywhere and other.origin.reads_anywhere
            if file.size > SMALL and has_spots and not _are_alike(file, other):
                return False
            if self._has_time_for(file.size):
                return are_equal(file.origin.read(), other.origin.read())
        except MossError:
            return False
        return None if has_spots else False

    def _has_time_for(self, size: int) -> bool:
        if size <= SMALL:
            return True
        has_time = size <= self._left
        self._left -= size if has_time else 0
        return has_time


def _are_alike(file: Brought, other: Brought) -> bool:
    """Whether two files of one size are the same in some places. Raises MossError."""
    with file.origin.opened() as one, other.origin.opened() as two:
        return all(one(at, SPOT) == two(at, SPOT) for at in (
            (file.size - SPOT) * number // (SPOTS - 1) for number in range(SPOTS)))
