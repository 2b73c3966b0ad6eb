"""Telling tables of file systems from files by their looks alone, while a packed disk passes by.

It is a guess that saves unpacking again: what is held in vain costs a little memory, what is missed costs time. Sources
are those of the file systems: directory entries, tables of clusters, bitmaps, inodes, checksummed blocks.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]               # (pieces, 4096)
Mask = NDArray[np.bool_]
SECTOR = 512
FOLLOWING = 64                          # pieces behind the start of a volume: its descriptors, its first tables
MOSTLY = 0.9
DOT = np.frombuffer(b".          \x10", np.uint8)
LONG_NAME, VALID_ATTRIBUTES = 0x0F, 0x3F
EXT_MAGIC, EXTENTS_MAGIC, SMALLEST_BLOCK = 0xEF53, 0xF30A, 1024
EXFAT_FIRST, EXFAT_NEXT = (0x81, 0x83, 0x85, 0x05, 0xC0, 0xC1), (0xC0, 0xC1, 0x82, 0x81, 0x85, 0x40, 0x41)
FFS_TYPES = (2, 16, 33)                 # header, list, directory cache; a bitmap begins with its checksum


def looks_like_tables(pieces: Bytes) -> Mask:
    """Which pieces of 4 KiB may hold tables or folders of a file system. Shape (pieces,)."""
    if not len(pieces):
        return np.zeros(0, np.bool_)
    sectors = pieces.reshape(-1, SECTOR)
    in_sectors = _dos_folder(sectors) | _checksummed(sectors)
    begins = _begins_volume(pieces)
    around = np.convolve(begins, np.ones(FOLLOWING, np.int8))[:len(pieces)] > 0
    found: Mask = (in_sectors.reshape(len(pieces), -1).any(axis=1) | begins | around | _cluster_table(pieces)
                   | _bitmap(pieces) | _exfat_folder(pieces) | _ext(pieces))
    return found


def _begins_volume(pieces: Bytes) -> Mask:
    has_mark = (pieces[:, 510] == 0x55) & (pieces[:, 511] == 0xAA)
    has_superblock = (pieces[:, 1080] == EXT_MAGIC & 0xFF) & (pieces[:, 1081] == EXT_MAGIC >> 8)
    is_dos_type = (pieces[:, 0] == ord("D")) & (pieces[:, 1] == ord("O")) & (pieces[:, 2] == ord("S"))
    found: Mask = has_mark | has_superblock | is_dos_type
    return found


def _dos_folder(sectors: Bytes) -> Mask:
    """FAT: the first entry is the folder itself, or the first two are entries with names that can be."""
    is_first = (sectors[:, :12] == DOT).all(axis=1)
    second = sectors[:, 32:64]
    found: Mask = is_first | (_dos_entry(sectors[:, :32]) & (_dos_entry(second) | ~second.any(axis=1)))
    return found


def _dos_entry(records: Bytes) -> Mask:
    attributes, name = records[:, 11], records[:, :11]
    is_long = (attributes == LONG_NAME) & (records[:, 12] == 0) & ~records[:, 26:28].any(axis=1) \
        & ((records[:, 0] & 0x3F) <= 20) & (records[:, 0] != 0)
    is_name = (name >= 0x20).all(axis=1) & (attributes & ~np.uint8(VALID_ATTRIBUTES) == 0) \
        & ~((name >= ord("a")) & (name <= ord("z"))).any(axis=1) & (name[:, 0] > 0x20)
    found: Mask = is_long | (is_name & (records[:, 12] & ~np.uint8(0x18) == 0))
    return found


def _checksummed(sectors: Bytes) -> Mask:
    """FFS and RDB: blocks whose big-endian longs add up to nothing."""
    longs = sectors.view(">u4")
    first = longs[:, 0]
    maybe = np.isin(first, FFS_TYPES) | ((first > 0xFFFF) & (sectors[:, 4:8] == 255).all(axis=1))
    found = np.zeros(len(sectors), np.bool_)
    if maybe.any():
        found[maybe] = longs[maybe].astype(np.uint32).sum(axis=1, dtype=np.uint32) == 0
    return found


def _cluster_table(pieces: Bytes) -> Mask:
    """Chains mostly go on with the next cluster, end, or are free; in entries of 32 or of 16 bits."""
    wide, narrow = pieces.view("<u4"), pieces.view("<u2")
    return _chains(wide, 0x0FFFFFF8) | _chains(narrow, 0xFFF8)


def _chains(entries: NDArray[np.unsignedinteger], end: int) -> Mask:
    sample = entries[:, :256]
    goes_on = sample[:, 1:] == sample[:, :-1] + 1
    found: Mask = (goes_on | (sample[:, 1:] == 0) | (sample[:, 1:] >= end)).mean(axis=1) > MOSTLY
    return found


def _bitmap(pieces: Bytes) -> Mask:
    sample = pieces[:, ::8]
    found: Mask = ((sample == 0) | (sample == 255)).mean(axis=1) > MOSTLY
    return found


def _exfat_folder(pieces: Bytes) -> Mask:
    return np.isin(pieces[:, 0], EXFAT_FIRST) & np.isin(pieces[:, 32], EXFAT_NEXT)


def _ext(pieces: Bytes) -> Mask:
    """Inodes, folders, and nodes of trees of extents."""
    inodes = pieces.reshape(len(pieces), 16, 256)
    kinds = inodes[:, :, 1] >> 4
    are_inodes = np.isin(kinds, (0, 1, 2, 4, 6, 8, 10, 12)).all(axis=1) & (inodes[:, :, 1] != 0).any(axis=1) \
        & (inodes[:, :, 27] == 0).all(axis=1)                      # few links
    blocks = pieces.reshape(-1, SMALLEST_BLOCK)
    words = blocks.view("<u2")
    is_node = words[:, 0] == EXTENTS_MAGIC
    length, name = words[:, 2], blocks[:, 6]
    is_folder = (length % 4 == 0) & (length >= 12) & (name > 0) & (name.astype(np.uint16) + 8 <= length) \
        & (blocks[:, 7] <= 7) & (blocks[:, 8] >= 0x20)
    found: Mask = are_inodes | (is_node | is_folder).reshape(len(pieces), -1).any(axis=1)
    return found
