"""A packed stream as blocks: read in order, begun again from the nearest place where that can be done."""

from __future__ import annotations

import io
import logging
import threading
import time
import zlib
from bisect import bisect_right
from collections.abc import Callable
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import BrokenOff, MediumError, MossError, NotReadYet
from mosscrate.core.images.packing.parts import Metered
from mosscrate.core.sizes import binary

STEP = 1 << 20                          # bytes unpacked at once on the way to a place
AT_ONCE = 4 << 20                       # at most where they are wanted: threads take turns less often
RECENT = 256 << 10                      # unpacked bytes that are still at hand
LARGEST = 1 << 46                       # bytes of a disk that is believed: 64 TiB
_log = logging.getLogger(__name__)
DAMAGE = (Exception,)                   # what a library raises for bytes that it cannot unpack: each has its own


class Unpacking(Protocol):
    """What gives unpacked bytes in order."""

    def readinto(self, buffer: memoryview, /) -> int | None:
        """Fill a part of the buffer; 0 at the end. Raises one of DAMAGE, MediumError."""


class Packed:
    """A packed stream in a file; what a format does not override it has no need of.

    Attributes:
        kind: the format, as people write it.
        file: the packed bytes.
        size: bytes that it unpacks to; None where nobody knows before it is read.
        starts: unpacked bytes at which unpacking can begin, besides 0, as far as that is known; in order.
    """

    kind = ""

    def __init__(self, file: Blocks, size: int | None = None) -> None:
        self.file, self.size = file, size
        self.starts: list[int] = []

    @property
    def places(self) -> int:
        """How many places to begin from there are besides the first byte."""
        return len(self.starts)

    def nearest(self, offset: int) -> int:
        """The last of them that does not lie behind an unpacked byte; 0 for the beginning."""
        number = bisect_right(self.starts, offset)
        return self.starts[number - 1] if number else 0

    def begin(self, place: int) -> Unpacking:
        """What unpacks from a place on. Raises DAMAGE."""
        raise NotImplementedError

    def begin_noting(self) -> Unpacking:
        """The same from the first byte; places are noted on the way, where the format needs that."""
        return self.begin(0)

    def note(self) -> bytes:
        """What was noted, for `recall`; b"" for nothing."""
        return b""

    def recall(self, noted: bytes) -> None:
        """Take what another reader of the same file has noted. Raises DAMAGE."""

    def supposed(self, claimed: int) -> int:
        """A size that nobody knows, from what the disk says of itself."""
        return claimed


GLANCE_S = 1.5                           # a person waits for it


class Reach:
    """How far a glance into a packed file may go, in seconds and in bytes of the file; a job has none."""

    def __init__(self, seconds: float | None = None, most: int = 64 << 20) -> None:
        self._until, self._most = time.monotonic() + (GLANCE_S if seconds is None else seconds), most
        self.meter: Metered | None = None
        self._begun = 0

    @classmethod
    def endless(cls) -> Reach:
        """As far as is asked for."""
        return cls(float("inf"), LARGEST)

    def measure(self, meter: Metered) -> None:
        """Count what is read from now on."""
        self.meter, self._begun = meter, meter.count

    def must_do(self, name: str, offset: int) -> None:
        """Raises NotReadYet where it is used up."""
        read = self.meter.count - self._begun if self.meter else 0
        if read > self._most or time.monotonic() > self._until:
            raise NotReadYet(f"{name} has not been read as far as byte {offset} yet. Read it through.")


