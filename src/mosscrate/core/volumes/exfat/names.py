"""Names, up-case tables and times of exFAT.

Source: "exFAT file system specification" 1.00, §7.2 (up-case table), §7.4 (times), §7.7 (names).
"""

from __future__ import annotations

import calendar
import time
from functools import cache

import numpy as np

from mosscrate.core.volumes.exfat.structures import MAX_NAME

_FORBIDDEN = frozenset('"*/:<>?\\|') | {chr(c) for c in range(32)}
_IDENTITY_RUN = 0xFFFF
UpCase = dict[int, int]


def why_not(name: str) -> str:
    """Why a name cannot stand on an exFAT volume; "" when it can."""
    if not name or name in (".", ".."):
        return "it is empty or a dot"
    if not _FORBIDDEN.isdisjoint(name):
        return "it holds one of \" * / : < > ? \\ |"
    return "" if len(name.encode("utf-16-le", "surrogatepass")) <= 2 * MAX_NAME else "it is longer than 255 characters"


def name_hash(folded: str) -> int:
    """§7.6.4: of a name in upper case."""
    total = 0
    for byte in folded.encode("utf-16-le", "surrogatepass"):
        total = ((total >> 1) | (total & 1) << 15) + byte & 0xFFFF
    return total


def table_checksum(data: bytes) -> int:
    """§7.2.2: of an up-case table."""
    total = 0
    for byte in data:
        total = ((total >> 1) | (total & 1) << 31) + byte & 0xFFFFFFFF
    return total


def read_table(data: bytes) -> UpCase:
    """{character: upper case} of a compressed table, characters that stay left out."""
    units = np.frombuffer(data[:len(data) // 2 * 2], "<u2").tolist()
    found: UpCase = {}
    character = at = 0
    while at < len(units) and character < 0x10000:
        if units[at] == _IDENTITY_RUN and at + 1 < len(units):
            character, at = character + units[at + 1], at + 2
            continue
        if units[at] != character:
            found[character] = units[at]
        character, at = character + 1, at + 1
    return found


@cache
def fresh_table() -> bytes:
    """A compressed table for new volumes: one-to-one pairs of the Unicode standard."""
    mapping = [_upper(c) for c in range(0x10000)]
    out: list[int] = []
    character = 0
    while character < 0x10000:
        run = character
        while run < 0x10000 and mapping[run] == run:
            run += 1
        if run - character > 2:
            length = min(run - character, 0xFFFF)
            out += [_IDENTITY_RUN, length]
            character += length
        else:
            out.append(mapping[character])
            character += 1
    return np.array(out, "<u2").tobytes()


def _upper(character: int) -> int:
    upper = chr(character).upper()
    if len(upper) == 1 and ord(upper) < 0x10000 and upper.lower() == chr(character):
        return ord(upper)
    return character


@cache
def timestamp(stamp: int, tens: int, offset: int) -> int | None:
    """Seconds since 1970; None for an impossible date. A missing zone counts as UTC."""
    year, month, day = 1980 + (stamp >> 25), stamp >> 21 & 15, stamp >> 16 & 31
    if not (1 <= month <= 12 and 1 <= day <= 31):
        return None
    hour, minute, second = min(stamp >> 11 & 31, 23), min(stamp >> 5 & 63, 59), min((stamp & 31) * 2, 59)
    seconds = calendar.timegm((year, month, day, hour, minute, second)) + (1 if tens >= 100 else 0)
    if offset & 0x80:
        quarters = (offset & 0x7F) - (128 if offset & 0x40 else 0)
        seconds -= quarters * 900
    return seconds


def stamp_of(seconds: int | None) -> tuple[int, int]:
    """(timestamp, tens of milliseconds) in UTC; clamped to 1980 to 2107."""
    lowest, highest = 315532800, 4354819199
    moment = min(max(lowest if seconds is None else seconds, lowest), highest)
    t = time.gmtime(moment)
    date = (t.tm_year - 1980) << 9 | t.tm_mon << 5 | t.tm_mday
    return date << 16 | t.tm_hour << 11 | t.tm_min << 5 | t.tm_sec // 2, 100 * (t.tm_sec % 2)
