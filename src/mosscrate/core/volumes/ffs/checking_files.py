"""What is wrong with single files of OFS and FFS: fields that say the same thing twice, headers of data blocks."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.structures import Longs
from mosscrate.core.volumes.ffs.volume import PIECE_BLOCKS, FfsVolume, extents_of_blocks


def check_file(volume: FfsVolume, number: int, header: Longs, data: NDArray[np.int64],
               extensions: list[int]) -> Iterator[Finding]:
    """A file whose blocks were found. Raises MediumError.

    Args:
        volume: it stands on.
        number: of its header.
        header: that header.
        data: numbers of its data blocks in their order.
        extensions: numbers of its extension blocks.
    """
    name, size = volume.fields.name(header), int(header[s.BYTE_SIZE])
    wanted = -(-size // volume.data_bytes)
    if len(data) < wanted:
        yield Finding(Severity.PROBLEM, f"“{name}” has {size} bytes, which take {counted(wanted, 'block')}, but "
                      f"{len(data)} of its own.", name)
    elif len(data) > wanted:
        yield Finding(Severity.NOTE, f"“{name}” keeps {counted(len(data) - wanted, 'block')} behind its end, as some "
                      "drivers leave it.", name, remedy="No harm; they become free when it is removed.")
    if int(header[s.FIRST_DATA]) != (int(data[0]) if len(data) else 0):
        yield Finding(Severity.WARNING, f"“{name}” begins in another block than its header says first.", name)
    for extension in extensions:
        longs = volume.longs(extension)
        if longs[s.OWN_KEY] != extension or longs[s.PARENT] != number or s.signed(int(longs[s.SEC_TYPE])) != s.ST_FILE:
            yield Finding(Severity.WARNING, f"A list of blocks of “{name}” says that it belongs to another file.", name)
    if not volume.is_ffs:
        wrong = sum(_wrong_headers(volume, number, size, data))
        if wrong:
            yield Finding(Severity.PROBLEM, f"In {counted(wrong, 'data block')} of “{name}” file, place, length or "
                          "checksum are not what they should be.", name,
                          remedy="What they hold may be of another file. Take it out and look at it.")


def check_links(volume: FfsVolume, number: int, header: Longs) -> Iterator[Finding]:
    """A hard link: it has to be in the chain of what it stands for. Raises FormatError where that is no header."""
    at, seen = int(header[s.REAL_ENTRY]), set[int]()
    while at and at not in seen:
        seen.add(at)
        at = int(volume.header(at)[s.NEXT_LINK])
        if at == number:
            return
    name = volume.fields.name(header)
    yield Finding(Severity.WARNING, f"The hard link “{name}” is not in the chain of what it stands for.", name,
                  remedy="When that is removed, the link leads nowhere.")


def _wrong_headers(volume: FfsVolume, number: int, size: int, data: NDArray[np.int64]) -> Iterator[int]:
    """How many data blocks of OFS that hold bytes of a file have a header that cannot be right, piece by piece.

    The last of them may lead on and be full where blocks follow behind the end of the file.
    """
    following = np.append(data[1:], 0)
    needed = min(len(data), -(-size // volume.data_bytes))
    for first in range(0, needed, PIECE_BLOCKS):
        part = data[first:min(needed, first + PIECE_BLOCKS)]
        raw = b"".join(volume.blocks.read(e.start, e.length) for e in extents_of_blocks(part, volume.block))
        rows = np.frombuffer(raw, ">u4").reshape(len(part), -1)
        places = np.arange(first, first + len(part))
        lengths = np.minimum(size - places * volume.data_bytes, volume.data_bytes)
        is_led_on = (places == needed - 1) & (len(data) > needed)
        bad = (rows[:, s.TYPE] != s.T_DATA) | (rows[:, s.OWN_KEY] != number) | (rows[:, s.HIGH_SEQ] != places + 1)
        bad |= (rows[:, s.DATA_SIZE] < lengths) | ((rows[:, s.DATA_SIZE] != lengths) & ~is_led_on)
        bad |= (rows[:, s.FIRST_DATA] != following[first:first + len(part)]) & ~is_led_on
        bad |= (rows.sum(axis=1, dtype=np.uint64) & np.uint64(0xFFFFFFFF)) != 0
        yield int(bad.sum())
