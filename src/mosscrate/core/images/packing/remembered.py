"""What is remembered of a packed disk: pieces that were looked at, its size, places to unpack from, its checksums.

Pieces are kept in blocks of 4 KiB. Those that somebody asked for while looking are saved; those that merely passed by
and look like tables of a file system are held in memory, since they are likely to be asked for next. Stretches of zeros
are known as such.
"""

from __future__ import annotations

import threading
import zlib
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.durable import write_whole

PIECE = 4096
MOST_PIECES = 16_384                    # 64 MiB asked for, and as many that passed by
HEAD = 64 << 20                         # unpacked bytes of the beginning that a glance holds in memory
MOST_ON_WAY, MOST_PIECES_ON_WAY = 8 << 20, 256        # bytes of archives' lists, and in how many pieces
FORMAT = 1
_ZEROS = bytes(PIECE)
Recogniser = Callable[[NDArray[np.uint8]], NDArray[np.bool_]]     # (n, 4096) bytes -> which may be tables


class Note(msgspec.Struct, frozen=True):
    """What is saved.

    Attributes:
        size: bytes unpacked, 0 where it is not known.
        digest: BLAKE3 of all of it; "" where it was not read through.
        checked: on published checksums that were compared, such as "SHA-256 as SHA256SUMS says".
        fault: why it is damaged; "" where it is not, or nobody knows.
        places: one blob for each stream, from the outermost on.
        numbers, pieces: of what is remembered, its bytes packed together by zlib.
        zeros: (first, last + 1) of runs of pieces that are zeros.
        way: see Way.
        sizes: of the streams, from the outermost on, 0 where it is not known.
    """

    format: int
    size: int
    digest: str
    checked: tuple[str, ...]
    fault: str
    places: tuple[bytes, ...]
    numbers: tuple[int, ...]
    zeros: tuple[tuple[int, int], ...]
    pieces: bytes
    way: tuple[tuple[int, int, bytes], ...] = ()
    sizes: tuple[int, ...] = ()


_NOTES = msgspec.msgpack.Decoder(Note)


class Runs:
    """Runs of numbers, in order, none of which touches another."""

    def __init__(self, runs: tuple[tuple[int, int], ...] = ()) -> None:
        self._firsts, self._lasts = [first for first, _ in runs], [last for _, last in runs]

    def holds(self, number: int) -> bool:
        """Whether a number lies in a run."""
        at = bisect_right(self._firsts, number) - 1
        return at >= 0 and number < self._lasts[at]

    def runs(self) -> list[tuple[int, int]]:
        """(first, last + 1) of each, in order."""
        return list(zip(self._firsts, self._lasts, strict=True))

    def add(self, start: int, are_in: NDArray[np.bool_]) -> None:
        """Those of the numbers from `start` on that are in."""
        for first, last in runs_of(are_in).tolist():
            self._add(start + first, start + last)

    def _add(self, first: int, last: int) -> None:
        at = bisect_right(self._firsts, first)
        if at and self._lasts[at - 1] >= first:
            at -= 1
            first = self._firsts[at]
        end = at
        while end < len(self._firsts) and self._firsts[end] <= last:
            last = max(last, self._lasts[end])
            end += 1
        self._firsts[at:end], self._lasts[at:end] = [first], [last]


class Way:
    """What was read of the streams that lie around a disk, to find it: lists of archives at their far ends.

    Attributes:
        pieces: by stream, from the outermost on, and byte.
        sizes: of streams that do not tell theirs, by the same number.
    """

    def __init__(self) -> None:
        self.pieces: dict[tuple[int, int], bytes] = {}
        self.sizes: dict[int, int] = {}

    @property
    def as_noted(self) -> tuple[tuple[int, int, bytes], ...]:
        """Stream, byte and bytes of each piece, as of one moment: others may note more meanwhile."""
        return tuple((stream, at, piece) for (stream, at), piece in tuple(self.pieces.items()))

    def fill(self, stream: int, offset: int, buffer: memoryview) -> bool:
        """Fill the buffer where it was read before; whether it was."""
        for number, start, piece in self.as_noted:
            if number == stream and start <= offset and offset + len(buffer) <= start + len(piece):
                buffer[:] = piece[offset - start:offset - start + len(buffer)]
                return True
        return False

    def note(self, stream: int, offset: int, data: memoryview) -> None:
        """Something was read."""
        held = self.as_noted
        if len(held) < MOST_PIECES_ON_WAY and sum(len(piece) for *_, piece in held) + len(data) <= MOST_ON_WAY:
            self.pieces[stream, offset] = bytes(data)