class Stream(Blocks):
    """What a packed stream unpacks to.

    Attributes:
        file: the packed bytes.
        packed: how they are unpacked.
        is_size_known: whether `size` is more than a supposition; if not, `least` is what there has to be.
        reach: how far it may be read; None as far as is asked for.
        at: how far it is unpacked now, in bytes.
        skips: whether places are used to get ahead; what is skipped is compared with no checksum.
        is_gapless: whether all up to there was unpacked in one go.
        onlooker: is shown every stretch that is unpacked, from where and its bytes.
        known: fills a buffer from what was read on the way to a disk before, if it can.
        noting: is told what is read on that way.
    """

    def __init__(self, file: Blocks, packed: Packed, name: str) -> None:
        if packed.size is not None and packed.size > LARGEST:
            raise MediumError(f"{name} says that it unpacks to {binary(packed.size)}. That is no disk; it is not "
                              "opened.")
        super().__init__(packed.size or 0, name=name)
        self.file, self.packed = file, packed
        self.is_size_known = packed.size is not None
        self.least = self.size
        self.reach: Reach | None = None
        self.onlooker: Callable[[int, memoryview], None] | None = None
        self.known: Callable[[int, memoryview], bool] = lambda _offset, _buffer: False
        self.noting: Callable[[int, memoryview], None] | None = None
        self.at = 0
        self.skips, self.is_gapless = True, True
        self._unpacking: Unpacking | None = None
        self._recent = b""
        self._scratch = memoryview(bytearray(STEP))
        self._lock = threading.Lock()

    def suppose(self, size: int, least: int) -> None:
        """Take a size for granted that nobody knows; where it ends before, but not before `least`, zeros follow."""
        if not self.is_size_known:
            self.size, self.least = size, least

    def settle(self, size: int) -> None:
        """Note the size that was found."""
        self.size, self.is_size_known, self.least = size, True, size

    def read_some(self, offset: int, buffer: memoryview) -> int:
        """See Blocks, wherever it ends."""
        with self._lock:
            self._go_to(offset)
            count = self._fill(buffer) if self.at == offset else 0
            self._keep(buffer[:count])
            return count

    def first(self, most: int) -> bytes:
        """Its first bytes, fewer where it ends before. Raises MediumError."""
        buffer, done = memoryview(bytearray(most)), 0
        while done < most and (count := self.read_some(done, buffer[done:])):
            done += count
        return bytes(buffer[:done])

    def prove(self) -> None:
        """Unpack what is left, and all of it again where something was skipped. Raises MediumError, NotReadYet."""
        with self._lock:
            if not self.is_gapless and not self.skips:
                self._begin(0)
        self.read_to_end()

    @property
    def last(self) -> bytes:
        """What was unpacked last, the bytes in front of `at`; at its end the end of it."""
        return self._recent

    def read_to_end(self) -> None:
        """Unpack what is left, so that its end is known and its checksum compared. Raises MediumError, NotReadYet."""
        while len(self.read_on(STEP)):
            pass

    def read_on(self, most: int) -> memoryview:
        """The next bytes in order, none at the end; valid until the next call. Raises MediumError, NotReadYet."""
        with self._lock:
            if self._unpacking is None:
                self._begin(0)
            data = self._scratch[:self._step(self._scratch[:min(most, STEP)])]
            self._keep(data)
            return data

    def begin_again(self) -> None:
        """Let `read_on` begin at the first byte, and note places on the way. Raises MediumError."""
        with self._lock:
            try:
                self.at, self._unpacking, self._recent = 0, self.packed.begin_noting(), b""
                self.is_gapless = True
            except DAMAGE as error:
                raise self._damaged(error) from error

    def drop_cache(self) -> None:
        """See Blocks."""
        self.file.drop_cache()

    def close(self) -> None:
        """See Blocks."""
        self._unpacking = None
        self.file.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        if self.known(offset, buffer):
            return
        self._unpack_into(offset, buffer)
        if self.noting is not None:
            self.noting(offset, buffer)

    def _unpack_into(self, offset: int, buffer: memoryview) -> None:
        with self._lock:
            first = done = self._from_recent(offset, buffer)
            self._go_to(offset + done)
            try:
                while done < len(buffer):
                    count = self._step(buffer[done:done + AT_ONCE])
                    if not count and self.least <= self.at < self.size:
                        buffer[done:] = bytes(len(buffer) - done)
                        return
                    if not count:
                        raise BrokenOff(f"{self.name} ends early: it unpacks to {binary(self.at)} where "
                                        f"{binary(self.size)} were promised. Fetch it again.", self.at)
                    done += count
            finally:
                self._keep(buffer[first:done])

    def _from_recent(self, offset: int, buffer: memoryview) -> int:
        """Bytes that were unpacked just now: whoever reads in order often begins a little before."""
        back = self.at - offset
        if not 0 < back <= len(self._recent):
            return 0
        count = min(back, len(buffer))
        start = len(self._recent) - back
        buffer[:count] = self._recent[start:start + count]
        return count

    def _go_to(self, offset: int) -> None:
        place = self.packed.nearest(offset)
        if self._unpacking is None or offset < self.at:
            self._begin(place if self.skips or self._unpacking is not None else 0)
        elif self.skips and place > self.at + STEP:
            self._begin(place)
        while self.at < offset and (count := self._step(self._scratch[:min(STEP, offset - self.at)])):
            self._keep(self._scratch[:count])

    def _begin(self, place: int) -> None:
        try:
            self.at, self._unpacking, self._recent = place, self.packed.begin(place), b""
            self.is_gapless = not place
        except MossError:
            raise
        except DAMAGE as error:
            raise self._damaged(error) from error

    def _step(self, buffer: memoryview) -> int:
        if self.reach is not None:
            self.reach.must_do(self.name, self.at)
        assert self._unpacking is not None, "it was begun"
        try:
            count = self._unpacking.readinto(buffer) or 0
        except MossError:
            raise
        except DAMAGE as error:
            raise self._damaged(error) from error
        if count and self.onlooker is not None:
            self.onlooker(self.at, buffer[:count])
        self.at += count
        return count

    def _fill(self, buffer: memoryview) -> int:
        """As much of a buffer as there is; who gets less because of damage is told when he asks for more."""
        done = 0
        try:
            while done < len(buffer) and (count := self._step(buffer[done:done + AT_ONCE])):
                done += count
        except MossError:
            if not done:
                raise
        return done

    def _keep(self, data: memoryview) -> None:
        """What was unpacked last stays at hand: the bytes before `at`."""
        fresh = bytes(data[-RECENT:])
        self._recent = fresh if len(fresh) == RECENT else (self._recent + fresh)[-RECENT:]

    def _damaged(self, error: Exception) -> BrokenOff:
        _log.debug("%s, byte %d: %r", self.name, self.at, error)
        had = f"{binary(self.at)} of it could be unpacked, and compared with no checksum" if self.at else \
            "nothing of it could be unpacked"
        what = f"breaks off: {had}" if isinstance(error, EOFError) else f"is damaged: {had}"
        if any(word in str(error).lower() for word in ("checksum", "crc", "check value")):
            what = "does not agree with its checksum: something in it is damaged"
        return BrokenOff(f"{self.name} {what}. Fetch it again.", self.at)


