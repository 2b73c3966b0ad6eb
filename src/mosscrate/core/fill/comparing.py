"""Whether a file that is brought in is one that lies on the card: by its print, then whole, as far as there is time."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from mosscrate.core.contents.comparing import are_equal
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import Brought, print_of
from mosscrate.core.fill.headers import FRONT
from mosscrate.core.fill.origins import Origin
from mosscrate.core.sizes import MIB
from mosscrate.core.volumes import Entry

AT_ONCE = 256 * MIB                      # of a card that are compared while something is planned
SMALL = 64 * 1024                        # bytes up to which a file is always compared


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

    def print(self, entry: Entry) -> bytes:
        """See Brought.print. Raises FormatError, MediumError."""
        if entry.path not in self._prints:
            self._prints[entry.path] = print_of(entry.size, self._read_at(entry, 0, min(FRONT, entry.size)))
        return self._prints[entry.path]

    def is_equal(self, origin: Origin, entry: Entry) -> bool | None:
        """Whether two files of one size hold the same; None where that is left to the job. Raises MossError."""
        if entry.size > SMALL:
            if self._left < entry.size:
                with origin.opened() as read:
                    is_alike = print_of(entry.size, read(0, min(FRONT, entry.size))) == self.print(entry)
                return None if is_alike else False
            self._left -= entry.size
        return are_equal(origin.read(), self._read_file(entry))


def are_same(file: Brought, other: Brought) -> bool:
    """Whether two files that are brought in hold the same; read where they are small, else by their prints."""
    if file.size != other.size:
        return False
    if file.size > SMALL and file.print and other.print:
        return file.print == other.print
    try:
        return are_equal(file.origin.read(), other.origin.read())
    except MossError:
        return False
