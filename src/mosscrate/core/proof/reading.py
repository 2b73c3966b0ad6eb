"""Is a card sound? Every byte is read, what is in use first; bad places are narrowed down and the files there named."""

from __future__ import annotations

import mmap
import random
import statistics
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.streaming import parts_around
from mosscrate.core.blocks.witnesses import Witnesses
from mosscrate.core.contents import Layout
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.sizes import MIB, binary, counted, rate, some_of
from mosscrate.core.volumes import Kind, open_volume
from mosscrate.core.watch import Watch

COMMAND = MIB
BLOCK, PROBES = 4096, 33
EDGE = 16                                # the share of a card that is its beginning, or its end
NAMED = 5                                # files that the sentence names


@dataclass(frozen=True)
class Hit:
    """A file that lies on bad places.

    Attributes:
        partition, path: which file.
        at: first bytes of the bad places on the card.
    """

    partition: int
    path: str
    at: tuple[int, ...]


@dataclass(frozen=True)
class Soundness:
    """What a reading pass found.

    Attributes:
        log: speeds and bad places.
        hits: files that lie on bad places.
        access: seconds that one block at a random place takes, the median; 0 where that was not measured.
        are_files_known: whether its map could be read, so that `hits` are all.
    """

    log: DepthLog
    hits: tuple[Hit, ...]
    access: float = 0.0
    are_files_known: bool = True

    @property
    def is_sound(self) -> bool:
        """Whether every byte could be read."""
        return not self.log.bad

    def sentence(self, name: str) -> str:
        """The verdict with its reason."""
        if self.is_sound:
            return f"Every byte of {name} can be read, {self._speed()}."
        bad = self.log.bad
        said = (f"{name} is failing or worn: {counted(len(bad), 'place')} of it, {binary(self.log.bad_bytes)} in all, "
                f"cannot be read, the first at byte {bad[0].start:,}.")
        files = self.hits
        if not self.are_files_known:
            return f"{said} Which files lie there cannot be told: its map cannot be read. Keep it now, or rescue it."
        if not files:
            return f"{said} No file lies there. Keep it now and use another card."
        lie = "lies" if len(files) == 1 else "lie"
        return f"{said} {counted(len(files), 'file')} {lie} there: {named(files)}. Keep it now; the rest can be read."


    def _speed(self) -> str:
        if not self.log.rate:
            return "too quickly to be measured"
        size = self.log.size
        first, last = self.log.rate_between(0, size // EDGE), self.log.rate_between(size - size // EDGE, size)
        ends = f" ({rate(first)} at its beginning, {rate(last)} at its end)" if first and last else ""
        access = f"; a block anywhere takes {self.access * 1000:.1f} ms" if self.access else ""
        return f"at {rate(self.log.rate)} on average{ends}{access}"


def read_all(card: Blocks, layout: Layout | None, watch: Watch, *, log: DepthLog | None = None) -> Soundness:
    """Read every byte once, past the system's memory of it. Raises MediumError where the card is gone, Stopped.

    Args:
        card: open for reading.
        layout: as surveyed before, so that what is in use comes first and files can be named; None where there is none.
        watch: is told.
        log: to be filled; a fresh one where it is left out. It may be drawn meanwhile.
    """
    log = log or DepthLog(card.size)
    buffer = memoryview(mmap.mmap(-1, COMMAND))             # aligned, as direct reading wants it
    done, witnesses = 0, Witnesses(card)
    card.drop_cache()
    card.read_directly()
    for extent in _in_order(card, layout):
        for at in range(extent.start, extent.end, COMMAND):
            length = min(COMMAND, extent.end - at)
            begun = card.now()
            try:
                card.read_into(at, buffer[:length])
                log.add(at, length, card.now() - begun)
                witnesses.saw(at)
            except MediumError:
                if not witnesses.is_there():
                    raise
                bad = parts_around(card, Extent(at, length), buffer[:length])
                for place in bad:
                    log.add_bad(place.start, place.length)
                witnesses.saw_around(Extent(at, length), bad)
            done += length
            watch.progress(f"Reading {card.name}", done, card.size)
    named_files = tuple(hits(card, layout, log.bad)) if log.bad and layout is not None else ()
    return Soundness(log, named_files, _access(card, log), layout is not None)


def _access(card: Blocks, log: DepthLog) -> float:
    """Seconds that a block at a random place takes."""
    chance, taken = random.Random(card.size), []
    buffer = memoryview(mmap.mmap(-1, BLOCK))
    card.drop_cache()
    for _ in range(PROBES if card.size > BLOCK else 0):
        at = chance.randrange(card.size // BLOCK) * BLOCK
        if any(bad.start < at + BLOCK and bad.end > at for bad in log.bad):
            continue
        begun = card.now()
        with suppress(MediumError):
            card.read_into(at, buffer)
            taken.append(card.now() - begun)
    return statistics.median(taken) if taken else 0.0


def named(files: tuple[Hit, ...]) -> str:
    """The first of them, and how many more there are."""
    return some_of([hit.path for hit in files], NAMED)


def hits(card: Blocks, layout: Layout, bad: list[Extent]) -> Iterator[Hit]:
    """The files that lie on stretches of a card, as far as their folders can be read."""
    view = straight(card)
    for look in layout.partitions:
        if look.volume is None or look.volume.used is None:
            continue
        with suppress(FormatError, MediumError):
            volume = open_volume(partition_window(view, look.partition))
            here = [Extent(b.start - look.partition.start, b.length) for b in bad
                    if b.start < look.partition.start + look.partition.length and b.end > look.partition.start]
            for entry in volume.tree().entries if here else ():
                if entry.kind != Kind.FILE:
                    continue
                extents = volume.extents_of(entry)
                at = tuple(look.partition.start + b.start for b in here
                           if any(e.start < b.end and b.start < e.end for e in extents))
                if at:
                    yield Hit(look.index, entry.path, at)


def _in_order(card: Blocks, layout: Layout | None) -> Iterator[Extent]:
    """What is in use, in order of place, then the rest; whole commands, none twice."""
    commands = -(-card.size // COMMAND)
    is_used = bytearray(commands)
    for extent in _used(card, layout):
        first, last = extent.start // COMMAND, -(-min(extent.end, card.size) // COMMAND)
        is_used[first:last] = b"\1" * max(0, last - first)
    for wanted in (1, 0):
        for number in range(commands):
            if is_used[number] == wanted:
                yield Extent(number * COMMAND, min(COMMAND, card.size - number * COMMAND))


def _used(card: Blocks, layout: Layout | None) -> Iterator[Extent]:
    yield Extent(0, min(COMMAND, card.size))
    if layout is None:
        return                                              # perhaps not even the beginning can be read
    view = straight(card)
    for look in layout.partitions:
        if look.volume is None or look.volume.used is None:
            continue
        with suppress(FormatError, MediumError):
            for extent in open_volume(partition_window(view, look.partition)).used_extents():
                yield Extent(look.partition.start + extent.start, extent.length)
