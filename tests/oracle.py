"""What is free on a card, by a reading of its tables that is not the program's own.

Nothing here knows the program: maps, FATs, bitmaps are read from the bytes by their published offsets, ext groups by
the system's own dump. Whatever is not told to be free has to come back to the byte when a job is undone.
"""

from __future__ import annotations

import re
import struct
import subprocess
import tempfile
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

SECTOR = 512
Mask = NDArray[np.bool_]


def free_sectors(image: bytes) -> Mask:
    """For each sector of an image, whether nothing in its tables claims it; shape (sectors,)."""
    image = _straight(bytes(image))
    free = np.zeros(len(image) // SECTOR, bool)
    if not image.strip(b"\0"):
        return ~free
    places = list(_partitions(image))
    if places or _has_map(image):                       # what lies in front of the first partition may be boot code
        end = len(free) - (34 if image[512:520] == b"EFI PART" else 0)
        free[min((start for start, _ in places), default=1 << 20) // SECTOR:end] = True
        for start, length in places:
            free[start // SECTOR:-(-(start + length) // SECTOR)] = False
    for place in _records(image):
        free[place // SECTOR] = False
    for start, length in places or ([] if _has_map(image) else [(0, len(image))]):
        window = image[start:start + length]
        inside = _volume(window)
        free[start // SECTOR:start // SECTOR + len(inside)] = inside
    return free


def differing(before: bytes, after: bytes, first: bytes = b"") -> list[int]:
    """Sectors that are others although something claimed them before.

    A card that was emptied has no tables that claim anything: there, what those of an earlier card `first` called free
    is free still.
    """
    rows = [np.frombuffer(bytes(data), np.uint8)[:len(before) // SECTOR * SECTOR].reshape(-1, SECTOR)
            for data in (before, after)]
    other = (rows[0] != rows[1]).any(axis=1)
    if not other.any():
        return []
    free = free_sectors(before)
    if first and not free.any() and not any(before[:SECTOR]):
        free = free_sectors(first)
    return np.flatnonzero(other & ~free).tolist()


def _straight(image: bytes) -> bytes:
    """A drive behind an adapter that swaps the bytes of every word, put right."""
    swapped = np.frombuffer(image[:len(image) // 2 * 2], "<u2").byteswap().tobytes()
    return swapped if _has_map(swapped) and not _has_map(image) else image


def _partitions(image: bytes):
    if image[512:520] == b"EFI PART":
        at, count, size = struct.unpack_from("<QII", image, 512 + 72)
        for k in range(count):
            entry = image[at * SECTOR + k * size:][:size]
            first, last = struct.unpack_from("<QQ", entry, 32)
            if any(entry[:16]):
                yield first * SECTOR, (last - first + 1) * SECTOR
    elif (at := next((k * SECTOR for k in range(16) if image[k * SECTOR:k * SECTOR + 4] == b"RDSK"), -1)) >= 0:
        block = struct.unpack_from(">I", image, at + 28)[0]
        while block != 0xFFFFFFFF and image[block * SECTOR:block * SECTOR + 4] == b"PART":
            following, = struct.unpack_from(">I", image, block * SECTOR + 16)
            heads, = struct.unpack_from(">I", image, block * SECTOR + 128 + 12)
            track, = struct.unpack_from(">I", image, block * SECTOR + 128 + 20)
            low, high = struct.unpack_from(">II", image, block * SECTOR + 128 + 36)
            yield low * heads * track * SECTOR, (high - low + 1) * heads * track * SECTOR
            block = following
    elif image[510:512] == b"\x55\xaa" and not _is_bare(image):
        for start, length, type_ in _entries(image, 0):
            if type_ not in (5, 15, 0x85):
                yield start, length
        for record in _records(image):
            for start, length, type_ in _entries(image, record)[:1]:
                if type_ not in (5, 15, 0x85):
                    yield record + start, length
    elif not _is_bare(image):
        yield from _chain(image, 0, 0)


def _has_map(image: bytes) -> bool:
    is_mbr = image[510:512] == b"\x55\xaa" and not _is_bare(image)
    return is_mbr or image[512:520] == b"EFI PART" or any(image[k * SECTOR:][:4] == b"RDSK" for k in range(16))


def _is_bare(image: bytes) -> bool:
    return image[0] in (0xEB, 0xE9, 0x60) or image[:3] == b"DOS" or image[1080:1082] == b"\x53\xef"


def _entries(image: bytes, at: int):
    rows = [(image[at + 446 + 16 * k + 4], *struct.unpack_from("<II", image, at + 446 + 16 * k + 8)) for k in range(4)]
    return [(start * SECTOR, length * SECTOR, type_) for type_, start, length in rows if type_ and length]


def _records(image: bytes):
    """Extended boot records."""
    if image[510:512] != b"\x55\xaa" or image[512:520] == b"EFI PART" or _is_bare(image):
        return
    for outer, _, type_ in _entries(image, 0):
        at, seen = outer, set()
        while type_ in (5, 15, 0x85) and at not in seen and at < len(image):
            seen.add(at)
            yield at
            link = next((e for e in _entries(image, at) if e[2] in (5, 15)), None)
            if link is None:
                break
            at = outer + link[0]


def _chain(image: bytes, at: int, outer: int, depth: int = 0):
    """Entries of an AHDI root sector and of those that it leads to."""
    for k in range(4):
        flag, id_, start, length = struct.unpack_from(">B3sII", image, at + 0x1C6 + 12 * k)
        if not flag & 1 or not id_.isalnum() or not length:
            continue
        if id_ == b"XGM":
            if depth < 16:
                yield from _chain(image, (outer if depth else 0) + start * SECTOR if depth else start * SECTOR,
                                  outer or start * SECTOR, depth + 1)
        else:
            yield at + start * SECTOR if depth else start * SECTOR, length * SECTOR


def _volume(data: bytes) -> Mask:
    if data[3:11] == b"EXFAT   ":
        return _exfat(data)
    if data[1080:1082] == b"\x53\xef":
        return _ext(data)
    if data[:3] == b"DOS" and data[3] < 8:
        return _ffs(data)
    is_fat = len(data) > SECTOR and data[16] in (1, 2) and data[11:13] in (
        b"\0\2", b"\0\4", b"\0\10", b"\0\20", b"\0\40")
    return _fat(data) if is_fat else np.zeros(len(data) // SECTOR, bool)


def _fat(data: bytes) -> Mask:
    sector, cluster, reserved, fats, roots, total16, _, length16 = struct.unpack_from("<HBHBHHBH", data, 11)
    total32, = struct.unpack_from("<I", data, 32)
    length = length16 or struct.unpack_from("<I", data, 36)[0]
    first = reserved + fats * length + -(-roots * 32 // sector)
    count = ((total16 or total32) - first) // cluster
    table = data[reserved * sector:(reserved + length) * sector]
    is_12 = count <= 4084 and data[21] != 0xF7
    if length16 == 0:
        used = np.frombuffer(table, "<u4")[2:count + 2] & 0x0FFFFFFF
    elif is_12:
        triples = np.frombuffer(table[:len(table) // 3 * 3], np.uint8).reshape(-1, 3).astype(np.uint16)
        pairs = np.stack((triples[:, 0] | (triples[:, 1] & 15) << 8, triples[:, 1] >> 4 | triples[:, 2] << 4), axis=1)
        used = pairs.reshape(-1)[2:count + 2]
    else:
        used = np.frombuffer(table, "<u2")[2:count + 2]
    free, per = np.zeros(len(data) // SECTOR, bool), cluster * sector // SECTOR
    body = np.repeat(used == 0, per)
    at = first * sector // SECTOR
    free[at:at + len(body)] = body[:len(free) - at]
    return free


def _exfat(data: bytes) -> Mask:
    heap, count, root = struct.unpack_from("<III", data, 88)
    sector, per = 1 << data[108], 1 << data[109]
    at, free = (heap + (root - 2) * per) * sector, np.zeros(len(data) // SECTOR, bool)
    while data[at] not in (0, 0x81):
        at += 32
    cluster, = struct.unpack_from("<I", data, at + 20)
    place = (heap + (cluster - 2) * per) * sector
    bits = np.unpackbits(np.frombuffer(data, np.uint8, -(-count // 8), place), bitorder="little")[:count]
    body = np.repeat(bits == 0, per * sector // SECTOR)
    free[heap * sector // SECTOR:heap * sector // SECTOR + len(body)] = body
    return free


def _ffs(data: bytes) -> Mask:
    """Longs of a bitmap block behind its checksum; bit set is free, from block 2 on. The root stands in the middle."""
    free = np.zeros(len(data) // SECTOR, bool)
    for size in (512, 1024, 2048, 4096, 8192):
        blocks, longs = len(data) // size, size // 4
        root = (blocks - 1 + 2) // 2 * size
        if data[root:root + 4] != b"\0\0\0\2" or data[root + size - 4:root + size] != b"\0\0\0\1":
            continue
        pages = [p for p in struct.unpack_from(">25I", data, root + size - 196) if p]
        following, = struct.unpack_from(">I", data, root + size - 96)
        while following:
            pages += [p for p in struct.unpack_from(f">{longs - 1}I", data, following * size) if p]
            following, = struct.unpack_from(">I", data, following * size + size - 4)
        words = np.concatenate([np.frombuffer(data, ">u4", longs - 1, p * size + 4).astype(np.uint32) for p in pages])
        bits = np.unpackbits(words.view(np.uint8), bitorder="little").astype(bool)[:blocks - 2]
        body = np.repeat(bits, size // SECTOR)
        free[2 * size // SECTOR:2 * size // SECTOR + len(body)] = body
        break
    return free


def _ext(data: bytes) -> Mask:
    free = np.zeros(len(data) // SECTOR, bool)
    block = 1024 << struct.unpack_from("<I", data, 1024 + 24)[0]
    with tempfile.NamedTemporaryFile(suffix=".img") as file:
        Path(file.name).write_bytes(data)
        said = subprocess.run(["dumpe2fs", file.name], capture_output=True, text=True, check=True,
                              env={"PATH": "/usr/sbin:/sbin:/usr/bin:/bin", "LC_ALL": "C"}).stdout
    for line in re.findall(r"^  Free blocks: (.*)$", said, re.M):
        for run in filter(None, line.split(", ")):
            low, _, high = run.partition("-")
            free[int(low) * block // SECTOR:(int(high or low) + 1) * block // SECTOR] = True
    return free
