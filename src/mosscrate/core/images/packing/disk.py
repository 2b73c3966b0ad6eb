"""A disk that comes out of a packed file."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.blocks.base import Buffer
from mosscrate.core.blocks.streaming import BLOCK, chunks
from mosscrate.core.errors import Damaged, NotReadYet, Resized
from mosscrate.core.images.container import ContainedDisk
from mosscrate.core.images.packing.parts import Metered
from mosscrate.core.images.packing.remembered import PIECE, Remembered
from mosscrate.core.images.packing.stream import STEP, Reach, Stream
from mosscrate.core.sizes import exact
from mosscrate.core.watch import Watch

FOOTER = 512                            # bytes behind a disk that may say what it is
HOLE = 1 << 20                          # zeros shorter than this are read like everything else


@dataclass(frozen=True)
class Packing:
    """How a disk is packed.

    Attributes:
        kinds: formats, the outermost first.
        name: of the disk, once it is unpacked.
        member: what an archive calls what it is in, with folders; "" where there is no archive.
        others: names of what else may be a disk.
        packed: bytes of the file, or of all parts.
        parts: how many files they are.
    """

    kinds: tuple[str, ...]
    name: str
    member: str
    others: tuple[str, ...]
    packed: int
    parts: int = 1

    @property
    def sentence(self) -> str:
        """As people say it: "xz in zip"."""
        return " in ".join(reversed(self.kinds))


class Unreached(Blocks):
    """A disk in an archive of which not even the list was reached by a glance. Reading it raises NotReadYet."""

    def __init__(self, wrapped: Blocks, reason: NotReadYet) -> None:
        super().__init__(wrapped.size, name=wrapped.name)
        self.wrapped, self.reason = wrapped, reason

    def close(self) -> None:
        """See Blocks."""
        self.wrapped.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        raise self.reason


class PackedDisk(ContainedDisk):
    """Reads in order; what was looked at before is remembered.

    Attributes:
        packing: how it is packed.
        is_footer: whether the last bytes of so many that were unpacked are no part of the disk but say what it is.
        head: its first bytes, as far as they were read to find out what it is.
        streams: that have to be unpacked on the way to it, the outermost first.
        remembered: what is known of it.
    """

    kind = "packed"

    def __init__(self, inner: Blocks, packing: Packing, streams: tuple[Stream, ...], meter: Metered,
                 remembered: Remembered) -> None:
        super().__init__(inner, inner.size)
        self.container = "raw"
        self.is_footer: Callable[[bytes, int], bool] = lambda _last, _size: False
        self.head = b""
        self._is_looking = self._is_passing = False
        self._last = b""                                 # of the disk, once it was read to there
        self.packing, self.streams, self.meter, self.remembered = packing, streams, meter, remembered
        for stream, noted in zip(streams, remembered.places, strict=False):
            if noted:
                stream.packed.recall(noted)
        if remembered.size and (not self.is_size_known or remembered.size == self.size - FOOTER):
            self._settle(remembered.size)

    @property
    def is_size_known(self) -> bool:
        """Whether `size` is more than a supposition."""
        return self.is_reached and (not isinstance(self.file, Stream) or self.file.is_size_known)

    @property
    def has_end(self) -> bool:
        """See Blocks."""
        return self.is_size_known

    @property
    def least(self) -> int:
        """How many bytes there have to be."""
        return self.file.least if isinstance(self.file, Stream) else self.size

    @property
    def is_reached(self) -> bool:
        """Whether more is known than what it is packed in."""
        return not isinstance(self.file, Unreached)

    @property
    def places(self) -> int:
        """From how many places unpacking can begin, its beginning not counted; the least of all streams."""
        return min((stream.packed.places for stream in self.streams), default=-1)

    def beginning(self, most: int) -> bytes:
        """Its first bytes, fewer where it ends before. Raises MediumError."""
        if not isinstance(self.file, Stream):
            return self.file.read(0, min(most, self.size))
        return self.file.first(most)

    def suppose(self, claimed: int) -> None:
        """Take a size for granted that agrees with what the disk says of itself."""
        if isinstance(self.file, Stream) and not self.file.is_size_known:
            self.size = self.file.packed.supposed(claimed)
            self.file.suppose(self.size, claimed)

    def look(self, reach: Reach | None) -> None:
        """From now on remember what is looked at, and go no further than a reach; until it is closed."""
        if reach is not None:
            reach.measure(self.meter)
        self.remembered.lookers += not self._is_looking
        self._is_looking = True
        inner, start = (self.file.inner, self.file.start) if isinstance(self.file, Window) else (self.file, 0)
        if isinstance(inner, Stream):
            inner.onlooker = self._onlooker(start)
        for stream in self.streams:
            stream.reach = reach

    def go_on(self) -> None:
        """From now on as far as is asked for; nothing is skipped that has not been compared with its checksums yet."""
        for stream in self.streams:
            stream.reach, stream.skips = None, self.remembered.is_read_through

    def close(self) -> None:
        """See Blocks."""
        if self._is_looking:
            self._is_looking = False
            self.remembered.lookers -= 1
            self.remembered.save()
        super().close()

    def read_through(self, watch: Watch, see: Callable[[memoryview], object]) -> None:
        """Unpack all of it once, in order; `see` is shown every byte. Raises MediumError, Stopped."""
        total, begun, at = self.packing.packed, self.meter.count, 0
        phase = "Unpacking and comparing"
        if isinstance(self.file, Stream):
            self.file.begin_again()
            while len(data := self.file.read_on(STEP)):
                see(data)
                at += len(data)
                watch.progress(phase, min(self.meter.count - begun, total), total)
            if not self.file.is_size_known or self._without_footer(self.file.last, at) != at:
                self._learn(self._without_footer(self.file.last, at))
        else:
            for chunk in chunks(self.file, self.size):
                see(chunk.bytes)
                self._last = bytes(chunk.bytes[-FOOTER:])
                watch.progress(phase, chunk.start + chunk.length, self.size)
            self._learn_footer()
        self.confirm()
        for stream in self.streams:
            stream.skips = True
        self.remembered.places = tuple(stream.packed.note() for stream in self.streams)

    def confirm(self) -> None:
        """See Blocks: every stream is read to its end, where its checksum stands."""
        for stream in reversed(self.streams):
            stream.prove()
            taken, size = self.size, self._without_footer(stream.last, stream.at)
            if stream is self.file and size != taken:
                self._must_not_be_cut(stream)
                self._learn(size)
                raise self._resized(taken)
        taken = self.size
        if self._learn_footer():
            raise self._resized(taken)

    def _resized(self, taken: int) -> Resized:
        return Resized(f"{self.name} unpacks to {exact(self.size)}, it was taken for {exact(taken)}. Its true size is "
                       "known now: try again.", self.size)

    def _without_footer(self, last: bytes, size: int) -> int:
        """Bytes of the disk in so many that were unpacked."""
        return size - FOOTER if len(last) >= FOOTER and self.is_footer(last[-FOOTER:], size) else size

    def _learn_footer(self) -> bool:
        """Of a disk that lies somewhere in a stream: whether its end was a footer, which is left off from then on."""
        size = self._without_footer(self._last, self.size)
        if isinstance(self.file, Stream) or size == self.size:
            return False
        self._last = b""
        self._learn(size)
        return True

    def extents(self) -> Iterator[Extent]:
        """See Blocks: zeros that were seen before are holes."""
        at = 0
        for start, end in self.remembered.zero_runs():
            end = min(end, self.size)
            if end - start < HOLE or start < at:
                continue
            if start > at:
                yield Extent(at, start - at)
            yield Extent(start, end - start, is_hole=True)
            at = end
        if at < self.size:
            yield Extent(at, self.size - at)

    def read_some(self, offset: int, buffer: memoryview) -> int:
        """See Blocks. Where it ends is its size from then on."""
        if not isinstance(self.file, Stream) or self.has_end:
            return super().read_some(offset, buffer)
        self._is_passing = True
        try:
            count = self.file.read_some(offset, buffer)
        finally:
            self._is_passing = False
        if not count:
            self._must_not_be_cut(self.file)
            self._learn(self._without_footer(self.file.last, self.file.at))
        return count

    def _must_not_be_cut(self, stream: Stream) -> None:
        """Raises Damaged; what there is of it is known from then on."""
        if stream.at < stream.least:
            if not stream.is_size_known:
                self.remembered.size = stream.at
            raise Damaged(f"{self.name} unpacks to {exact(stream.at)}, {exact(stream.least)} were promised. It is cut "
                          "short: fetch it again.", stream.at)

    def _learn(self, size: int) -> None:
        self._settle(size)
        self.remembered.size = size

    def _settle(self, size: int) -> None:
        self.size = size
        if isinstance(self.file, Stream):
            self.file.settle(size)

    def _onlooker(self, start: int) -> Callable[[int, memoryview], None]:
        def see(offset: int, data: memoryview) -> None:
            if not self._is_passing:
                before = max(0, min(len(data), start - offset))
                self.remembered.see(offset + before - start, data[before:])
        return see

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self._fill(offset, buffer)
        if offset + len(buffer) == self.size and len(buffer) >= FOOTER:
            self._last = bytes(buffer[-FOOTER:])

    def _fill(self, offset: int, buffer: memoryview) -> None:
        if len(buffer) >= BLOCK and offset % BLOCK == 0:           # somebody reads all of it, in order
            self._is_passing = True
            try:
                self.file.read_into(offset, buffer)
            finally:
                self._is_passing = False
        elif not self.remembered.read_into(offset, buffer):
            start = offset // PIECE * PIECE
            data = memoryview(bytearray(min(-(-(offset + len(buffer)) // PIECE) * PIECE, self.size) - start))
            self.file.read_into(start, data)
            if self.remembered.lookers:
                self.remembered.note_asked(start, data)
            buffer[:] = data[offset - start:][:len(buffer)]


def packed_in(blocks: Blocks) -> PackedDisk | None:
    """The packed disk on which blocks stand, if any."""
    seen: Blocks | None = blocks
    while seen is not None and not isinstance(seen, PackedDisk):
        seen = getattr(seen, "inner", None) or getattr(seen, "file", None)
    return seen


def ends_in_footer(disk: Blocks, data: Buffer, at: int, room: int) -> bool:
    """Whether bytes of a packed disk, from `at` to its end, are a footer alone behind `room`: no part of the disk."""
    packed, end = packed_in(disk), at + len(data)
    return packed is not None and end - room == FOOTER and packed.is_footer(bytes(data[-FOOTER:]), end)
