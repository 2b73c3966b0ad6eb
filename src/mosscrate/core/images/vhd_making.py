"""Making VHD files of a disk: all of it with a footer behind it, or only the blocks that hold something.

Source: as in `vhd`; the geometry is that of the drive's map, or worked out as its appendix does.
"""

from __future__ import annotations

import secrets
import time

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.streaming import copy
from mosscrate.core.errors import FitError
from mosscrate.core.images.pipeline import Pipeline
from mosscrate.core.images.vhd import COOKIE, DYNAMIC, FIXED, FOOTER, HEADER, SECTOR, SPARSE, UNUSED, checksum
from mosscrate.core.sizes import TIB, binary
from mosscrate.core.watch import Watch

BLOCK = 2 << 20
LARGEST = 2040 << 30                   # bytes
EPOCH = 946684800                      # the year 2000, from which its timestamps count
CREATOR = b"win "                      # readers take the size from the geometry for creators that they do not know
NOWHERE = 2**64 - 1
MOST_HEADS = 16                        # ATA-1, 5.4
MOST_SECTORS = 65535 * 16 * 255


def fixed_size(source: Blocks) -> int:
    """Bytes of the file. Raises FitError."""
    _must_fit(source)
    return source.size + SECTOR


def write_fixed(source: Blocks, file: Blocks, watch: Watch, tracks: tuple[int, int] | None = None) -> str:
    """The disk, then its footer; returns its BLAKE3. Raises MediumError, Stopped."""
    copied = copy(source, file, source.size, watch, phase="Writing the image")
    file.write(source.size, _footer(source.size, FIXED, NOWHERE, tracks))
    return copied.digest


def dynamic_size(source: Blocks) -> int:
    """Bytes of the file at most. Raises FitError."""
    _must_fit(source)
    count = -(-source.size // BLOCK)
    return _first_block(count) + count * (SECTOR + BLOCK) + SECTOR


def write_dynamic(source: Blocks, file: Blocks, watch: Watch, tracks: tuple[int, int] | None = None) -> tuple[str, int]:
    """The blocks that hold something; returns the BLAKE3 of the disk and the length of the file."""
    count, pipeline = -(-source.size // BLOCK), Pipeline(source, BLOCK, bytes, watch)
    table, at = np.full(count, UNUSED, ">u4"), _first_block(count)
    for number, data in pipeline:
        if data is not None:
            table[number] = at // SECTOR
            file.write(at, b"\xff" * SECTOR)
            file.write(at + SECTOR, data)
            at += SECTOR + BLOCK
    footer = _footer(source.size, DYNAMIC, SECTOR, tracks)
    place = Place("VHD header", HEADER, SECTOR)
    raw: Record = np.zeros((), HEADER)
    place.put(raw, cookie=SPARSE, data_offset=NOWHERE, table_offset=SECTOR + HEADER.itemsize, version=0x10000,
              table_entries=count, block_size=BLOCK)
    raw["checksum"] = checksum(raw.tobytes(), HEADER)
    file.write(SECTOR, raw.tobytes() + table.tobytes())
    file.write(at, footer)
    file.write(0, footer)
    return pipeline.digest, at + SECTOR


def geometry(sectors: int) -> tuple[int, int, int]:
    """(cylinders, heads, sectors of a track) for a disk, which may have a little more than these make."""
    sectors = min(sectors, MOST_SECTORS)
    if sectors >= 65535 * 16 * 63:
        return sectors // 255 // 16, 16, 255
    track, tracks = 17, sectors // 17
    heads = max(4, (tracks + 1023) // 1024)
    for longer in (31, 63):
        if tracks >= heads * 1024 or heads > 16:
            track, heads, tracks = longer, 16, sectors // longer
    return tracks // heads, heads, track


def _as_mapped(sectors: int, tracks: tuple[int, int] | None) -> tuple[int, int, int] | None:
    """The geometry in which the drive's map counts, where a drive can have it: more heads are a BIOS's translation."""
    if tracks is None or not (0 < tracks[0] <= MOST_HEADS and 0 < tracks[1] <= 255):
        return None
    cylinders = sectors // (tracks[0] * tracks[1])
    return (cylinders, *tracks) if 0 < cylinders <= 65535 else None


def _must_fit(source: Blocks) -> None:
    if source.size > LARGEST or source.size % SECTOR:
        raise FitError(f"A VHD file holds whole sectors, up to {binary(LARGEST)} ({LARGEST / TIB:.2f} TiB); the source "
                       f"has {binary(source.size)}.")


def _footer(size: int, kind: int, data_offset: int, tracks: tuple[int, int] | None) -> bytes:
    cylinders, heads, sectors = _as_mapped(size // SECTOR, tracks) or geometry(size // SECTOR)
    raw: Record = np.zeros((), FOOTER)
    Place("VHD footer", FOOTER, 0).put(
        raw, cookie=COOKIE, features=2, version=0x10000, data_offset=data_offset,
        timestamp=max(0, int(time.time()) - EPOCH), creator_application=CREATOR, creator_version=0x10000,
        creator_host=b"Wi2k", original_size=size, current_size=size, cylinders=cylinders, heads=heads, sectors=sectors,
        disk_type=kind, unique_id=secrets.token_bytes(16))
    raw["checksum"] = checksum(raw.tobytes(), FOOTER)
    return bytes(raw.tobytes())


def _first_block(count: int) -> int:
    """Behind footer, header and table."""
    return SECTOR + HEADER.itemsize + -(-4 * count // SECTOR) * SECTOR

