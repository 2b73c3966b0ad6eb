"""Writing a whole image onto a target, its head last."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.blocks.streaming import Chunk, Marks, chunks, chunks_to_end, digest, put, reads_back
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.unpacking import in_full
from mosscrate.core.errors import CrateError, Damaged, FitError, JobError, Resized
from mosscrate.core.images import packed_in
from mosscrate.core.images.packing import ends_in_footer
from mosscrate.core.sheet.notes import BLANK, Body, Notes
from mosscrate.core.sheet.steps.shared.false_size import LEAST, Sampled, false_size
from mosscrate.core.sizes import binary, exact
from mosscrate.core.watch import Watch

EDGE = 1 << 20
_LEFT = " It shows no map now; the source is untouched."


class _HeadLast(View):
    """Holds the first MiB back until `settle`: a half-written card shows no map at all. Read, it is as it will be."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner)
        self.head = bytearray(min(EDGE, inner.size))
        self.reached = 0

    def settle(self) -> None:
        """Write the head; everything else is on the medium already."""
        self.inner.flush()
        self.inner.write(0, self.head)
        self.inner.flush()

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.reached = max(self.reached, offset + length)
        rest = max(offset, len(self.head))
        if rest < offset + length:
            self.inner.zero(rest, offset + length - rest)

    def extents(self) -> Iterator[Extent]:
        """See Blocks."""
        edge = len(self.head)
        yield Extent(0, edge)
        for extent in self.inner.extents():
            if extent.end > edge:
                start = max(extent.start, edge)
                yield replace(extent, start=start, length=extent.end - start)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        held = max(0, min(len(buffer), len(self.head) - offset))
        buffer[:held] = self.head[offset:offset + held]

    def _write(self, offset: int, data: Buffer) -> None:
        self.reached = max(self.reached, offset + len(data))
        held = max(0, min(len(data), len(self.head) - offset))
        if held:
            self.head[offset:offset + held] = memoryview(data)[:held]
        if held < len(data):
            self.inner.write(offset + held, memoryview(data)[held:])


def must_be_whole(layout: Layout) -> None:
    """Raises FitError for a source that ends before its own contents do, or is damaged."""
    if layout.fault:
        raise FitError(f"{layout.fault} Nothing was written.")
    if layout.cut:
        raise FitError(f"The source is cut short: it has {exact(layout.size)}, its own contents count on "
                       f"{binary(layout.cut)} more. It may be one part of several, or a broken download. Nothing was "
                       "written.")


def length_that_fits(source: Blocks, target: Blocks, watch: Watch) -> int:
    """Bytes of the source to write. Raises FitError where more than unused zeros would be cut."""
    if source.size <= target.size:
        return source.size
    excess = source.size - target.size
    numbers = (f"The image has {exact(source.size)}, {target.name} has {exact(target.size)}: "
               f"{binary(excess)} too few.")
    for chunk in chunks(Window(source, target.size, excess), excess):
        if any(np.frombuffer(data, np.uint8).any() for _, data in chunk.data_runs()):
            raise FitError(f"{numbers} What would be cut is not empty. Nothing was written; take a larger card.")
        watch.check()
    return target.size


def write_image(source: Blocks, target: Blocks, watch: Watch, *, verify: bool, notes: Notes | None = None,
                length: int | None = None) -> int:
    """Write a source onto a target from its first byte; returns the bytes covered. `length` is how many were decided.

    A packed source that turns out to be shorter than it was taken for, for it ends in a footer, is written once more.
    Of a source of which nobody knows where it ends all is written, as far as there is room for more than zeros.

    Old maps at the target's end are cleared. All but the head with the map is read back where that is asked for, once
    everything is written: what wraps around is not seen before. Then the head goes on; until then a stamp stands there.

    Raises:
        FitError: it does not fit; nothing was written.
        CrateError: the source is not what it is recorded as; the card shows no map then.
        JobError: it does not read back equal.
    """
    return in_full(source, lambda: _write(source, target, watch, verify=verify, notes=notes or Notes(), length=length))