class Remembered:
    """One packed disk, as far as it is known; shared by all who have it open.

    Attributes:
        path: where it is saved; None for nowhere.
        size, digest, checked, fault, places: as in Note.
        way: to it.
        nothing: why there is no disk at all; "" where there is one, or nobody looked. It is not saved.
    """

    def __init__(self, path: Path | None = None, recogniser: Recogniser | None = None) -> None:
        self.path, self._recogniser = path, recogniser
        self.size, self.digest = 0, ""
        self.checked: tuple[str, ...] = ()
        self.fault = ""
        self.places: tuple[bytes, ...] = ()
        self.way, self.nothing = Way(), ""
        self.lookers = 0                  # while there are any, what is read is remembered
        self._asked: dict[int, bytes] = {}
        self._passed: OrderedDict[int, bytes] = OrderedDict()
        self._zeros = Runs()
        self._lock = threading.Lock()
        self._changed = False
        self._recall()

    @property
    def is_read_through(self) -> bool:
        """Whether all of it was read once."""
        return bool(self.digest)

    @property
    def is_settled(self) -> bool:
        """Whether reading it through would tell no more."""
        return bool(self.digest or self.fault or self.nothing)

    @property
    def asked_bytes(self) -> int:
        """Bytes that are remembered."""
        return len(self._asked) * PIECE

    def read_into(self, offset: int, buffer: memoryview) -> bool:
        """Fill the buffer where all of it is known; whether it was."""
        first, last = offset // PIECE, -(-(offset + len(buffer)) // PIECE)
        if last - first > MOST_PIECES:
            return False
        pieces = []
        for number in range(first, last):
            piece = self._asked.get(number)
            if piece is None:
                piece = _ZEROS if self._zeros.holds(number) else self._passed.get(number)
                if piece is None:
                    return False
                self._ask(number, piece)
            pieces.append(piece)
        whole = pieces[0] if len(pieces) == 1 else b"".join(pieces)
        start = offset - first * PIECE
        buffer[:] = whole[start:start + len(buffer)]
        return True

    def note_asked(self, offset: int, data: memoryview) -> None:
        """Remember whole pieces that were read because somebody looked at them."""
        first, last = -(-offset // PIECE), (offset + len(data)) // PIECE
        for number in range(first, last):
            at = number * PIECE - offset
            self._ask(number, bytes(data[at:at + PIECE]))

    def see(self, offset: int, data: memoryview) -> None:
        """Bytes that pass by: the beginning is held, and of the rest what may be tables."""
        first, last = -(-offset // PIECE), (offset + len(data)) // PIECE
        if first >= last:
            return
        at = first * PIECE - offset
        pieces = np.frombuffer(data[at:at + (last - first) * PIECE], np.uint8).reshape(-1, PIECE)
        filled = np.bitwise_or.reduce(pieces.view(np.uint64), axis=1) != 0
        wanted = np.zeros(len(pieces), np.bool_)
        wanted[:max(0, HEAD // PIECE - first)] = True
        if self._recogniser is not None and not wanted.all():
            wanted |= self._recogniser(pieces)
        with self._lock:
            self._zeros.add(first, ~filled)
            for number in np.flatnonzero(wanted & filled).tolist():
                self._passed[first + number] = pieces[number].tobytes()
            while len(self._passed) > 2 * MOST_PIECES:
                self._passed.popitem(last=False)

    def zero_runs(self) -> list[tuple[int, int]]:
        """(start, end) in bytes of what is known to be zeros, in order."""
        return [(first * PIECE, last * PIECE) for first, last in self._zeros.runs()]

    def save(self) -> None:
        """Write it down where it has a place; what cannot be written is only forgotten."""
        if self.path is None or not self._changed:
            return
        with self._lock:
            asked, zeros = dict(self._asked), tuple(self._zeros.runs())
        note = Note(FORMAT, self.size, self.digest, self.checked, self.fault, self.places, tuple(asked), zeros,
                    zlib.compress(b"".join(asked.values()), 1),
                    self.way.as_noted,
                    tuple(self.way.sizes.get(number, 0) for number in range(max(self.way.sizes, default=-1) + 1)))
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(self.path, msgspec.msgpack.encode(note))
        except OSError:
            return
        self._changed = False

    def settle(self, size: int, digest: str, checked: tuple[str, ...], fault: str = "") -> None:
        """It was read through, or as far as a fault."""
        self.size, self.digest, self.checked, self.fault = size, digest, checked, fault
        self._changed = True

    def _ask(self, number: int, piece: bytes) -> None:
        if self.lookers and number not in self._asked and len(self._asked) < MOST_PIECES:
            if piece is not _ZEROS:
                self._asked[number] = piece
            self._changed = True

    def _recall(self) -> None:
        if self.path is None or not self.path.is_file():
            return
        try:
            note = _NOTES.decode(self.path.read_bytes())
            unpacked = zlib.decompressobj().decompress(note.pieces, MOST_PIECES * PIECE)
        except (OSError, ValueError, zlib.error):
            return
        if note.format != FORMAT or len(unpacked) != len(note.numbers) * PIECE:
            return
        self.size, self.digest, self.checked, self.places = note.size, note.digest, note.checked, note.places
        self.fault = note.fault
        self._asked = {number: unpacked[at * PIECE:(at + 1) * PIECE] for at, number in enumerate(note.numbers)}
        self._zeros = Runs(note.zeros)
        self.way.pieces = {(stream, at): piece for stream, at, piece in note.way}
        self.way.sizes = {number: size for number, size in enumerate(note.sizes) if size}
