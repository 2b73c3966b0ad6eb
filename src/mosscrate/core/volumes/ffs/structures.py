"""OFS and FFS on disk: every block is made of big-endian longs, most of them sum to zero.

Source: "The .ADF format FAQ" 1.1 (L. Clevy) and the published include "dos/filehandler.h". Places of
fields are given from the start of a block, or, negative, from its end, since block sizes differ.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FitError, FormatError

BOOT = np.dtype([("dos_type", "V4"), ("checksum", ">u4"), ("root_block", ">u4"), ("boot_code", "V500")])
BLOCK_SIZES = (512, 1024, 2048, 4096)
RESERVED = 2                            # blocks in front of the first one that the bitmap covers
T_HEADER, T_LIST, T_DATA, T_CACHE, T_COMMENT = 2, 16, 8, 33, 64
ST_ROOT, ST_FOLDER, ST_SOFT_LINK, ST_FOLDER_LINK, ST_FILE, ST_FILE_LINK = 1, 2, 3, 4, -3, -4
# longs from the start of a block
TYPE, OWN_KEY, HIGH_SEQ, DATA_SIZE, FIRST_DATA, CHECKSUM, TABLE = 0, 1, 2, 3, 4, 5, 6
TABLE_TAIL = 50                         # longs behind the table of hash slots or data blocks
# longs from the end of a block
BM_FLAG, BM_PAGES, BM_EXT = -50, -49, -24
OWNER, PROTECT, BYTE_SIZE, COMMENT = -49, -48, -47, -46
DAYS, MINUTES, TICKS = -23, -22, -21
NAME, REAL_ENTRY, NEXT_LINK, HASH_CHAIN, PARENT, EXTENSION, SEC_TYPE = -20, -11, -10, -4, -3, -2, -1
ROOT_ALTERED, ROOT_CREATED = -10, -7    # three longs each
BM_PAGES_IN_ROOT = 25
PROTECTION, DENIED = "hsparwed", 0x0F   # letters from bit 7 on; of the last four a set bit denies
MAX_NAME, MAX_LONG_NAME, MAX_COMMENT = 30, 107, 79
INTERNATIONAL_FROM, CACHED, LONG_NAMES_FROM, LAST_TYPE = 2, (4, 5), 6, 7    # last byte of a DosType
SEARCHED = 1 << 20                      # bytes in front of the middle in which a root is looked for
BOOT_BYTES = 1024                       # of the boot block: its code stands in two sectors whatever the block size
OFS_HEADER = 24                         # bytes of a data block that are not data
EPOCH = 252460800                       # 1 January 1978
TICKS_A_SECOND = 50
Longs = NDArray[np.uint32]


def root_dtype(block: int) -> np.dtype[np.void]:
    """The fields of a root block of `block` bytes, by name."""
    end = block // 4
    fields = [("type", ">u4", TYPE), ("own_key", ">u4", OWN_KEY), ("high_seq", ">u4", HIGH_SEQ),
              ("table_size", ">u4", DATA_SIZE), ("first_data", ">u4", FIRST_DATA), ("checksum", ">u4", CHECKSUM),
              ("hash_table", f"V{4 * (end - TABLE - TABLE_TAIL)}", TABLE), ("bitmap_flag", ">u4", BM_FLAG),
              ("bitmap_pages", (">u4", (BM_PAGES_IN_ROOT,)), BM_PAGES), ("bitmap_extension", ">u4", BM_EXT),
              ("root_altered_days", ">u4", DAYS), ("root_altered_minutes", ">u4", MINUTES),
              ("root_altered_ticks", ">u4", TICKS), ("name", "V32", NAME), ("disk_altered_days", ">u4", ROOT_ALTERED),
              ("disk_altered_minutes", ">u4", ROOT_ALTERED + 1), ("disk_altered_ticks", ">u4", ROOT_ALTERED + 2),
              ("disk_made_days", ">u4", ROOT_CREATED), ("disk_made_minutes", ">u4", ROOT_CREATED + 1),
              ("disk_made_ticks", ">u4", ROOT_CREATED + 2), ("hash_chain", ">u4", HASH_CHAIN),
              ("parent", ">u4", PARENT), ("extension", ">u4", EXTENSION), ("secondary_type", ">i4", SEC_TYPE)]
    names, formats, places = zip(*fields, strict=True)
    return np.dtype({"names": names, "formats": formats, "itemsize": block,
                     "offsets": [4 * (p if p >= 0 else end + p) for p in places]})


def longs_of(data: bytes | bytearray) -> Longs:
    """A block as longs, to be changed."""
    return np.frombuffer(bytearray(data), ">u4")


def signed(value: int) -> int:
    """A long as a signed number."""
    return value - 2**32 if value >= 2**31 else value


def sum_of(longs: Longs) -> int:
    """What the longs of a block sum to: zero for a sound one."""
    return int(longs.sum(dtype=np.uint64)) & 0xFFFFFFFF


def seal(longs: Longs, place: int = CHECKSUM) -> bytes:
    """Set the checksum so that the block sums to zero."""
    longs[place] = 0
    longs[place] = (-sum_of(longs)) & 0xFFFFFFFF
    return longs.tobytes()


def text_at(data: bytes, place: int, limit: int) -> str:
    """A name or comment: its length, then characters; `place` in longs from the end."""
    at = len(data) + 4 * place
    return data[at + 1:at + 1 + min(data[at], limit)].decode("latin-1")


def put_text(longs: Longs, place: int, text: str, room: int) -> None:
    """Write a name or comment into `room` bytes."""
    raw = text.encode("latin-1")
    view = longs.view(np.uint8)
    at = len(view) + 4 * place
    view[at:at + room] = 0
    view[at:at + 1 + len(raw)] = np.frombuffer(bytes((len(raw),)) + raw, np.uint8)


def seconds_of(days: int, minutes: int, ticks: int) -> int:
    """Seconds since 1970."""
    return EPOCH + days * 86400 + min(minutes, 1439) * 60 + min(ticks, 2999) // TICKS_A_SECOND


def stamp_of(seconds: int | None) -> tuple[int, int, int]:
    """(days, minutes, ticks); what lies before 1978 becomes its first day."""
    rest = max(0, (int(time.time()) if seconds is None else seconds) - EPOCH)
    days, rest = divmod(rest, 86400)
    return days, rest // 60, rest % 60 * TICKS_A_SECOND


def id_of(stamp: Iterable[int]) -> str:
    """The moment of a volume's creation, by which it is told apart."""
    days, minutes, ticks = stamp
    return f"{days:08X}-{minutes:04X}-{ticks:04X}"