def _write(source: Blocks, target: Blocks, watch: Watch, *, verify: bool, notes: Notes, length: int | None) -> int:
    length = min(length, source.size) if length is not None else None
    length = length_that_fits(source, target, watch) if length is None else length
    if notes.expected and length < source.size:
        _must_be(notes, digest(source, source.size, watch, phase="Comparing with its record"), "Nothing was written.")
    edge = min(EDGE, target.size)
    stamp = notes.stamp[:edge]
    target.write(0, stamp)
    target.flush()
    target.zero(len(stamp), edge - len(stamp))
    if target.size > length or not source.has_end:
        start = max(length if source.has_end else 0, target.size - EDGE)
        target.zero(start, target.size - start)
    target.flush()
    held = _HeadLast(target)
    sampled = Sampled(source)
    marks: Marks | None = {} if verify else None
    try:
        tell = _teller(source, length, watch, f"Writing {target.name}")
        pieces = chunks(sampled, length) if source.has_end else _what_fits(sampled, target)
        copied = put(pieces, held, tell, zeros=held.zero, marks=marks)
        source.confirm()
    except Resized:
        raise
    except Damaged as error:
        raise JobError(f"{error} {binary(held.reached)} of it are on {target.name}; its map was held back, so it shows "
                       "none and cannot be taken for whole.") from error
    length = copied.length
    if notes.expected and length == source.size:
        _must_be(notes, copied.digest, f"{target.name} shows no map and is not whole; put another backup onto it.")
    target.flush()
    _must_hold_it(sampled, target, length, watch)
    if marks is not None:
        target.drop_cache()
        if not reads_back(held, length, marks, watch, phase=f"Reading {target.name} back"):
            found = _false_size(sampled, target, length, watch)
            raise JobError((found or _not_as_written(target)) + _LEFT)
    notes.before_head(Body(copied.digest, head_digest(held.head), length))
    held.settle()
    if marks is not None:
        target.drop_cache()
        if target.read(0, len(held.head)) != held.head:
            raise JobError(f"{_not_as_written(target)} The source is untouched.")
    return length


def _what_fits(source: Blocks, target: Blocks) -> Iterator[Chunk]:
    """All of a source, wherever it ends. Raises JobError where more than zeros lies behind the end of the target."""
    for chunk in chunks_to_end(source):
        room = max(0, min(chunk.length, target.size - chunk.start))
        if np.frombuffer(chunk.bytes[room:], np.uint8).any() and not ends_in_footer(source, chunk.bytes, chunk.start,
                                                                                      target.size):
            raise JobError(f"{source.name} goes on behind the end of {target.name}, which nobody knew before, and is "
                           f"not empty there. Take a larger card: {binary(target.size)} were written.{_LEFT}")
        if room:
            yield replace(chunk, length=room)


def _teller(source: Blocks, length: int, watch: Watch, phase: str) -> Callable[[int], None]:
    """Tells how far a source was written: of what it is packed in, where nobody knows where it ends."""
    packed = packed_in(source)
    if packed is None or source.has_end:
        return lambda at: watch.progress(phase, at, length)
    total, begun = packed.packing.packed, packed.meter.count
    return lambda at: watch.progress(phase, min(packed.meter.count - begun, total), total)


def _must_hold_it(source: Sampled, target: Blocks, length: int, watch: Watch) -> None:
    """A few places are read back at once: a card that claims too much is told before anything is built on it."""
    target.drop_cache()
    if source.differing(target, EDGE) < LEAST:
        return
    if found := _false_size(source, target, length, watch):
        raise JobError(found + _LEFT)


def _false_size(source: Blocks, target: Blocks, length: int, watch: Watch) -> str:
    """The sentence on a target that holds less than it claims, which has no head yet; "" where that is not so."""
    behind = max(0, length - EDGE)
    found = false_size(Window(source, length - behind, behind), Window(target, length - behind, behind), behind, watch)
    if found is None:
        return ""
    return replace(found, real=found.real + (0 if found.wraps else EDGE)).sentence(target)


def _not_as_written(target: Blocks) -> str:
    return f"{target.name} does not read back as it was written. It may be failing."


def is_written(card: Blocks, body: Body, watch: Watch) -> bool:
    """Whether a card holds all of what was written to it, its head too. Raises MediumError, Stopped."""
    if body.digest == BLANK:
        return not any(card.read(0, min(EDGE, card.size)))
    if not body.digest or body.length > card.size or head_digest(card.read(0, min(EDGE, card.size))) != body.head:
        return False
    card.drop_cache()
    return digest(card, body.length, watch, phase=f"Comparing {card.name}") == body.digest


def head_digest(head: Buffer) -> str:
    """Of the first MiB."""
    return blake3(head).hexdigest()


def not_as_recorded(name: str, left: str) -> CrateError:
    """What is said of a backup that has changed; `left` is what that leaves behind."""
    return CrateError(f"{name} is not what it is recorded as: its checksum differs, so it was changed or damaged "
                      f"since. {left}")


def _must_be(notes: Notes, found: str, left: str) -> None:
    if found != notes.expected:
        raise not_as_recorded(notes.source_name, left)