class Checked:
    """Compares a CRC32 at the end; see Unpacking."""

    def __init__(self, inner: Unpacking, size: int, wanted: int) -> None:
        self._inner, self._left, self._wanted, self._crc = inner, size, wanted, 0

    def readinto(self, buffer: memoryview, /) -> int:
        """See Unpacking. Raises OSError, EOFError."""
        count = self._inner.readinto(buffer) or 0
        self._crc = zlib.crc32(buffer[:count], self._crc)
        self._left -= count
        if count == 0 and self._left > 0:
            raise EOFError
        if (count == 0 or self._left <= 0) and self._crc != self._wanted:
            raise OSError("its checksum is wrong")
        return count


class AsFile(io.RawIOBase):
    """Blocks as the file that a library wants to read."""

    def __init__(self, blocks: Blocks, start: int = 0) -> None:
        super().__init__()
        self.blocks, self.at = blocks, start

    def readable(self) -> bool:
        """See RawIOBase."""
        return True

    def seekable(self) -> bool:
        """See RawIOBase."""
        return True

    def readinto(self, buffer: memoryview | bytearray, /) -> int:  # type: ignore[override]
        """See RawIOBase. Raises MediumError."""
        if isinstance(self.blocks, Stream) and not self.blocks.is_size_known:
            count = self.blocks.read_some(self.at, memoryview(buffer))
            self.at += count
            return count
        count = max(0, min(len(buffer), self.blocks.size - self.at))
        if count:
            self.blocks.read_into(self.at, memoryview(buffer)[:count])
            self.at += count
        return count

    def seek(self, offset: int, whence: int = io.SEEK_SET, /) -> int:
        """See RawIOBase."""
        self.at = max(0, offset + {io.SEEK_SET: 0, io.SEEK_CUR: self.at, io.SEEK_END: self.blocks.size}[whence])
        return self.at

    def tell(self) -> int:
        """See RawIOBase."""
        return self.at


def as_file(blocks: Blocks, start: int = 0) -> io.BufferedReader:
    """The same with a buffer."""
    return io.BufferedReader(AsFile(blocks, start), STEP)