def stamp_in(id: str) -> tuple[int, int, int] | None:
    """(days, minutes, ticks) in an id; None where it is none of these volumes'."""
    found = re.fullmatch(r"([0-9A-F]{8})-([0-9A-F]{4})-([0-9A-F]{4})", id)
    return (int(found[1], 16), int(found[2], 16), int(found[3], 16)) if found else None


def upper(name: str, *, international: bool) -> str:
    """The name as hashing and comparing see it."""
    if international:
        return "".join(chr(ord(c) - 32) if "a" <= c <= "z" or ("à" <= c <= "þ" and c != "÷") else c for c in name)
    return "".join(chr(ord(c) - 32) if "a" <= c <= "z" else c for c in name)


def hash_of(name: str, slots: int, *, international: bool) -> int:
    """The slot of a folder's table that leads to a name."""
    value = len(name)
    for byte in upper(name, international=international).encode("latin-1", "replace"):
        value = (value * 13 + byte) & 0x7FF
    return value % slots


def protection_text(bits: int) -> str:
    """Protection bits as eight letters: those that are there are allowed or set, a hyphen is not."""
    shown = bits ^ DENIED                               # read, write, execute, delete are denied by a bit
    return "".join(letter if shown >> (7 - k) & 1 else "-" for k, letter in enumerate(PROTECTION))


def protection_of(text: str, old: int = 0) -> int:
    """Bits for letters such as "rwed" or "----rw-d"; higher bits than these eight stay. Raises FitError."""
    letters = set(text.lower()) - {"-", " "}
    if letters - set(PROTECTION):
        raise FitError(f"“{text}” are no protection bits: letters of {PROTECTION} that are set, such as ----rwed.")
    shown = sum(1 << (7 - k) for k, letter in enumerate(PROTECTION) if letter in letters)
    return old & ~0xFF | shown ^ DENIED


def why_not(name: str, most: int = MAX_NAME) -> str:
    """Why a name cannot stand on such a volume, whose names have `most` characters; "" when it can."""
    if not name or "/" in name or ":" in name or "\0" in name:
        return "it is empty, or holds a slash or a colon"
    try:
        raw = name.encode("latin-1")
    except UnicodeEncodeError:
        return "it holds characters that are not in Latin-1"
    return "" if len(raw) <= most else f"it is longer than {most} characters"


def root_place(total: int) -> int:
    """The block of the root: the middle of the volume."""
    return (RESERVED + total - 1) // 2


@dataclass(frozen=True)
class Geometry:
    """Bytes of a block, blocks of the volume, and the block of the root."""

    block: int
    total: int
    root: int


def find_geometry(read: Callable[[int, int], bytes], size: int) -> Geometry:
    """Block size and length of a volume, from where its root stands. Raises FormatError where none is found.

    A file around a bare volume may be longer than the whole cylinders that the volume counts with: then
    the root stands somewhat before the middle of the file.

    Args:
        read: `read(offset, length)` gives bytes of the volume.
        size: bytes of the partition or file.
    """
    blocks = [block for block in BLOCK_SIZES if size // block >= 8]
    for block in blocks:
        root = root_place(size // block)
        if _is_root(longs_of(read(root * block, block))):
            return Geometry(block, size // block, root)
    for block in blocks:
        middle = root_place(size // block)
        first = max(RESERVED, middle - SEARCHED // block)
        rows = longs_of(read(first * block, (middle - first) * block)).reshape(-1, block // 4)
        marked = np.flatnonzero((rows[:, TYPE] == T_HEADER) & (rows[:, SEC_TYPE] == ST_ROOT))
        root = next((first + row for row in marked[::-1].tolist() if _is_root(rows[row])), 0)
        if root:
            return Geometry(block, 2 * root, root)
    raise FormatError("OFS/FFS root block", "type", root_place(size // 512) * 512, "no root block",
                      "one in the middle of the volume")


def _is_root(longs: Longs) -> bool:
    return bool(longs[TYPE] == T_HEADER and longs[SEC_TYPE] == ST_ROOT and sum_of(longs) == 0)
