"""Reading a device's files in the order in which they will be asked for, many of them under way at once."""

from __future__ import annotations

import posixpath
from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import Future

from mosscrate.core.devices.connection import Device
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.volumes import Entry, Volume

PIECE = 1 << 20                          # bytes that are asked for at once, as chunks are cut
AHEAD, AHEAD_PIECES = 6 << 20, 48        # bytes and pieces that are asked for before they are wanted
HELD = 8                                 # pieces that stay once they were read


class Fetching:
    """A reader of files below a folder of a device; see laid_out.Reader."""

    def __init__(self, device: Device, folder: str, order: Sequence[Entry]) -> None:
        self._device, self._folder = device, folder
        self._pieces = [(entry, at) for entry in order for at in range(0, entry.size, PIECE)]
        self._number = {(entry.path, at): number for number, (entry, at) in enumerate(self._pieces)}
        self._under_way: OrderedDict[int, Future[bytes]] = OrderedDict()
        self._read: OrderedDict[int, bytes] = OrderedDict()
        self._failed: dict[int, MediumError] = {}
        self.bytes = 0                                    # that came from the device

    @property
    def failed(self) -> set[str]:
        """Paths of files that could not be read to their end."""
        return {self._pieces[number][0].path for number in self._failed}

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """See laid_out.Reader. Raises MediumError, and Gone where the device is."""
        found, end = bytearray(), min(at + count, entry.size)
        while at + len(found) < end:
            place = at + len(found)
            first = place // PIECE * PIECE
            piece = self._piece(self._number[entry.path, first])
            found += piece[place - first:end - first]
        return bytes(found)

    def _piece(self, number: int) -> bytes:
        if number in self._failed:
            raise self._failed[number]
        if number not in self._read:
            self._ask_ahead(number)
            try:
                data = self._whole(number, self._device.answer_to(self._under_way.pop(number)))
            except MediumError as error:
                self._failed[number] = error
                raise
            self.bytes += len(data)
            self._read[number] = data
            while len(self._read) > HELD:
                self._read.popitem(last=False)
        return self._read[number]

    def _whole(self, number: int, data: bytes) -> bytes:
        entry, at = self._pieces[number]
        if len(data) < min(PIECE, entry.size - at):
            raise MediumError(f"“{entry.path}” became shorter while it was read.")
        return data

    def _ask_ahead(self, number: int) -> None:
        """See to it that a piece and some behind it are under way."""
        bytes_ = 0
        for ahead in range(number, min(number + AHEAD_PIECES, len(self._pieces))):
            entry, at = self._pieces[ahead]
            bytes_ += min(PIECE, entry.size - at)
            if ahead not in self._under_way and ahead not in self._read and ahead not in self._failed:
                path = posixpath.join(self._folder, entry.path)
                self._under_way[ahead] = self._device.fetch(path, at, min(PIECE, entry.size - at))
            if bytes_ > AHEAD:
                break
        for skipped in [other for other in self._under_way if not number <= other < number + AHEAD_PIECES]:
            self._under_way.pop(skipped).cancel()


class Unchanged:
    """A reader that takes from an earlier backup what is there as it was, and asks for the rest."""

    def __init__(self, earlier: Volume, kept: dict[str, Entry], rest: Fetching) -> None:
        self._earlier, self._kept, self._rest = earlier, kept, rest

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """See laid_out.Reader. Raises MediumError."""
        own = self._kept.get(entry.path)
        if own is not None:
            try:
                return self._earlier.read_at(own, at, count)
            except MossError:
                pass                                          # what is damaged there is fetched again
        return self._rest.read_at(entry, at, count)
