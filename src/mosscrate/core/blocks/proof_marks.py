"""Marks of a proof: blocks of 4 KiB whose sectors each say for which job and address they were made.

Little-endian. Our own structure: a sector is told from everything else by its magic, its job's nonce and a check that
depends on all of it; the rest is noise, so that a card that packs or joins equal blocks cannot cheat with it.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

BLOCK = 4096
SECTOR = 512
PER_BLOCK = BLOCK // SECTOR
MAGIC_BYTES = b"MOSSMARK"
MAGIC = np.frombuffer(MAGIC_BYTES, "<u8")[0]
NO_CONTENTS = np.frombuffer(b"MOSSGONE", "<u8")[0]    # of a proof that gave up what stood there: nothing comes back
FEW = 32                                  # sectors
MARK = np.dtype([                         # 512 bytes
    ("magic", "<u8"),
    ("nonce", "<u8", 2),                  # of the job
    ("address", "<u8"),                   # of this sector, in bytes
    ("check", "<u8"),                     # of nonce and address
    ("noise", "<u8", 59)])
NONE = -1                                 # no mark stands there
TORN = -2                                 # a part of one, or a damaged one

Addresses = NDArray[np.int64]             # in bytes, of blocks
_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


def build(addresses: Addresses, nonce: bytes, magic: np.uint64 = MAGIC) -> NDArray[np.uint8]:
    """Marks for blocks, shape (n, 4096). `nonce` has 16 bytes."""
    sectors = np.zeros((len(addresses), PER_BLOCK), MARK)
    where = addresses.astype(np.uint64)[:, None] + np.arange(PER_BLOCK, dtype=np.uint64) * np.uint64(SECTOR)
    sectors["magic"] = magic
    sectors["nonce"] = np.frombuffer(nonce, "<u8")
    sectors["address"] = where
    sectors["check"] = _mixed(where, nonce)
    sectors["noise"] = _noise(sectors["check"])
    return sectors.view(np.uint8).reshape(len(addresses), BLOCK)


def read(blocks: NDArray[np.uint8], nonce: bytes, own: Addresses | None = None) -> Addresses:
    """The address of the mark that each block of (n, 4096) bytes is, every byte compared.

    NONE where no sector is one, TORN where some are, or are damaged. With their `own` addresses, shape (n,), one sector
    that was made for another block is enough to name that one: room may fold by less than a block.
    """
    sectors = blocks.reshape(-1, BLOCK).view(MARK).reshape(-1, PER_BLOCK)
    ours = np.frombuffer(nonce, "<u8")
    begins = np.isin(sectors["magic"], (MAGIC, NO_CONTENTS)) & (sectors["nonce"] == ours).all(axis=2) & (
        sectors["check"] == _mixed(sectors["address"], nonce))
    is_mark = begins.copy()
    is_mark[begins] = (sectors["noise"][begins] == _noise(sectors["check"][begins])).all(axis=1)
    first = sectors["address"].astype(np.int64) - np.arange(PER_BLOCK) * SECTOR
    agrees = (is_mark & (first == first[:, :1])).all(axis=1)
    found = np.where(agrees, first[:, 0], np.where(begins.any(axis=1), TORN, NONE))
    if own is None:
        return found
    foreign = is_mark & (first != own[:, None])
    where = foreign.argmax(axis=1)[:, None]
    return np.where(foreign.any(axis=1), np.take_along_axis(first, where, axis=1)[:, 0], found)


def first_mark(data: bytes | memoryview, offset: int) -> tuple[int, bytes] | None:
    """The first sector among bytes from `offset` of a medium on that is a mark in place of contents: (byte, nonce)."""
    first = -offset % SECTOR
    count = (len(data) - first) // SECTOR
    if count <= 0:
        return None
    if count <= FEW:                                        # most reads are short, and quicker seen through so
        view = memoryview(data)
        found = [n for n in range(count) if view[first + n * SECTOR:first + n * SECTOR + 8] == MAGIC_BYTES]
    else:
        words = np.frombuffer(data, "<u8", count * SECTOR // 8, first)
        found = np.flatnonzero(words[::SECTOR // 8] == MAGIC).tolist()
    for number in found:
        sector = np.frombuffer(data, MARK, 1, first + number * SECTOR)
        nonce = sector["nonce"].tobytes()
        if sector["check"][0] == _mixed(sector["address"], nonce)[0]:
            return offset + first + number * SECTOR, nonce
    return None


def _noise(checks: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """What fills a mark behind its check, shape (..., 59)."""
    with np.errstate(over="ignore"):
        return _mix(checks[..., None] + np.arange(1, 60, dtype=np.uint64) * _GOLDEN)


def _mixed(where: NDArray[np.uint64], nonce: bytes) -> NDArray[np.uint64]:
    low, high = np.frombuffer(nonce, "<u8")
    return _mix(_mix(where ^ low) ^ high)


def _mix(values: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """The finishing step of SplitMix64 (Steele, Lea and Flood, 2014): every bit depends on every other."""
    with np.errstate(over="ignore"):
        values = (values + _GOLDEN).astype(np.uint64)
        values = (values ^ (values >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        values = (values ^ (values >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return values ^ (values >> np.uint64(31))
